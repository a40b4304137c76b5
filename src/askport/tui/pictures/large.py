"""Addresses in digits five lines high, to be read from a ladder."""

from askport.tui.ink import Ink

_HEIGHT = 5
_DIGITS = {
    "0": "111 101 101 101 111",
    "1": "010 110 010 010 111",
    "2": "111 001 111 100 111",
    "3": "111 001 011 001 111",
    "4": "101 101 111 001 001",
    "5": "111 100 111 001 111",
    "6": "111 100 111 101 111",
    "7": "111 001 010 010 010",
    "8": "111 101 111 101 111",
    "9": "111 101 111 001 111",
    ".": "0 0 0 0 1",
}
"""Rows of points; everything that is typed into a device as an address is made of these."""


def large_width(text: str, scale: int) -> int:
    """Return how many columns a text takes; ``scale`` is how many columns a point is wide."""
    return sum((len(_DIGITS[each].split()[0]) + 1) * scale for each in text) - scale


def large_lines(text: str, scale: int, styles: list[str]) -> list[Ink]:
    """Draw a text, with a style for each of its characters."""
    lines = [Ink() for _ in range(_HEIGHT)]
    for character, style in zip(text, styles, strict=True):
        for ink, points in zip(lines, _DIGITS[character].split(), strict=True):
            for point in points:
                ink.put(("█" if point == "1" else " ") * scale, style)
            ink.put(" " * scale)
    return lines
