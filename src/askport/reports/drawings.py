"""Drawings: the address map of a subnet, the lanes of power cycles, the pace of a job, a device's two addresses."""

from collections import Counter
from collections.abc import Iterable, Sequence
from ipaddress import IPv4Address
from statistics import median

from askport.core.phrases import phrase
from askport.core.plan.address_map import ROW, CellState, MapRow
from askport.core.plan.target import Site
from askport.core.register.visits import Row
from askport.reports.sketch import INK, SOFT, Sketch

_FINE = "#d8dde0"
_OURS, _THEIRS, _CONFLICT = "#b8741a", "#1f8a80", "#c2334d"
_CELL, _LABEL, _TOP = 13, 110, 46
_FILLS = {
    CellState.CONFLICT: _CONFLICT,
    CellState.STRANGER: _CONFLICT,
    CellState.AT_HAND: _OURS,
    CellState.IN_HAND: _OURS,
    CellState.PROVEN: _THEIRS,
    CellState.UNPROVEN: "#8cc7c1",
    CellState.PLANNED: "#ffffff",
    CellState.GATEWAY: INK,
    CellState.SERVER: SOFT,
    CellState.RESERVED: "#eceff0",
    CellState.DEALT: "#f5f7f7",
    CellState.POOL: "#e3e7c8",
    CellState.FREE: "#f7f8f8",
}
_MARKS = {
    CellState.CONFLICT: "×", CellState.STRANGER: "!", CellState.PROVEN: "✓", CellState.UNPROVEN: "–",
    CellState.GATEWAY: "G", CellState.SERVER: "D", CellState.PLANNED: "·",
}  # fmt: skip


def map_sketch(site: Site, rows: Sequence[MapRow]) -> Sketch:
    """Draw the address map of a subnet: a row for 64 addresses, each cell with what is there as its title."""
    there = [state for state in CellState if any(cell.state is state for row in rows for cell in row.cells)]
    height = _TOP + len(rows) * _CELL + 30
    sketch = Sketch(_LABEL + ROW * _CELL + 20, height, f"{site.name}  {site.network}")
    for place, row in enumerate(rows):
        y: float = _TOP + place * _CELL
        sketch.text(12, y + 10, str(row.first), size=9, fill=SOFT)
        if row.skipped:
            sketch.text(
                _LABEL,
                y + 10,
                phrase("and {count} unused addresses not shown", count=row.skipped * ROW),
                size=9,
                fill=SOFT,
            )
        for column, cell in enumerate(row.cells):
            at = _LABEL + column * _CELL
            sketch.box(at, y, _CELL - 1, _CELL - 1, _FILLS[cell.state], f"{cell.address}: {cell.words}")
            if mark := _MARKS.get(cell.state):
                light = cell.state in (CellState.CONFLICT, CellState.STRANGER, CellState.PROVEN, CellState.GATEWAY)
                fill = "#ffffff" if light else INK
                sketch.text(at + (_CELL - 1) / 2, y + 9.5, mark, size=9, fill=fill, bold=True, anchor="middle")
    x, y = 12.0, float(_TOP + len(rows) * _CELL + 18)
    for state in there:
        sketch.box(x, y - 9, 10, 10, _FILLS[state])
        if mark := _MARKS.get(state):
            sketch.text(
                x + 5,
                y - 1,
                mark,
                size=8,
                anchor="middle",
                fill=INK if state is CellState.PLANNED else "#ffffff",
            )
        sketch.text(x + 14, y, state, size=9)
        x += 28 + 6 * len(state)
    return sketch


def lanes_sketch(rows: Iterable[Row]) -> Sketch:
    """Draw each device's power cycle on one line of time: power off, link, first word, first answer."""
    cuts = [(row.tag, row.last.cut) for row in rows if row.last.cut]
    # One slow device does not press all others against the left edge: what is longer than thrice the median is cut off.
    ends = [at for _, cut in cuts for _, at in cut.moments]
    longest = min(max(ends, default=1.0), 3 * median(ends) if ends else 1.0) or 1.0
    left, right, step = 120, 860, 22
    sketch = Sketch(960, _TOP + 50 + step * max(1, len(cuts)), phrase("After the power cycle, in seconds"))
    if not cuts:
        sketch.text(12, _TOP + 12, "No power cycle was recorded.", fill=SOFT)
    for place, (tag, cut) in enumerate(cuts):
        y = _TOP + 12 + place * step
        sketch.text(12, y + 4, tag, bold=True)
        sketch.line(left, right, y, _FINE)
        end = cut.answer_s or cut.first_word_s or cut.link_s or 0.0
        sketch.line(left, left + (right - left) * min(1.0, end / longest), y, _THEIRS if cut.answer_s else _CONFLICT, 2)
        for name, at in ((phrase("power off"), 0.0), *cut.moments):
            x = left + (right - left) * min(1.0, at / longest)
            fill = _OURS if name in cut.services else INK
            sketch.box(x - 2, y - 4, 4, 8, fill, phrase("{tag}: {name} after {at:.1f} s", tag=tag, name=name, at=at))
        cut_off = "› " if end > longest else ""
        sketch.text(right + 8, y + 4, f"{cut_off}{end:.1f} s" if cut.answer_s else "no answer", size=9, fill=SOFT)
    y = _TOP + 26 + step * max(1, len(cuts))
    legend = ((INK, phrase("power off, link, first word, first answer")), (_OURS, phrase("a service answers")))
    for place, (fill, words) in enumerate(legend):
        sketch.box(left + place * 300, y - 4, 4, 8, fill, words)
        sketch.text(left + 10 + place * 300, y + 4, words, size=9, fill=SOFT)
    return sketch


def pace_sketch(rows: Iterable[Row]) -> Sketch:
    """Draw how many devices were recorded a day, and the median of how long each step took."""
    done = [row.last for row in rows if row.last.recorded_at]
    days = Counter(str(each.recorded_at.date()) for each in done if each.recorded_at)
    most = max(days.values(), default=1)
    sketch = Sketch(640, _TOP + 24 * max(1, len(days)) + 96, "Progress")
    for place, (day, count) in enumerate(sorted(days.items())):
        y = _TOP + 6 + place * 24
        sketch.text(12, y + 11, day)
        sketch.box(100, y, 440 * count / most, 15, _THEIRS, f"{day}: {count}")
        sketch.text(108 + 440 * count / most, y + 11, f"{count} device{'' if count == 1 else 's'}")
    y = _TOP + 24 * max(1, len(days)) + 30
    spans = {
        "from found to set": [(each.set_at - each.found_at).total_seconds() for each in done if each.set_at],
        "set until recorded": [
            (each.recorded_at - each.set_at).total_seconds() for each in done if each.set_at and each.recorded_at
        ],
    }
    for place, (name, seconds) in enumerate(spans.items()):
        middle = (
            phrase("{median:.1f} min, the median of {count}", median=median(seconds) / 60, count=len(seconds))
            if seconds
            else phrase("not known")
        )
        sketch.text(12, y + place * 18, name)
        sketch.text(160, y + place * 18, middle)
    slips = sum(each.slips for each in done)
    sketch.text(12, y + 36, "slips caught")
    sketch.text(160, y + 36, str(slips))
    return sketch


def cable_sketch(row: Row) -> Sketch:
    """Draw the laptop's address and the device's, bit over bit, joined as far as both agree.

    As left where the laptop had borrowed an address there; else as found.
    """
    last = row.last
    address, prefix, when = last.as_left.address.value, last.as_left.prefix.value, phrase("as left")
    laptop = last.laptop_beside(address)
    if laptop is None and (found := last.laptop_beside(last.found_address)):
        address, prefix, when, laptop = last.found_address, last.found_prefix, phrase("as found"), found
    sketch = Sketch(660, 118, phrase("The cable to {tag}, {when}", tag=row.tag or row.mac, when=when))
    ours = (laptop.ip, laptop.network.prefixlen) if laptop else (None, None)
    for name, (end, length), y, fill in (
        ("laptop", ours, 36.0, _OURS),
        (row.tag or phrase("device"), (address, prefix), 92.0, _THEIRS),
    ):
        words = phrase("its own address") if end is None else f"{end}/{'?' if length is None else length}"
        sketch.text(12, y + 10, name[:12], fill=SOFT)
        sketch.text(92, y + 10, words, bold=True)
        for bit in range(32 if end else 0):
            tall = 12.0 if _bit(end, bit) else 5.0
            y_at = y + 12 - tall if fill == _OURS else y
            inside = length is None or bit < length
            sketch.box(_bit_x(bit), y_at, 9, tall, fill if inside else _FINE, phrase("bit {bit}", bit=bit + 1))
    for bit in range(min(ours[1] or 0, prefix if prefix is not None else 32)):
        if _bit(ours[0], bit) != _bit(address, bit):
            break
        sketch.box(_bit_x(bit) + 3.5, 54, 2, 32, SOFT)
    return sketch


def _bit(address: IPv4Address | None, place: int) -> int:
    return int(address or 0) >> (31 - place) & 1


def _bit_x(place: int) -> float:
    return 210 + place * 13 + place // 8 * 4
