"""The register: what the journal adds up to, grown entry by entry."""

from collections.abc import Iterable, Mapping
from datetime import datetime
from ipaddress import IPv4Address
from typing import Protocol

from askport.core.addresses import MacAddress
from askport.core.phrases import phrase
from askport.core.register import chain, entries
from askport.core.register.as_left import AsLeft, Basis, Value
from askport.core.register.visits import Note, ProofRow, Row, Visit


class Earlier(Protocol):
    """The register before the entries that are taken now."""

    def by_mac(self, mac: MacAddress) -> Row | None:
        """Return the device that has a MAC address, or None."""

    def by_unit(self, unit: int) -> Row | None:
        """Return the device that came through the job under a number, or None."""

    def last_id(self) -> int:
        """Return the greatest id of a device."""


class Nothing:
    """A register that begins."""

    def by_mac(self, mac: MacAddress) -> Row | None:
        """Return that there is none."""

    def by_unit(self, unit: int) -> Row | None:
        """Return that there is none."""

    def last_id(self) -> int:
        """Return that there is none."""
        return 0


class Register:
    """Takes entries one after the other, and holds the rows that they touched.

    A device that comes through the job again keeps its tag and all its visits; it is renamed by a name only.
    """

    def __init__(
        self, earlier: Earlier | None = None, ids: Mapping[MacAddress, int] | None = None, own: str | None = None
    ) -> None:
        """Begin.

        Args:
            earlier: the register before the entries that are taken now.
            ids: ids that devices had, where all that is known of them is taken anew.
            own: in a crew, what the member is called whose file this is: its own visits are nobody else's.
        """
        self._earlier, self._ids, self._own = earlier or Nothing(), ids or {}, own
        self._by_mac: dict[MacAddress, Row] = {}
        self._by_unit: dict[int, Row] = {}
        self._last_id: int | None = None
        self._units: dict[str, int] = {}
        """Of what unit a line was, by its hash."""
        self.touched: dict[int, Row] = {}
        """By their ids, as they are now."""
        self.has_come = False
        """Whether a device came, or a MAC address was said to be one's."""
        self.gone: set[int] = set()
        """Ids of rows that became part of another."""

    def take(self, line: chain.Line) -> None:
        """Take one line, of a member of a crew where there is one; what says nothing of a device changes nothing."""
        entry = line.entry
        self._units[line.hash] = entry.unit
        match entry:
            case entries.Found():
                self.has_come = True
                self._found(entry, line.at, line.member)
            case entries.Kept():
                if row := self._with_unit(entry.unit):
                    for visit in row.visits:
                        visit.frames = entry.sha256 if visit.unit == entry.unit else visit.frames
            case entries.Borrowed():
                if row := self._with_unit(entry.unit):
                    for visit in row.visits:
                        if visit.unit == entry.unit and entry.interface not in visit.borrowed:
                            visit.borrowed = [*visit.borrowed, entry.interface]
            case entries.SameDevice():
                self.has_come = True
                self._same(entry)
            case (
                entries.Identified()
                | entries.ReadOut()
                | entries.Named()
                | entries.WasSet()
                | entries.ToldToKeep()
                | entries.Proved()
                | entries.PowerCut()
                | entries.Left()
                | entries.Recorded()
                | entries.Noted()
                | entries.Reopened()
            ):
                if row := self._with_mac(entry.mac):
                    # Two members may have had it at the same time: each entry is about its own visit.
                    visit = next((each for each in reversed(row.visits) if each.unit == entry.unit), row.visits[-1])
                    _take(row, visit, entry, line.at)

    def see(self, row: Row) -> None:
        """Touch a row of the earlier register, unless it was touched already."""
        if row.id not in self.touched and row.id not in self.gone:
            self._hold(row)

    def _hold(self, row: Row) -> None:
        self.touched[row.id] = row
        self._by_mac |= dict.fromkeys(row.macs, row)
        self._by_unit |= {visit.unit: row for visit in row.visits}

    def _with_mac(self, mac: MacAddress) -> Row | None:
        row = self._by_mac.get(mac)
        if row is None and (row := self._earlier.by_mac(mac)):
            self._hold(row)
        return row

    def _with_unit(self, unit: int) -> Row | None:
        row = self._by_unit.get(unit)
        if row is None and (row := self._earlier.by_unit(unit)):
            self._hold(row)
        return row

    def _next_id(self, mac: MacAddress) -> int:
        had = self._ids.get(mac)
        if had is not None and had not in self.touched and had not in self.gone:
            return had
        self._last_id = (self._earlier.last_id() if self._last_id is None else self._last_id) + 1
        return self._last_id

    def _found(self, entry: entries.Found, at: datetime, member: str | None) -> None:
        row = self._with_mac(entry.mac)
        if row is None:
            row = Row(id=self._next_id(entry.mac), tag=entry.tag, macs=[entry.mac], maker=entry.maker, visits=[])
        if any(each.unit == entry.unit for each in row.visits):
            return  # chosen again in the same visit: as found is what it was the first time
        row.macs.sort(key=lambda each: each == entry.mac)
        visit = Visit(
            unit=entry.unit, found_at=at, found_address=entry.address, found_prefix=entry.prefix,
            found_gateway=entry.gateway, found_asking=entry.asks_by, found_belief=entry.belief,
            found_ipv6=entry.ipv6, member="" if member in (None, self._own) else member,
            upon=self._known_to(entry, row),
        )  # fmt: skip
        earlier = row.visits[-1] if row.visits else None
        if earlier and earlier.is_unfinished and entry.address == earlier.as_left.address.value:
            # It was set, and the program was left before it was recorded: it is still the same piece of work.
            visit.way, visit.result, visit.set_at = earlier.way, earlier.result, earlier.set_at
            visit.as_left, visit.key = earlier.as_left, earlier.key
        row.visits.append(visit)
        self._hold(row)

    def _known_to(self, entry: entries.Found, row: Row) -> tuple[int, ...]:
        """Return the units of the visits that whoever found it knew of."""
        known = {self._units[each] for each in entry.upon if each in self._units}
        return tuple(sorted(known.union(*(each.upon for each in row.visits if each.unit in known))))

    def _same(self, entry: entries.SameDevice) -> None:
        row, other = self._with_mac(entry.mac), self._with_mac(entry.other)
        if row is None or row is other:
            return
        if other is None:
            row.macs.insert(0, entry.other)
        else:
            first, second = sorted((row, other), key=lambda each: each.id)
            visits = sorted((*first.visits, *second.visits), key=lambda each: each.found_at)
            first.visits, first.tag = visits, row.tag
            first.macs = [*(mac for mac in (*second.macs, *first.macs) if mac != entry.mac), entry.mac]
            first.notes = sorted((*first.notes, *second.notes), key=lambda each: each.at)
            self.gone.add(second.id)
            self.touched.pop(second.id, None)
            row = first
        self._hold(row)


def fold(lines: Iterable[chain.Line], own: str | None = None) -> list[Row]:
    """Return the register after these lines, in the order in which devices were first found.

    Args:
        lines: the journal; of a crew's file in the order of time.
    """
    register = Register(own=own)
    for line in lines:
        register.take(line)
    return [register.touched[each] for each in sorted(register.touched)]


def _take(row: Row, visit: Visit, entry: entries.Entry, at: datetime) -> None:
    match entry:
        case entries.Identified():
            visit.identities = entry.by
        case entries.ReadOut():
            visit.found_said = entry
        case entries.Named():
            row.tag = entry.tag
        case entries.WasSet():
            visit.way, visit.result, visit.proofs, visit.recorded_at = entry.way, entry.result, {}, None
            visit.reopened = False
            visit.key, visit.permanent = entry.key or visit.key, entry.permanent
            visit.slips += entry.result == "sent"
            if entry.result == "taken":
                visit.set_at = at
                visit.as_left = as_told(entry)
        case entries.ToldToKeep():
            visit.permanent = True
        case entries.Proved():
            kept = entry.model_dump(include={"name", "expected", "measured", "passed", "because", "after_cut"})
            earlier = visit.proofs.get(entry.name) if entry.after_cut else None
            before = (earlier.before if earlier.after_cut else earlier.passed) if earlier else None
            visit.proofs = {**visit.proofs, entry.name: ProofRow(**kept, at=at, before=before)}
        case entries.PowerCut():
            visit.cut = entry
        case entries.Left():
            visit.as_left = visit.as_left.then(entry.as_left)
        case entries.Recorded():
            visit.recorded_at, visit.left_out, visit.left_ipv6 = at, entry.left_out, entry.ipv6
            visit.reopened = False
        case entries.Reopened():
            # What was shown before does not count either: only proofs that are made from now on do.
            last = row.last
            last.recorded_at, last.reopened, last.proofs, last.cut, last.left_out = None, True, {}, None, ()
            row.notes.append(Note(at=at, text=phrase("To be redone: {because}", because=entry.because)))
        case entries.Noted():
            row.notes.append(Note(at=at, text=entry.text, photo=entry.photo))


def as_told(entry: entries.WasSet) -> AsLeft:
    """Return what a way left: the address was shown, the rest it gave, or it was to be typed.

    Of what a way did not write nothing is known.
    """
    basis = Basis.GIVEN if entry.gives else Basis.TOLD
    wrote = ("mask", "gateway", "dns") if entry.wrote is None else entry.wrote
    prefix = Value(value=entry.interface.network.prefixlen, basis=basis) if "mask" in wrote else Value[int]()
    return AsLeft(
        address=Value(value=entry.interface.ip, basis=Basis.HEARD),
        prefix=prefix,
        gateway=Value(value=entry.gateway, basis=basis) if "gateway" in wrote else Value[IPv4Address](),
        dns=Value(value=entry.dns, basis=basis) if "dns" in wrote else Value[tuple[IPv4Address, ...]](),
    )
