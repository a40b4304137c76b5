"""Paged documents: what they are set in, and the request to the IT department."""

import io
from collections.abc import Sequence
from typing import Any
from xml.sax.saxutils import escape

from askport.core.phrases import phrase
from askport.core.text import display_text
from askport.reports.fonts import BOLD, PLAIN, fonts, in_font

_LONGEST = 400
"""Characters of one piece of text."""


def printable(text: object) -> str:
    """Return a text as it can be printed: no markup, and what the fonts do not have as its number, not as a box."""
    return escape(in_font(display_text(str(text), _LONGEST)))


def styles() -> dict[str, Any]:
    """Return the styles of paragraphs."""
    from reportlab.lib.styles import ParagraphStyle

    fonts()
    body = ParagraphStyle("body", fontName=PLAIN, fontSize=9, leading=12)
    return {
        "body": body,
        "cell": ParagraphStyle("cell", body, fontSize=7.5, leading=9.5),
        "head": ParagraphStyle("head", body, fontName=BOLD, fontSize=7.5, leading=9.5),
        "title": ParagraphStyle("title", body, fontName=BOLD, fontSize=18, leading=24, spaceAfter=8),
        "section": ParagraphStyle(
            "section", body, fontName=BOLD, fontSize=11, leading=15, spaceBefore=10, spaceAfter=4, keepWithNext=1
        ),
    }


def document(title: str, story: Sequence[Any], *, landscape: bool = False, paper: str = "A4") -> bytes:
    """Return a document; the same story gives the same bytes."""
    from reportlab.lib.pagesizes import A4, LETTER
    from reportlab.lib.pagesizes import landscape as turned
    from reportlab.platypus import SimpleDocTemplate

    fonts()
    out = io.BytesIO()
    upright = LETTER if paper == "Letter" else A4
    size = turned(upright) if landscape else upright
    made = SimpleDocTemplate(
        out, pagesize=size, leftMargin=45, rightMargin=45, topMargin=45, bottomMargin=50, title=title,
        author=phrase("Ask Port"), invariant=1, initialFontName=PLAIN,
    )  # fmt: skip

    def foot(canvas: Any, page: Any) -> None:
        canvas.setFont(PLAIN, 7)
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
    title = phrase("Addresses for {site}", site=display_text(site, 60))
    story: list[Any] = [Paragraph(printable(title), set_in["title"])]
    story += [Paragraph(printable(each), set_in["body"]) for each in asked]
    for name, rows in sheets:
        story += [Paragraph(printable(name), set_in["section"]), table(rows)]
    return document(title, story, landscape=True)
