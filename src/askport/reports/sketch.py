"""A drawing of boxes, lines and texts, which comes out as SVG or as a page of a PDF: the same in both."""

import io
from dataclasses import dataclass
from typing import Any
from xml.etree import ElementTree as Xml

from askport.core.text import display_text
from askport.reports.fonts import BOLD, PLAIN, fonts, in_font

INK, SOFT = "#1d2428", "#8a949a"
_FONT = "DejaVu Sans, Verdana, sans-serif"
_LONGEST = 200


@dataclass(frozen=True, slots=True)
class _Text:
    x: float
    y: float
    text: str
    size: float
    fill: str
    weight: str
    anchor: str


@dataclass(frozen=True, slots=True)
class _Box:
    x: float
    y: float
    width: float
    height: float
    fill: str
    said: str


@dataclass(frozen=True, slots=True)
class _Line:
    x1: float
    x2: float
    y: float
    stroke: str
    wide: float


class Sketch:
    """Shapes on a white sheet; lengths are in points, and y goes down from the top."""

    def __init__(self, width: float, height: float, title: str) -> None:
        self.width, self.height, self.title = width, height, display_text(title, _LONGEST)
        self._shapes: list[_Text | _Box | _Line] = []
        self.text(12, 22, title, size=14, weight="bold")

    def text(
        self, x: float, y: float, text: str, *, size: float = 10, fill: str = INK, weight: str = "normal",
        anchor: str = "start",
    ) -> None:  # fmt: skip
        """Write a text, whatever is in it."""
        self._shapes.append(_Text(x, y, display_text(text, _LONGEST), size, fill, weight, anchor))

    def box(self, x: float, y: float, width: float, height: float, fill: str, said: str = "") -> None:
        """Fill a box; ``said`` is what a reader shows when it is pointed at."""
        self._shapes.append(_Box(x, y, width, height, fill, display_text(said, _LONGEST)))

    def line(self, x1: float, x2: float, y: float, stroke: str, wide: float = 1) -> None:
        """Draw a line from left to right."""
        self._shapes.append(_Line(x1, x2, y, stroke, wide))

    def svg(self) -> bytes:
        """Return it as SVG 1.1."""
        size = {"width": f"{self.width:g}", "height": f"{self.height:g}"}
        root = Xml.Element("svg", {"xmlns": "http://www.w3.org/2000/svg", **size})
        root.set("viewBox", f"0 0 {self.width:g} {self.height:g}")
        root.set("font-family", _FONT)
        Xml.SubElement(root, "rect", width="100%", height="100%", fill="#ffffff")
        for shape in self._shapes:
            _put(root, shape)
        Xml.indent(root)
        drawn: bytes = Xml.tostring(root, encoding="utf-8", xml_declaration=True)
        return drawn + b"\n"

    def pdf(self) -> bytes:
        """Return it as a PDF of one page."""
        from reportlab.pdfgen.canvas import Canvas

        fonts()
        out = io.BytesIO()
        canvas = Canvas(out, pagesize=(self.width, self.height), invariant=1, initialFontName=PLAIN)
        canvas.setTitle(self.title)
        self.draw_on(canvas)
        canvas.showPage()
        canvas.save()
        return out.getvalue()

    def draw_on(self, canvas: Any) -> None:
        """Draw it on a page, from the lower left corner on."""
        from reportlab.lib.colors import HexColor

        for shape in self._shapes:
            match shape:
                case _Text():
                    canvas.setFillColor(HexColor(shape.fill))
                    canvas.setFont(BOLD if shape.weight == "bold" else PLAIN, shape.size)
                    write = canvas.drawCentredString if shape.anchor == "middle" else canvas.drawString
                    write(shape.x, self.height - shape.y, in_font(shape.text))
                case _Box():
                    canvas.setFillColor(HexColor(shape.fill))
                    y = self.height - shape.y - shape.height
                    canvas.rect(shape.x, y, shape.width, shape.height, stroke=0, fill=1)
                case _Line():
                    canvas.setStrokeColor(HexColor(shape.stroke))
                    canvas.setLineWidth(shape.wide)
                    canvas.line(shape.x1, self.height - shape.y, shape.x2, self.height - shape.y)


def _put(root: Xml.Element, shape: _Text | _Box | _Line) -> None:
    match shape:
        case _Text():
            made = Xml.SubElement(root, "text", x=f"{shape.x:g}", y=f"{shape.y:g}", fill=shape.fill)
            made.set("font-size", f"{shape.size:g}")
            made.set("font-weight", shape.weight)
            made.set("text-anchor", shape.anchor)
            made.text = shape.text
        case _Box():
            numbers = {"x": shape.x, "y": shape.y, "width": shape.width, "height": shape.height}
            made = Xml.SubElement(root, "rect", {name: f"{each:g}" for name, each in numbers.items()}, fill=shape.fill)
            if shape.said:
                Xml.SubElement(made, "title").text = shape.said
        case _Line():
            made = Xml.SubElement(root, "line", x1=f"{shape.x1:g}", x2=f"{shape.x2:g}", y1=f"{shape.y:g}")
            made.set("y2", f"{shape.y:g}")
            made.set("stroke", shape.stroke)
            made.set("stroke-width", f"{shape.wide:g}")
