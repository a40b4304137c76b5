"""A drawing of boxes, lines and texts, which comes out as SVG or as a page of a PDF: one drawing for both.

ReportLab draws both. Its SVG has no titles, which readers show where a box is pointed at, and names our fonts as we
register them: both are put right in what it wrote.
"""

from typing import TYPE_CHECKING, Any
from xml.etree import ElementTree as Xml

from askport.core.phrases import phrase
from askport.core.text import display_text
from askport.reports.fonts import BOLD, PLAIN, fonts, in_font

if TYPE_CHECKING:
    from reportlab.graphics.shapes import Drawing

INK, SOFT = "#1d2428", "#8a949a"
_FAMILY = "DejaVu Sans, Verdana, sans-serif"
_LONGEST = 200
_SVG = "http://www.w3.org/2000/svg"


class Sketch:
    """Shapes on a white sheet; lengths are in points, and y goes down from the top."""

    def __init__(self, width: float, height: float, title: str) -> None:
        from reportlab.graphics.shapes import Drawing

        fonts()
        self.width, self.height, self.title = width, height, display_text(title, _LONGEST)
        self._drawing = Drawing(width, height)
        self._said: dict[str, str] = {}
        """What a reader shows where a box is pointed at, by the box's number."""
        self.box(0, 0, width, height, "#ffffff")
        self.text(12, 22, title, size=14, bold=True)

    def text(
        self, x: float, y: float, text: str, *, size: float = 10, fill: str = INK, bold: bool = False,
        anchor: str = "start",
    ) -> None:  # fmt: skip
        """Write a text, whatever is in it."""
        from reportlab.graphics.shapes import String

        said, font = in_font(display_text(text, _LONGEST)), BOLD if bold else PLAIN
        self._add(String(x, self.height - y, said, fontName=font, fontSize=size, textAnchor=anchor), fillColor=fill)

    def box(self, x: float, y: float, width: float, height: float, fill: str, said: str = "") -> None:
        """Fill a box; ``said`` is what a reader shows when it is pointed at."""
        from reportlab.graphics.shapes import Rect

        box = Rect(x, self.height - y - height, width, height, strokeColor=None)
        if said:
            box._svgAttrs = {"id": f"box-{len(self._said)}"}
            self._said[f"box-{len(self._said)}"] = display_text(said, _LONGEST)
        self._add(box, fillColor=fill)

    def line(self, x1: float, x2: float, y: float, stroke: str, wide: float = 1) -> None:
        """Draw a line from left to right."""
        from reportlab.graphics.shapes import Line

        self._add(Line(x1, self.height - y, x2, self.height - y, strokeWidth=wide), strokeColor=stroke)

    def _add(self, shape: Any, **colours: str) -> None:
        from reportlab.lib.colors import HexColor

        for name, colour in colours.items():
            setattr(shape, name, HexColor(colour))
        self._drawing.add(shape)

    def svg(self) -> bytes:
        """Return it as SVG."""
        from reportlab.graphics import renderSVG

        Xml.register_namespace("", _SVG)
        root = Xml.fromstring(renderSVG.drawToString(self._drawing))  # noqa: S314 - written just now
        for name, words in (("title", self.title), ("desc", phrase("Drawn by Ask Port"))):
            root.find(f"{{{_SVG}}}{name}").text = words  # type: ignore[union-attr]
        for each in root.iter():
            if "style" in each.attrib:
                style = each.attrib["style"].replace(
                    f"font-family: {BOLD}", f"font-weight: bold; font-family: {_FAMILY}"
                )
                each.set("style", style.replace(f"font-family: {PLAIN}", f"font-family: {_FAMILY}"))
            if said := self._said.get(each.attrib.get("id", "")):
                Xml.SubElement(each, f"{{{_SVG}}}title").text = said
        drawn: bytes = Xml.tostring(root, encoding="utf-8", xml_declaration=True)
        return drawn + b"\n"

    def pdf(self) -> bytes:
        """Return it as a PDF of one page."""
        from io import BytesIO

        from reportlab.graphics import renderPDF
        from reportlab.pdfgen.canvas import Canvas

        out = BytesIO()
        canvas = Canvas(out, pagesize=(self.width, self.height), invariant=1, initialFontName=PLAIN)
        canvas.setTitle(self.title)
        renderPDF.draw(self._drawing, canvas, 0, 0)
        canvas.showPage()
        canvas.save()
        return out.getvalue()

    def on_page(self, width: float) -> "Drawing":
        """Return it as a piece of a page, made to fit."""
        self._drawing.renderScale = min(1.0, width / self.width)
        return self._drawing
