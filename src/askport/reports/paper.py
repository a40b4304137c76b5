"""Paged documents: what they are set in, and the request to the IT department."""

import io
from collections.abc import Sequence
from functools import lru_cache
from importlib.util import find_spec
from pathlib import Path
from typing import Any
from xml.sax.saxutils import escape

from askport.core.text import display_text

_PLAIN, _BOLD = "Sheet", "Sheet-Bold"
_DEJAVU = Path("/usr/share/fonts/truetype/dejavu")
_LONGEST = 400
"""Characters of one piece of text."""


@lru_cache(maxsize=1)
def fonts() -> frozenset[int]:
    """Register the fonts of all documents; return which characters they have."""
    from reportlab.pdfbase import pdfmetrics
    from reportlab.pdfbase.ttfonts import TTFont

    own = Path(str((find_spec("reportlab") or find_spec("os")).origin)).parent / "fonts"  # type: ignore[union-attr]
    plain, bold = _DEJAVU / "DejaVuSans.ttf", _DEJAVU / "DejaVuSans-Bold.ttf"
    if not (plain.exists() and bold.exists()):
        plain, bold = own / "Vera.ttf", own / "VeraBd.ttf"
    for name, path in ((_PLAIN, plain), (_BOLD, bold)):
        pdfmetrics.registerFont(TTFont(name, str(path)))
    pdfmetrics.registerFontFamily(_PLAIN, normal=_PLAIN, bold=_BOLD, italic=_PLAIN, boldItalic=_BOLD)
    return frozenset(pdfmetrics.getFont(_PLAIN).face.charToGlyph)


def printable(text: object) -> str:
    """Return a text as it can be printed: no markup, and what the fonts do not have as its number, not as a box."""
    has = fonts()
    shown = display_text(str(text), _LONGEST)
    return escape("".join(each if ord(each) in has or each == " " else f"[U+{ord(each):04X}]" for each in shown))


def styles() -> dict[str, Any]:
    """Return the styles of paragraphs."""
    from reportlab.lib.styles import ParagraphStyle

    fonts()
    body = ParagraphStyle("body", fontName=_PLAIN, fontSize=9, leading=12)
    return {
        "body": body,
        "cell": ParagraphStyle("cell", body, fontSize=7.5, leading=9.5),
        "head": ParagraphStyle("head", body, fontName=_BOLD, fontSize=7.5, leading=9.5),
        "title": ParagraphStyle("title", body, fontName=_BOLD, fontSize=18, leading=24, spaceAfter=8),
        "section": ParagraphStyle(
            "section", body, fontName=_BOLD, fontSize=11, leading=15, spaceBefore=10, spaceAfter=4
        ),
    }


def document(title: str, story: Sequence[Any], *, landscape: bool = False) -> bytes:
    """Return a document; the same story gives the same bytes."""
    from reportlab.lib.pagesizes import A4
    from reportlab.lib.pagesizes import landscape as turned
    from reportlab.platypus import SimpleDocTemplate

    fonts()
    out = io.BytesIO()
    size = turned(A4) if landscape else A4
    made = SimpleDocTemplate(
        out, pagesize=size, leftMargin=45, rightMargin=45, topMargin=45, bottomMargin=50, title=title,
        author="Ask Port", invariant=1, initialFontName=_PLAIN,
    )  # fmt: skip

    def foot(canvas: Any, page: Any) -> None:
        canvas.setFont(_PLAIN, 7)
        canvas.drawString(45, 28, display_text(title, 120))
        canvas.drawRightString(size[0] - 45, 28, str(page.page))

    made.build(list(story), onFirstPage=foot, onLaterPages=foot)
    return out.getvalue()


def table(rows: Sequence[Sequence[object]], widths: Sequence[float] | None = None) -> Any:
    """Return a table whose first row heads it on every page."""
    from reportlab.lib import colors
    from reportlab.platypus import Paragraph, Table, TableStyle

    set_in = styles()
    cells = [
        [Paragraph(printable(each), set_in["cell" if line else "head"]) for each in row]
        for line, row in enumerate(rows)
    ]
    made = Table(cells, colWidths=widths, repeatRows=1)
    made.setStyle(
        TableStyle(
            [
                ("LINEBELOW", (0, 0), (-1, 0), 0.8, colors.black),
                ("LINEBELOW", (0, 1), (-1, -1), 0.25, colors.lightgrey),
                ("VALIGN", (0, 0), (-1, -1), "TOP"),
                ("LEFTPADDING", (0, 0), (-1, -1), 2),
                ("RIGHTPADDING", (0, 0), (-1, -1), 4),
            ]
        )
    )
    return made


def request_pdf(site: str, sheets: Sequence[tuple[str, Sequence[Sequence[str]]]], asked: Sequence[str]) -> bytes:
    """Return the request to the IT department on paper; the spreadsheet is what can be read back."""
    from reportlab.platypus import Paragraph

    set_in = styles()
    title = f"Addresses for {display_text(site, 60)}"
    story: list[Any] = [Paragraph(printable(title), set_in["title"])]
    story += [Paragraph(printable(each), set_in["body"]) for each in asked]
    for name, rows in sheets:
        story += [Paragraph(printable(name), set_in["section"]), table(rows)]
    return document(title, story, landscape=True)
