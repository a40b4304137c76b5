"""Drawings as SVG: the address map of a subnet, the lanes of power cuts, and the pace of a job."""

from collections import Counter
from collections.abc import Iterable, Sequence
from statistics import median
from xml.etree import ElementTree as Xml

from askport.core.plan.address_map import ROW, CellState, MapRow
from askport.core.plan.target import Site
from askport.core.register.visits import Row
from askport.core.text import display_text

_FONT = "DejaVu Sans, Verdana, sans-serif"
_INK, _SOFT, _FINE = "#1d2428", "#8a949a", "#d8dde0"
_OURS, _THEIRS, _CONFLICT = "#b8741a", "#1f8a80", "#c2334d"
_CELL, _LABEL, _TOP = 13, 110, 46
_FILLS = {
    CellState.CONFLICT: _CONFLICT,
    CellState.STRANGER: _CONFLICT,
    CellState.AT_HAND: _OURS,
    CellState.PROVEN: _THEIRS,
    CellState.UNPROVEN: "#8cc7c1",
    CellState.PLANNED: "#ffffff",
    CellState.GATEWAY: _INK,
    CellState.SERVER: _SOFT,
    CellState.RESERVED: "#eceff0",
    CellState.POOL: "#e3e7c8",
    CellState.FREE: "#f7f8f8",
}
_MARKS = {
    CellState.CONFLICT: "×", CellState.STRANGER: "!", CellState.PROVEN: "✓", CellState.UNPROVEN: "–",
    CellState.GATEWAY: "G", CellState.SERVER: "D", CellState.PLANNED: "·",
}  # fmt: skip


def _canvas(width: float, height: float, title: str) -> Xml.Element:
    root = Xml.Element("svg", xmlns="http://www.w3.org/2000/svg", width=f"{width:g}", height=f"{height:g}")
    root.set("viewBox", f"0 0 {width:g} {height:g}")
    root.set("font-family", _FONT)
    Xml.SubElement(root, "rect", width="100%", height="100%", fill="#ffffff")
    _text(root, 12, 22, title, size=14, weight="bold")
    return root


def _text(
    root: Xml.Element, x: float, y: float, text: str, *, size: float = 10, fill: str = _INK, weight: str = "normal",
    anchor: str = "start",
) -> None:  # fmt: skip
    made = Xml.SubElement(root, "text", x=f"{x:g}", y=f"{y:g}", fill=fill)
    made.set("font-size", f"{size:g}")
    made.set("font-weight", weight)
    made.set("text-anchor", anchor)
    made.text = display_text(text, 200)


def _box(root: Xml.Element, x: float, y: float, width: float, height: float, fill: str, said: str = "") -> None:
    made = Xml.SubElement(root, "rect", x=f"{x:g}", y=f"{y:g}", width=f"{width:g}", height=f"{height:g}", fill=fill)
    if said:
        Xml.SubElement(made, "title").text = display_text(said, 200)


def _line(root: Xml.Element, x1: float, x2: float, y: float, stroke: str, wide: float = 1) -> None:
    made = Xml.SubElement(root, "line", x1=f"{x1:g}", x2=f"{x2:g}", y1=f"{y:g}", y2=f"{y:g}", stroke=stroke)
    made.set("stroke-width", f"{wide:g}")


def _bytes(root: Xml.Element) -> bytes:
    Xml.indent(root)
    drawn: bytes = Xml.tostring(root, encoding="utf-8", xml_declaration=True)
    return drawn + b"\n"


def map_svg(site: Site, rows: Sequence[MapRow]) -> bytes:
    """Draw the address map of a subnet: a row for 64 addresses, each cell with what is there as its title."""
    there = [state for state in CellState if any(cell.state is state for row in rows for cell in row.cells)]
    height = _TOP + len(rows) * _CELL + 30
    root = _canvas(_LABEL + ROW * _CELL + 20, height, f"{site.name}  {site.network}")
    for place, row in enumerate(rows):
        y: float = _TOP + place * _CELL
        _text(root, 12, y + 10, str(row.first), size=9, fill=_SOFT)
        if row.skipped:
            _text(root, _LABEL, y + 10, f"and {row.skipped * ROW} addresses with nothing", size=9, fill=_SOFT)
        for column, cell in enumerate(row.cells):
            at = _LABEL + column * _CELL
            _box(root, at, y, _CELL - 1, _CELL - 1, _FILLS[cell.state], f"{cell.address}: {cell.words}")
            if mark := _MARKS.get(cell.state):
                light = cell.state in (CellState.CONFLICT, CellState.STRANGER, CellState.PROVEN, CellState.GATEWAY)
                fill = "#ffffff" if light else _INK
                _text(root, at + (_CELL - 1) / 2, y + 9.5, mark, size=9, fill=fill, weight="bold", anchor="middle")
    x, y = 12.0, float(_TOP + len(rows) * _CELL + 18)
    for state in there:
        _box(root, x, y - 9, 10, 10, _FILLS[state])
        if mark := _MARKS.get(state):
            _text(
                root,
                x + 5,
                y - 1,
                mark,
                size=8,
                anchor="middle",
                fill=_INK if state is CellState.PLANNED else "#ffffff",
            )
        _text(root, x + 14, y, state, size=9)
        x += 28 + 6 * len(state)
    return _bytes(root)


def lanes_svg(rows: Iterable[Row]) -> bytes:
    """Draw each device's power cut on one line of time: power off, link, first word, first answer."""
    cuts = [(row.tag, row.last.cut) for row in rows if row.last.cut]
    longest = max((at for _, cut in cuts for _, at in cut.moments), default=1.0) or 1.0
    left, right, step = 120, 860, 22
    root = _canvas(960, _TOP + 20 + step * max(1, len(cuts)), "After the power cut, in seconds")
    if not cuts:
        _text(root, 12, _TOP + 12, "No power cut was recorded.", fill=_SOFT)
    for place, (tag, cut) in enumerate(cuts):
        y = _TOP + 12 + place * step
        _text(root, 12, y + 4, tag, weight="bold")
        _line(root, left, right, y, _FINE)
        end = cut.answer_s or cut.first_word_s or cut.link_s or 0.0
        _line(root, left, left + (right - left) * end / longest, y, _THEIRS if cut.answer_s else _CONFLICT, 2)
        for name, at in (("power off", 0.0), *cut.moments):
            x = left + (right - left) * at / longest
            fill = _OURS if name in cut.services else _INK
            _box(root, x - 2, y - 4, 4, 8, fill, f"{tag}: {name} after {at:.1f} s")
        _text(root, right + 8, y + 4, f"{end:.1f} s" if cut.answer_s else "no answer", size=9, fill=_SOFT)
    return _bytes(root)


def pace_svg(rows: Iterable[Row]) -> bytes:
    """Draw how many devices were recorded a day, and how long each step took in the middle."""
    done = [row.last for row in rows if row.last.recorded_at]
    days = Counter(str(each.recorded_at.date()) for each in done if each.recorded_at)
    most = max(days.values(), default=1)
    root = _canvas(640, _TOP + 24 * max(1, len(days)) + 96, "The pace of the job")
    for place, (day, count) in enumerate(sorted(days.items())):
        y = _TOP + 6 + place * 24
        _text(root, 12, y + 11, day)
        _box(root, 100, y, 440 * count / most, 15, _THEIRS, f"{day}: {count}")
        _text(root, 108 + 440 * count / most, y + 11, f"{count} device{'' if count == 1 else 's'}")
    y = _TOP + 24 * max(1, len(days)) + 30
    spans = {
        "found until set": [(each.set_at - each.found_at).total_seconds() for each in done if each.set_at],
        "set until recorded": [
            (each.recorded_at - each.set_at).total_seconds() for each in done if each.set_at and each.recorded_at
        ],
    }
    for place, (name, seconds) in enumerate(spans.items()):
        middle = f"{median(seconds) / 60:.1f} min, in the middle of {len(seconds)}" if seconds else "not known"
        _text(root, 12, y + place * 18, name)
        _text(root, 160, y + place * 18, middle)
    slips = sum(each.slips for each in done)
    _text(root, 12, y + 36, "slips caught")
    _text(root, 160, y + 36, str(slips))
    return _bytes(root)
