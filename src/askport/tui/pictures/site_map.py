"""The address map of a subnet: a block of cells, the one under the cursor turned round."""

from ipaddress import IPv4Address

from askport.core.phrases import phrase
from askport.core.plan.address_map import ROW, CellState, MapRow
from askport.core.plan.target import Site
from askport.tui.ink import CONFLICT, DIM, OURS, STRONG, THEIRS, Ink, blank, flow, heading

GLYPHS: dict[CellState, tuple[str, str]] = {
    CellState.CONFLICT: ("✗", f"{STRONG} {CONFLICT}"),
    CellState.STRANGER: ("▲", CONFLICT),
    CellState.AT_HAND: ("▸", f"{STRONG} {OURS}"),
    CellState.IN_HAND: ("▹", STRONG),
    CellState.PROVEN: ("●", f"{STRONG} {THEIRS}"),
    CellState.UNPROVEN: ("◐", THEIRS),
    CellState.PLANNED: ("○", THEIRS),
    CellState.GATEWAY: ("◆", STRONG),
    CellState.SERVER: ("◇", STRONG),
    CellState.RESERVED: ("×", DIM),
    CellState.DEALT: ("▫", DIM),
    CellState.POOL: ("░", DIM),
    CellState.FREE: ("·", DIM),
}
"""Shape and colour: the shape alone says it too."""
_LABEL, _SHORT_LABEL = 16, 9


def site_map_lines(site: Site, rows: list[MapRow], cursor: IPv4Address, width: int) -> list[Ink]:
    """Draw one subnet; a gap stands after each eighth address where there is room."""
    gaps, is_narrow = width >= _LABEL + ROW + ROW // 8, width < _LABEL + ROW
    label = _SHORT_LABEL if is_narrow else _LABEL
    via = phrase("gateway {gateway}", gateway=site.gateway) if site.gateway else phrase("no gateway")
    ruler = Ink().to(label)
    for place in range(0, min(ROW, site.network.num_addresses), 8):
        ruler.put(f"+{place}".ljust(9 if gaps else 8), DIM)
    lines = [heading(f"{site.network}, {via}", width), ruler]
    for row in rows:
        name = f".{'.'.join(str(row.first).split('.')[2:])}" if is_narrow else f"{row.first}"  # the head has the rest
        ink = Ink().put(name.ljust(label), DIM)
        if row.skipped:
            lines.append(ink.put(phrase("and {skipped} unused addresses not shown", skipped=row.skipped * ROW), DIM))
            continue
        for place, cell in enumerate(row.cells):
            glyph, style = GLYPHS[cell.state]
            ink.put(glyph, f"reverse {style}" if cell.address == cursor else style)
            if gaps and place % 8 == 7:
                ink.put(" ")
        lines.append(ink)
    return [*lines, blank()]


def legend_lines(rows: list[MapRow], width: int) -> list[Ink]:
    """Draw what the shapes that are there mean."""
    there = {cell.state for row in rows for cell in row.cells}
    pieces = [
        Ink().put(f"{GLYPHS[each][0]} ", GLYPHS[each][1]).put(phrase(each), DIM) for each in CellState if each in there
    ]
    return flow(pieces, width, 0)
