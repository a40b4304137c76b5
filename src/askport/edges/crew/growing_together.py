"""How a register grows where several members write: the same in each file, in whatever order their lines arrive.

What is known of a device is taken anew from all lines about it, in their order, whenever more than one member wrote of
it; a line of the plan stands as whoever changed it last left it. So a file that hears of a visit late says the
same as one that heard of it at once.
"""

from collections.abc import Callable, Iterable, Sequence
from typing import Any

from sqlalchemy import ColumnElement, Connection, func, literal_column, select

from askport.core.addresses import MacAddress
from askport.core.register import fold, visits
from askport.core.register.chain import Line
from askport.core.register.entries import DevicePlanned, Entry, SubnetPlanned
from askport.core.register.in_order import in_order, newest
from askport.edges.job_tables import JOURNAL

UNIT = func.json_extract(JOURNAL.c.body, literal_column("'$.unit'"))
"""Which way through the job a line is about; an index of a crew's file has it."""
INDEXES = (
    "CREATE INDEX IF NOT EXISTS lines_by_hash ON journal (hash)",
    "CREATE INDEX IF NOT EXISTS lines_by_unit ON journal (json_extract(body, '$.unit'))",
    "CREATE INDEX IF NOT EXISTS lines_by_tag ON journal (json_extract(body, '$.device.tag'))",
    "CREATE INDEX IF NOT EXISTS lines_by_network ON journal (json_extract(body, '$.subnet.network'))",
)
_PLANNED = ("$.device.tag", "$.subnet.network")
_AT_ONCE = 400


class _Hiding:
    """The register before, without devices that are taken anew."""

    def __init__(self, earlier: fold.Earlier, hidden: Iterable[int]) -> None:
        self._earlier, self._hidden = earlier, frozenset(hidden)

    def by_mac(self, mac: MacAddress) -> visits.Row | None:
        """Return the device that has a MAC address, or None."""
        return self._seen(self._earlier.by_mac(mac))

    def by_unit(self, unit: int) -> visits.Row | None:
        """Return the device that came through the job under a number, or None."""
        return self._seen(self._earlier.by_unit(unit))

    def _seen(self, row: visits.Row | None) -> visits.Row | None:
        return None if row is None or row.id in self._hidden else row

    def last_id(self) -> int:
        """Return the greatest id of a device."""
        return self._earlier.last_id()


Take = Callable[[Connection, Sequence[Line], fold.Register], None]


def anew(connection: Connection, lines: Sequence[Line], earlier: fold.Earlier, take: Take, own: str) -> fold.Register:
    """Return the register grown by lines that were just written, of one member or of several.

    Args:
        take: takes lines in their order.
    """
    entries = [line.entry for line in lines]
    units = {entry.unit for entry in entries if entry.unit}
    macs = {mac for entry in entries for mac in (getattr(entry, "mac", None), getattr(entry, "other", None)) if mac}
    known = [*map(earlier.by_mac, macs), *map(earlier.by_unit, units)]
    rows = {row.id: row for row in known if row}
    members = {"" if line.member in (None, own) else line.member for line in lines} | {
        visit.member for row in rows.values() for visit in row.visits
    }
    plan = of_plan(connection, entries)
    rest = [line for line in lines if not isinstance(line.entry, DevicePlanned | SubnetPlanned)]
    if len(members) < 2 or not rows:
        register = fold.Register(earlier, own=own)
        take(connection, in_order([*plan, *rest], own), register)
        return register
    units |= {visit.unit for row in rows.values() for visit in row.visits}
    about = _lines(connection, UNIT, units)
    loose = [line for line in rest if not line.entry.unit]
    ids = {mac: row.id for row in rows.values() for mac in row.macs}
    register = fold.Register(_Hiding(earlier, rows), ids, own)
    take(connection, in_order([*plan, *loose, *about], own), register)
    register.gone |= rows.keys() - register.touched.keys()
    register.has_come = True
    return register


def of_plan(connection: Connection, entries: Iterable[Entry]) -> list[Line]:
    """Return all lines of those rows of the plan that entries change."""
    every = list(entries)
    tags = {entry.device.tag for entry in every if isinstance(entry, DevicePlanned)}
    networks = {str(entry.subnet.network) for entry in every if isinstance(entry, SubnetPlanned)}
    devices, subnets = (func.json_extract(JOURNAL.c.body, literal_column(f"'{path}'")) for path in _PLANNED)
    return [*_lines(connection, devices, tags), *_lines(connection, subnets, networks)]


def made_upon(connection: Connection, entry: Entry, earlier: fold.Earlier, own: str) -> Entry:
    """Return an entry that names what it is written upon, where that is not its own visit."""
    if isinstance(entry, DevicePlanned | SubnetPlanned):
        lines = of_plan(connection, [entry])
    else:
        mac = getattr(entry, "mac", None)
        row = (earlier.by_mac(mac) if mac else None) or earlier.by_unit(entry.unit)
        begun = row and next((each for each in row.visits if each.unit == entry.unit), None)
        if row is None or (begun and begun.member in ("", own)):
            return entry
        lines = _lines(connection, UNIT, [each.unit for each in row.visits])
    return entry.model_copy(update={"upon": tuple(line.hash for line in newest(lines, own))})


def _lines(connection: Connection, key: ColumnElement[Any], wanted: Iterable[object]) -> list[Line]:
    found = list[Line]()
    every = list(wanted)
    for first in range(0, len(every), _AT_ONCE):
        rows = connection.execute(select(JOURNAL).where(key.in_(every[first : first + _AT_ONCE]))).mappings()
        found += [Line.model_validate(dict(row)) for row in rows]
    return found
