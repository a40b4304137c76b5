"""Labels with tag, address, MAC address and a code that holds all three, on sheets and on a roll."""

import io
from collections.abc import Iterable
from typing import Any

from askport.core.plan.site_plan import Plan
from askport.core.register.visits import Row
from askport.reports.fonts import BOLD, PLAIN, fonts, in_font

_SHEET_MM = (63.5, 38.1)
"""Three across and seven down on A4, as most sheets of labels are cut."""
_ROLL_MM = (62.0, 29.0)
"""The label of most roll printers on a desk."""
_MM = 72 / 25.4


def sheet_pdf(rows: Iterable[Row], plan: Plan) -> bytes:
    """Return labels for sheets of A4, three across and seven down."""
    wide, high = _SHEET_MM[0] * _MM, _SHEET_MM[1] * _MM
    a4 = 210 * _MM, 297 * _MM
    left, top = (a4[0] - 3 * wide) / 2, a4[1] - (a4[1] - 7 * high) / 2
    out, canvas = _canvas(a4)
    for place, row in enumerate(row for row in rows if row.left):
        if place and place % 21 == 0:
            canvas.showPage()
        column, line = place % 3, place % 21 // 3
        place_of = _place(row, plan)
        _label(canvas, row, place_of, left + column * wide, top - (line + 1) * high, wide, high)
    canvas.showPage()
    canvas.save()
    return out.getvalue()


def roll_pdf(rows: Iterable[Row], plan: Plan) -> bytes:
    """Return labels for a roll, one a page."""
    wide, high = _ROLL_MM[0] * _MM, _ROLL_MM[1] * _MM
    out, canvas = _canvas((wide, high))
    for place, row in enumerate(row for row in rows if row.left):
        if place:
            canvas.showPage()
        _label(canvas, row, _place(row, plan), 0, 0, wide, high)
    canvas.showPage()
    canvas.save()
    return out.getvalue()


def _place(row: Row, plan: Plan) -> str:
    planned = plan.by_tag.get(row.tag)
    return planned.place if planned else ""


def _canvas(size: tuple[float, float]) -> tuple[io.BytesIO, Any]:
    from reportlab.pdfgen.canvas import Canvas

    fonts()
    out = io.BytesIO()
    canvas = Canvas(out, pagesize=size, invariant=1, initialFontName=PLAIN)
    canvas.setTitle("Labels")
    return out, canvas


def _label(canvas: Any, row: Row, place: str, x: float, y: float, wide: float, high: float) -> None:
    import segno

    address, mac = row.last.as_left.words(), str(row.mac)
    code = segno.make(f"{row.tag} {address} {mac}", error="m", micro=False)
    size = high - 20
    cells = list(code.matrix_iter(border=2))
    module = size / len(cells)
    path = canvas.beginPath()
    for line, cells_ in enumerate(cells):
        for column, dark in enumerate(cells_):
            if dark:
                path.rect(x + wide - size - 6 + column * module, y + 10 + size - (line + 1) * module, module, module)
    canvas.drawPath(path, fill=1, stroke=0)
    canvas.setFont(BOLD, 13)
    canvas.drawString(x + 8, y + high - 26, in_font(row.tag)[:18])
    canvas.setFont(PLAIN, 8)
    canvas.drawString(x + 8, y + high - 44, address)
    canvas.drawString(x + 8, y + high - 57, mac)
    canvas.setFont(PLAIN, 7)
    canvas.drawString(x + 8, y + high - 70, in_font(place)[:26])
