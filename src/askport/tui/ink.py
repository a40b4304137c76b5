"""Drawing with text: lines of styled pieces, in which nothing from the wire can be markup or an escape sequence."""

from collections.abc import Iterable
from textwrap import wrap

from rich.cells import cell_len

from askport.core.text import display_text

OURS = "$ours"
"""The laptop's side, everywhere."""
THEIRS = "$theirs"
"""The device's side, everywhere."""
CONFLICT = "$conflict"
"""What cannot be so, and nothing else."""
DIM = "$dim"
STRONG = "bold"


class Ink:
    """One line, written from left to right."""

    def __init__(self) -> None:
        self.parts: list[tuple[str, str]] = []
        """Its pieces, each with its style."""
        self.width = 0
        """Cells written so far; a name from the wire may have wide and combining characters."""

    def put(self, text: object, style: str = "") -> "Ink":
        """Write a piece."""
        shown = display_text(str(text), 1000)
        if shown:
            self.parts.append((shown, style))
            self.width += cell_len(shown)
        return self

    def to(self, column: int, filler: str = " ", style: str = "") -> "Ink":
        """Go on at a column; where the line is longer already, after one space."""
        missing = column - self.width
        return self.put(" ") if missing < 0 else self.put(filler * missing, style)

    def put_line(self, other: "Ink") -> "Ink":
        """Write what another line holds."""
        for text, style in other.parts:
            self.put(text, style)
        return self

    @property
    def plain(self) -> str:
        """Its text alone."""
        return "".join(text for text, _ in self.parts)

    def folded(self, width: int) -> list["Ink"]:
        """Return it as lines no longer than a width, broken at a space where there is one."""
        whole = self.plain
        if self.width <= width or cell_len(whole.rstrip()) <= width:
            return [self]
        fits = len(whole)
        while fits > 1 and cell_len(whole[:fits]) > width:
            fits -= 1
        cut = whole.rfind(" ", 1, fits + 1) + 1
        cut = cut if whole[:cut].strip() else fits
        first, rest = Ink(), Ink()
        at = 0
        for text, style in self.parts:
            here = max(0, min(cut - at, len(text)))
            first.put(text[:here].rstrip() if at + here == cut else text[:here], style)
            rest.put(text[here:], style)
            at += len(text)
        return [first, *rest.folded(width)]


def blank() -> Ink:
    """Return an empty line."""
    return Ink()


def line(text: object, style: str = "", indent: int = 0) -> Ink:
    """Return a line with one piece."""
    return Ink().to(indent).put(text, style)


def broken(text: str, width: int) -> list[str]:
    """Return a sentence broken between words to a width."""
    return wrap(text, max(width, 10), break_on_hyphens=False) or [""]


def wrapped(text: str, width: int, style: str = "", indent: int = 0) -> list[Ink]:
    """Return a sentence as lines no longer than a width, all indented alike."""
    return [line(each, style, indent) for each in broken(text, width - indent)]


def warning(text: str, width: int) -> list[Ink]:
    """Return the lines of what is dangerous."""
    first, *more = broken(text, width - 2)
    return [Ink().put("! ", CONFLICT).put(first, CONFLICT), *(line(each, CONFLICT, 2) for each in more)]


def beside(ink: Ink, column: int, text: str, width: int, style: str = "") -> list[Ink]:
    """Return a line with a sentence put behind what it holds, broken to the width and indented to a column."""
    column = max(column, ink.width + 1)
    first, *more = broken(text, width - column)
    return [ink.to(column).put(first, style), *(line(each, style, column) for each in more)]


def flow(pieces: Iterable[Ink], width: int, indent: int) -> list[Ink]:
    """Return pieces one behind the other, on as many lines as they need."""
    lines = [Ink().to(indent)]
    for piece in pieces:
        if lines[-1].width > indent and lines[-1].width + 3 + piece.width > width:
            lines.append(Ink().to(indent))
        if lines[-1].width > indent:
            lines[-1].put("   ")
        lines[-1].put_line(piece)
    return lines


def heading(text: str, width: int) -> Ink:
    """Return a title with a fine rule to the right end."""
    return Ink().put(text, STRONG).put(" ").to(width, "┈", DIM)
