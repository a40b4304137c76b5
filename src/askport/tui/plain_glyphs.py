"""What a plain Linux console shows: its font has 256 signs, those of code page 437, and one sign for all others.

Each of our signs is exchanged for one of the font's that is as wide and means the same to the eye; ours and theirs,
done and at hand stay apart.
"""

import os
import unicodedata
from functools import lru_cache

from rich.cells import cell_len
from rich.segment import Segment
from textual.color import Color
from textual.filter import LineFilter

FONT = frozenset(bytes(range(32, 256)).decode("cp437") + "☺☻♥♦♣♠•◘○◙♂♀♪♫☼►◄↕‼¶§▬↨↑↓→←∟↔▲▼")
_LOOKS_LIKE = {
    "×": "x", "–": "-", "—": "-", "“": '"', "”": '"', "’": "'", "…": "~", "━": "═", "┈": "·", "┿": "┼", "╌": "-",
    "╳": "x", "▁": "_", "▂": "_", "▃": "▄", "▅": "▄", "▆": "█", "▇": "█", "▊": "█", "▎": "▌", "▫": "·", "▭": "▬",
    "▶": "►", "▸": "►", "▹": ">", "◀": "◄", "◂": "◄", "◆": "♦", "◇": "*", "◌": "∙", "●": "•", "◐": "◙", "◖": "(",
    "◗": ")", "✓": "√", "✗": "x", "⏎": "┘", "⎵": "_", "▔": "─", "▏": "│", "▕": "│", "⭘": "○",
}  # fmt: skip


def is_plain() -> bool:
    """Whether the terminal is the kernel's own console."""
    return os.environ.get("TERM") == "linux"


@lru_cache(4096)
def plain(text: str) -> str:
    """Return a text in signs of that font, as many as before."""
    return "".join(each if each in FONT else _LOOKS_LIKE.get(each) or _bare(each) for each in text)


def _bare(sign: str) -> str:
    """Return a letter without its accent where the font has that one, or a question mark."""
    letter = unicodedata.normalize("NFKD", sign)[:1]
    return letter if letter in FONT else "?" * cell_len(sign)


class PlainGlyphs(LineFilter):
    """Exchanges the signs in all that is drawn."""

    def apply(self, segments: list[Segment], background: Color) -> list[Segment]:
        """Return the segments in signs that the font has."""
        return [Segment(plain(each.text), each.style, each.control) for each in segments]
