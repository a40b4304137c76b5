"""How the register and the plan that a job file keeps grow with its journal, in the transaction that writes it."""

from collections.abc import Iterable, Sequence
from datetime import UTC
from itertools import islice
from typing import Any

from sqlalchemy import (
    Connection,
    FromClause,
    Insert,
    Table,
    bindparam,
    delete,
    func,
    insert,
    select,
    update,
)
from sqlalchemy.dialects.sqlite import insert as upsert

from askport.core.addresses import MacAddress
from askport.core.plan.planned_device import PlannedDevice
from askport.core.plan.site_plan import Plan, Subnet
from askport.core.register import as_planned, chain, entries, fold
from askport.core.register.in_order import in_order
from askport.core.register.searching import brief, haystack
from askport.core.register.visits import Row
from askport.edges.crew.growing_together import anew, of_plan
from askport.edges.job_tables import (
    CONFLICTS,
    DEVICES,
    FORM,
    GROWN,
    MACS,
    PLANNED,
    SEARCH,
    SUBNETS,
    VISITS,
    create_register,
)
from askport.edges.naming import name, name_differences, name_odd_times

_AT_ONCE = 20_000
"""Lines that are taken before rows are written down, where the register is made anew."""
_PUT: dict[FromClause, Insert] = {
    each: insert(each).prefix_with("OR REPLACE") for each in (DEVICES, SEARCH, MACS, VISITS)
}
_OF_MAC = select(DEVICES.c.row).where(DEVICES.c.id == MACS.c.device, MACS.c.mac == bindparam("mac"))
_OF_UNIT = select(DEVICES.c.row).where(DEVICES.c.id == VISITS.c.device, VISITS.c.unit == bindparam("unit"))
_TAGGED = select(DEVICES.c.row).where(DEVICES.c.tag.in_(bindparam("tags", expanding=True)))
_PLANNED_AS = select(PLANNED.c.body).where(PLANNED.c.tag.in_(bindparam("tags", expanding=True)))
_NAMED_AT_ONCE = 500
_GREW = update(GROWN).values(count=bindparam("count_"), hash=bindparam("hash_"))


class _Changed:
    """What becomes of lines of the plan, by their keys."""

    def __init__(self) -> None:
        self.now: dict[str, str] = {}
        self.gone: set[str] = set()

    def take(self, key: str, value: Subnet | PlannedDevice | None) -> None:
        if value is None:
            self.now.pop(key, None)
            self.gone.add(key)
        else:
            self.now[key] = value.model_dump_json()


class Stored:
    """The rows as they are stored, for the register to grow on."""

    def __init__(self, connection: Connection) -> None:
        self._connection = connection

    def by_mac(self, mac: MacAddress) -> Row | None:
        """Return the device that has a MAC address, or None."""
        return _row(self._connection.execute(_OF_MAC, {"mac": str(mac)}).scalar())

    def by_unit(self, unit: int) -> Row | None:
        """Return the device that came through the job under a number, or None."""
        return _row(self._connection.execute(_OF_UNIT, {"unit": unit}).scalar())

    def last_id(self) -> int:
        """Return the greatest id of a device."""
        return self._connection.execute(select(func.max(DEVICES.c.id))).scalar() or 0


def _row(body: str | None) -> Row | None:
    return Row.model_validate_json(body) if body else None


def is_behind(connection: Connection, count: int, hash_: str) -> bool:
    """Whether it does not stand for the journal as it is, or has another form."""
    if not connection.dialect.has_table(connection, GROWN.name):
        return True
    return connection.execute(select(GROWN)).all() != [(FORM, count, hash_)]


def make_anew(connection: Connection, lines: Iterable[chain.Line], *, own: str | None = None) -> None:
    """Make it of a whole journal; of a crew's, in an order that is the same in each of its files."""
    create_register(connection)
    connection.execute(insert(GROWN).values(form=FORM, count=0, hash=""))
    register, every = fold.Register(own=own), iter(lines)
    last: chain.Line | None = None
    while held := list(islice(every, _AT_ONCE if own is None else None)):
        last = held[-1]
        name_odd_times(connection, held, own or "")
        _take(connection, held if own is None else in_order(held, own), register)
        if own is not None:
            _write(connection, register)
            name_differences(connection, register.touched.values(), held, own)
    if own is None:
        _write(connection, register)
    if last:
        connection.execute(_GREW, {"count_": last.number, "hash_": last.hash})


def grow(connection: Connection, lines: Sequence[chain.Line], *, own: str | None = None) -> None:
    """Take lines that were just written; in a crew's file with all that others know of the same devices."""
    if own is not None:
        register = anew(connection, lines, Stored(connection), _take, own)
    else:
        register = fold.Register(Stored(connection))
        _take(connection, lines, register)
    _write(connection, register)
    name_odd_times(connection, lines, own or "")
    if own is not None:
        plan = of_plan(connection, [line.entry for line in lines])
        name_differences(connection, register.touched.values(), plan, own)
    connection.execute(_GREW, {"count_": lines[-1].number, "hash_": lines[-1].hash})


def _take(connection: Connection, lines: Sequence[chain.Line], register: fold.Register) -> None:
    subnets, planned = _Changed(), _Changed()
    for line in lines:
        entry = line.entry
        match entry:
            case entries.SubnetPlanned():
                subnets.take(str(entry.subnet.network), None if entry.removed else entry.subnet)
            case entries.DevicePlanned():
                planned.take(entry.device.tag, None if entry.removed else entry.device)
            case entries.Joined():
                name(connection, entry.conflicts)
            case entries.Settled():
                settled = upsert(CONFLICTS).values(sentence=entry.conflict, settled=entry.words)
                same = {"settled": entry.words}
                connection.execute(settled.on_conflict_do_update(index_elements=["sentence"], set_=same))
            case _:
                register.take(line)
    _plan(connection, SUBNETS, "network", subnets)
    _plan(connection, PLANNED, "tag", planned)
    # What a subnet says counts for each of its devices.
    every = connection.execute(select(PLANNED.c.tag)).scalars() if subnets.now or subnets.gone else ()
    _tell_plan(connection, register, dict.fromkeys((*planned.gone, *planned.now, *every)))


def _plan(connection: Connection, kept: Table, key: str, changed: "_Changed") -> None:
    if changed.gone:
        connection.execute(
            delete(kept).where(kept.c[key] == bindparam("gone")), [{"gone": each} for each in changed.gone]
        )
    if changed.now:
        place = connection.execute(select(func.max(kept.c.place))).scalar() or 0
        rows = [
            {key: each, "place": place + number, "body": body}
            for number, (each, body) in enumerate(changed.now.items(), 1)
        ]
        made = upsert(kept)
        same = {"body": made.excluded.body}
        connection.execute(made.on_conflict_do_update(index_elements=[key], set_=same), rows)


def _tell_plan(connection: Connection, register: fold.Register, planned: Iterable[str]) -> None:
    """Have rows that were written before show what their plan says now."""
    tags = list(planned)
    for first in range(0, len(tags), _NAMED_AT_ONCE):
        for row in connection.execute(_TAGGED, {"tags": tags[first : first + _NAMED_AT_ONCE]}).scalars().all():
            register.see(Row.model_validate_json(row))


def _write(connection: Connection, register: fold.Register) -> None:
    """Write the rows that were touched."""
    if register.gone:
        gone = [{"old": gone} for gone in register.gone]
        for held, device in ((SEARCH, SEARCH.c.rowid), (DEVICES, DEVICES.c.id)):
            connection.execute(delete(held).where(device == bindparam("old")), gone)
    rows = list(register.touched.values())
    if not rows:
        return
    plan = planned_as(connection, {row.tag for row in rows})
    subnets = stored_subnets(connection)
    rows = as_planned.held_against(Plan(subnets=subnets, devices=tuple(plan.values())), rows)
    connection.execute(_PUT[DEVICES], [_columns(row, plan.get(row.tag)) for row in rows])
    connection.execute(_PUT[SEARCH], [{"rowid": row.id, "known": haystack(row, plan.get(row.tag))} for row in rows])
    if register.has_come:
        macs = [{"mac": str(mac), "device": row.id} for row in rows for mac in row.macs]
        visits = [{"unit": visit.unit, "device": row.id} for row in rows for visit in row.visits]
        connection.execute(_PUT[MACS], macs)
        connection.execute(_PUT[VISITS], visits)


def planned_as(connection: Connection, tags: Iterable[str]) -> dict[str, PlannedDevice]:
    """Return the lines of the plan that have these tags."""
    wanted = list(tags)
    found: dict[str, PlannedDevice] = {}
    for first in range(0, len(wanted), _NAMED_AT_ONCE):
        for body in connection.execute(_PLANNED_AS, {"tags": wanted[first : first + _NAMED_AT_ONCE]}).scalars():
            device = PlannedDevice.model_validate_json(body)
            found[device.tag] = device
    return found


def differs(connection: Connection, rows: Sequence[Row], plan: Plan, *, ordered: bool) -> str:
    """Say what is not what a whole journal adds up to; an empty text where everything is."""
    planned = plan.by_tag
    kept = {each["id"]: dict(each) for each in connection.execute(select(DEVICES)).mappings()}
    known, macs, units = (pairs(connection.execute(select(each))) for each in (SEARCH, MACS, VISITS))
    for row in rows:
        same = kept.pop(row.id, None) == _columns(row, planned.get(row.tag))
        same &= known.pop(row.id, None) == haystack(row, planned.get(row.tag))
        same &= all(macs.pop(str(mac), None) == row.id for mac in row.macs)
        same &= all(units.get(visit.unit) for visit in row.visits)
        if not same:
            return f"what of {row.tag or row.mac} is"
    if kept or known or macs:
        return "a device that is"
    stored = stored_plan(connection, plan.name)
    if not ordered:
        stored, plan = in_any_order(stored), in_any_order(plan)
    return "" if stored == plan else "the plan that is"


def in_any_order(plan: Plan) -> Plan:
    """Return a plan with its lines by their names."""
    devices = tuple(sorted(plan.devices, key=lambda each: each.tag))
    return Plan(name=plan.name, subnets=tuple(sorted(plan.subnets, key=lambda each: each.network)), devices=devices)


def stored_plan(connection: Connection, name: str) -> Plan:
    """Return the plan, under a name."""
    devices = connection.execute(select(PLANNED.c.body).order_by(PLANNED.c.place)).scalars()
    return Plan(
        name=name,
        subnets=stored_subnets(connection),
        devices=tuple(PlannedDevice.model_validate_json(each) for each in devices),
    )


def stored_subnets(connection: Connection) -> tuple[Subnet, ...]:
    """Return the subnets of the plan."""
    subnets = connection.execute(select(SUBNETS.c.body).order_by(SUBNETS.c.place)).scalars()
    return tuple(Subnet.model_validate_json(each) for each in subnets)


def pairs(found: Iterable[Any]) -> dict[Any, Any]:
    """Return rows of two columns by the first."""
    return {key: value for key, value in found}  # noqa: C416 - rows of a result are no pairs to the type checker


def _columns(row: Row, planned: PlannedDevice | None) -> dict[str, object]:
    short = brief(row, planned)
    at = short.recorded_at.astimezone(UTC).isoformat(timespec="microseconds") if short.recorded_at else None
    found = row.first.found_address
    return {
        "id": row.id, "tag": row.tag, "state": short.state, "as_left": short.as_left,
        "left": int(row.left) if row.left else None, "as_found": short.as_found,
        "found": int(found) if found else None, "maker": short.maker, "mac": short.mac, "kind": short.kind,
        "place": short.place, "recorded_at": at, "has_open_points": short.has_open_points,
        "row": row.model_dump_json(),
    }  # fmt: skip
