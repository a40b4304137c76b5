"""Draws in signs that the terminal has, where it has not all of ours (``core/plain_signs.py``)."""

import os
import sys

from rich.segment import Segment
from textual.color import Color
from textual.filter import LineFilter

from askport.core.plain_signs import Has, encodable, in_font, plain


def signs_there() -> Has | None:
    """Return what says which signs the terminal has, or None where it has all: the kernel's own console has few."""
    if os.environ.get("TERM") == "linux":
        return in_font
    return encodable(getattr(sys.__stderr__, "encoding", None) or "utf-8")  # what the screen is written to


class PlainGlyphs(LineFilter):
    """Exchanges the signs in all that is drawn."""

    def __init__(self, has: Has) -> None:
        super().__init__()
        self._has = has

    def apply(self, segments: list[Segment], background: Color) -> list[Segment]:
        """Return the segments in signs that are there."""
        return [Segment(plain(each.text, self._has), each.style, each.control) for each in segments]
