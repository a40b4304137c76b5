"""The register and the plan as the job file keeps them: looked up, searched and sorted by SQLite."""

from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from datetime import UTC, datetime, timedelta
from ipaddress import IPv4Address
from typing import Any, TypeVar

from sqlalchemy import ColumnElement, Connection, Engine, RowMapping, and_, func, or_, select, true
from sqlalchemy.exc import SQLAlchemyError

from askport.core.addresses import MacAddress
from askport.core.crew.seals import Member
from askport.core.errors import AskPortError
from askport.core.plan import planned_device, site_plan
from askport.core.register import searching, visits
from askport.core.survey.against_plan import Standing
from askport.edges.crew.job_part import stranger_words, strangers_in
from askport.edges.growing import Stored, differs, pairs, planned_as, stored_plan
from askport.edges.job_tables import CONFLICTS, DEVICES, DOUBTS, SEARCH

_T = TypeVar("_T")
_SHORTEST_TRIGRAM = 3
"""Characters: shorter words are looked for without the index."""
_ORDERS = {
    searching.Order.FOUND: (DEVICES.c.id,),
    searching.Order.TAG: (DEVICES.c.tag, DEVICES.c.id),
    searching.Order.ADDRESS: (DEVICES.c.left.is_(None), DEVICES.c.left, DEVICES.c.id),
    searching.Order.STATE: (DEVICES.c.state, DEVICES.c.id),
    searching.Order.PLACE: (DEVICES.c.place, DEVICES.c.tag, DEVICES.c.id),
    searching.Order.KIND: (DEVICES.c.kind, DEVICES.c.tag, DEVICES.c.id),
    searching.Order.DAY: (DEVICES.c.recorded_at.is_(None), DEVICES.c.recorded_at, DEVICES.c.id),
}


class Projection:
    """Reads what is kept: never the journal, so that a screen costs the same whatever came before."""

    def __init__(self, engine: Engine, damaged: Callable[[str], AskPortError]) -> None:
        """Read with an engine; ``damaged`` makes what is raised where something cannot be read."""
        self._engine, self._damaged = engine, damaged
        self._looked_up: dict[str, Any] = {}

    def has_grown(self) -> None:
        """Take in that lines were written: what was looked up before is looked up again."""
        self._looked_up = {}

    def _once(self, name: str, look_up: Callable[[Connection], _T]) -> _T:
        """Return what was looked up since the register last grew, for what is drawn many times a second."""
        if name not in self._looked_up:
            with self._reading() as connection:
                self._looked_up[name] = look_up(connection)
        found: _T = self._looked_up[name]
        return found

    @contextmanager
    def _reading(self) -> Iterator[Connection]:
        try:
            with self._engine.connect() as connection:
                yield connection
        except (SQLAlchemyError, ValueError, TypeError):
            raise self._damaged("the register that it keeps cannot be read") from None

    def differs(self, rows: Sequence[visits.Row], plan: site_plan.Plan, *, ordered: bool = True) -> str:
        """Say what is not what a whole journal adds up to; an empty text where everything is.

        Args:
            ordered: whether the plan must have its lines in this order; in a crew each file has them as they came.
        """
        with self._reading() as connection:
            return differs(connection, rows, plan, ordered=ordered)

    def rows(self) -> list[visits.Row]:
        """Return every device with all that is known of it."""
        with self._reading() as connection:
            found = connection.execute(select(DEVICES.c.row).order_by(DEVICES.c.id)).scalars()
            return [visits.Row.model_validate_json(each) for each in found]

    def row(self, id_: int) -> visits.Row:
        """Return one device by its id."""
        return self._one(DEVICES.c.id == id_)[0]

    def by_mac(self, mac: MacAddress) -> visits.Row | None:
        """Return the device that has a MAC address, or None."""
        with self._reading() as connection:
            return Stored(connection).by_mac(mac)

    def by_tag(self, tag: str) -> list[visits.Row]:
        """Return the devices of a tag."""
        return self._one(DEVICES.c.tag == tag)

    def _one(self, where: ColumnElement[bool]) -> list[visits.Row]:
        with self._reading() as connection:
            found = connection.execute(select(DEVICES.c.row).where(where).order_by(DEVICES.c.id)).scalars()
            return [visits.Row.model_validate_json(each) for each in found]

    def plan(self, name: str = "") -> site_plan.Plan:
        """Return the plan, under a name."""
        with self._reading() as connection:
            return stored_plan(connection, name)

    def planned(self, tag: str) -> planned_device.PlannedDevice | None:
        """Return the line of the plan that has a tag, or None."""
        with self._reading() as connection:
            return planned_as(connection, [tag]).get(tag)

    def find(self, wanted: searching.Wanted, most: int = -1, behind: int = 0) -> list[searching.Brief]:
        """Return devices in one line each, at most so many of them, behind so many others."""
        where = _where(wanted)
        found = select(DEVICES).where(where).order_by(*_ORDERS[wanted.order]).limit(most).offset(behind)
        with self._reading() as connection:
            return [_brief(each) for each in connection.execute(found).mappings()]

    def count(self, wanted: searching.Wanted) -> int:
        """Return how many devices are like that."""
        with self._reading() as connection:
            return connection.execute(select(func.count()).select_from(DEVICES).where(_where(wanted))).scalar() or 0

    def states(self) -> dict[str, str]:
        """Return how far devices are, by their tags; those of the plan that were never found are not there."""
        found = select(DEVICES.c.tag, DEVICES.c.state).order_by(DEVICES.c.id)
        return self._once("states", lambda connection: pairs(connection.execute(found)))

    def proven(self) -> tuple[int, int, int]:
        """Return how many devices are proven, how many there are, and how many of the proven have open points."""
        is_proven = DEVICES.c.state == "proven"
        has_open = is_proven & (DEVICES.c.has_open_points == 1)
        counts = select(func.count().filter(is_proven), func.count(), func.count().filter(has_open))
        proven, everyone, open_among = self._once(
            "proven", lambda connection: connection.execute(counts.select_from(DEVICES)).one()
        )
        return proven, everyone, open_among

    def last_id(self) -> int:
        """Return how many devices were ever found."""
        with self._reading() as connection:
            return Stored(connection).last_id()

    def recorded_tags(self) -> set[str]:
        """Return the tags of devices that were recorded."""
        found = select(DEVICES.c.tag).where(DEVICES.c.recorded_at.is_not(None))
        return self._once("recorded", lambda connection: set(connection.execute(found).scalars()))

    def proven_tags(self) -> set[str]:
        """Return the tags of devices that stand as proven."""
        found = select(DEVICES.c.tag).where(DEVICES.c.state == "proven")
        return self._once("proven tags", lambda connection: set(connection.execute(found).scalars()))

    def left(self) -> list[tuple[IPv4Address, MacAddress, str]]:
        """Return the addresses that devices were left with, each with its MAC address and its tag."""
        found = select(DEVICES.c.left, DEVICES.c.mac, DEVICES.c.tag)
        found = found.where(DEVICES.c.left.is_not(None)).order_by(DEVICES.c.id)
        return self._once(
            "left",
            lambda connection: [
                (IPv4Address(left), MacAddress.parse(mac), tag) for left, mac, tag in connection.execute(found)
            ],
        )

    def standings(self) -> dict[str, Standing]:
        """Return what a survey holds the network against, by the devices' tags."""
        found = select(DEVICES.c.tag, DEVICES.c.mac, DEVICES.c.left, DEVICES.c.recorded_at).order_by(DEVICES.c.id)

        def look_up(connection: Connection) -> dict[str, Standing]:
            rows = connection.execute(found).all()
            return {
                tag: Standing(MacAddress.parse(mac), IPv4Address(left) if left and recorded else None)
                for tag, mac, left, recorded in rows
            }

        return self._once("standings", look_up)

    def found_before(self) -> list[tuple[str | None, IPv4Address]]:
        """Return makers and the addresses that devices were found with, the latest last, each pair once."""
        last = func.max(DEVICES.c.id)
        pairs = select(DEVICES.c.maker, DEVICES.c.found).where(DEVICES.c.found.is_not(None))
        with self._reading() as connection:
            found = connection.execute(pairs.group_by(DEVICES.c.maker, DEVICES.c.found).order_by(last)).all()
            return [(maker or None, IPv4Address(address)) for maker, address in found]

    def strangers(self) -> list[Member]:
        """Return members of the crew of whom nobody has said that they are right."""
        return self._once("strangers", strangers_in)

    def open_conflicts(self) -> list[str]:
        """Return what joined journals say differently, or a crew's database has wrong, and nobody has settled."""

        def look_up(connection: Connection) -> list[str]:
            named = dict(connection.execute(select(CONFLICTS.c.sentence, CONFLICTS.c.settled)).tuples().all())
            doubts = (
                connection.execute(select(DOUBTS)).scalars()
                if connection.dialect.has_table(connection, DOUBTS.name)
                else ()
            )
            found = [each for each, settled in (dict.fromkeys(doubts) | named).items() if settled is None]
            return sorted([*found, *map(stranger_words, strangers_in(connection))])

        return self._once("conflicts", look_up)


def _brief(named: RowMapping) -> searching.Brief:
    at = datetime.fromisoformat(named["recorded_at"]) if named["recorded_at"] else None
    texts = {
        name: named[name] for name in ("id", "tag", "state", "as_left", "as_found", "kind", "place", "maker", "mac")
    }
    return searching.Brief(**texts, recorded_at=at, has_open_points=bool(named["has_open_points"]))


def _where(wanted: searching.Wanted) -> ColumnElement[bool]:
    conditions: list[ColumnElement[bool]] = [true()]
    for word in wanted.words:
        if len(word) >= _SHORTEST_TRIGRAM:
            quoted = '"' + word.replace('"', '""') + '"'
            inside = select(SEARCH.c.rowid).where(SEARCH.c.known.op("MATCH")(quoted))
        else:
            inside = select(SEARCH.c.rowid).where(func.instr(SEARCH.c.known, word) > 0)
        conditions.append(DEVICES.c.id.in_(inside))
    for name, value in wanted.named:
        if name == "day":
            conditions.append(_on_day(value))
            continue
        column = func.casefold(DEVICES.c[name])
        conditions.append(or_(column.startswith(value, autoescape=True), column.contains(f" {value}", autoescape=True)))
    return and_(*conditions)


def _on_day(value: str) -> ColumnElement[bool]:
    """Recorded on a day of the laptop's time zone; a month or a year as the record has it (UTC)."""
    try:
        day = datetime.fromisoformat(value).astimezone()
    except ValueError:
        return DEVICES.c.recorded_at.startswith(value, autoescape=True)
    first, after = (each.astimezone(UTC).isoformat(timespec="microseconds") for each in (day, day + timedelta(days=1)))
    return and_(DEVICES.c.recorded_at >= first, DEVICES.c.recorded_at < after)
