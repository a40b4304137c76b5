"""What is shown where a terminal has not all of our signs: a plain Linux console, an ASCII or a Latin-1 locale.

The console's font has 256 signs, those of code page 437, and one for all others. Each of our signs is exchanged for
one that is there, is as wide and means the same to the eye; ours and theirs, done and at hand stay apart.
"""

import unicodedata
from collections.abc import Callable
from functools import lru_cache

FONT = frozenset(bytes(range(32, 256)).decode("cp437") + "☺☻♥♦♣♠•◘○◙♂♀♪♫☼►◄↕‼¶§▬↨↑↓→←∟↔▲▼")
_LOOKS_LIKE = {
    "×": "x", "–": "-", "—": "-", "“": '"', "”": '"', "’": "'", "…": "~", "━": "═", "┈": "·", "┿": "┼", "╌": "-",
    "╳": "x", "▁": "_", "▂": "_", "▃": "▄", "▅": "▄", "▆": "█", "▇": "█", "▊": "█", "▎": "▌", "▫": "·", "▭": "▬",
    "▶": "►", "▸": "►", "▹": ">", "◀": "◄", "◂": "◄", "◆": "♦", "◇": "*", "◌": "∙", "●": "•", "◐": "◙", "◖": "(",
    "◗": ")", "✓": "√", "✗": "x", "⏎": "┘", "⎵": "_", "▔": "─", "▏": "│", "▕": "│", "⭘": "○",
}  # fmt: skip
_IN_ASCII = {
    "►": ">", "◄": "<", "√": "+", "♦": "#", "•": "@", "∙": ".", "·": ".", "°": "o", "◙": "%", "○": "o", "═": "=",
    "─": "-", "┼": "+", "│": "|", "├": "|", "┤": "|", "┌": "+", "┐": "+", "└": "+", "┘": "<", "┴": "+", "┬": "+",
    "█": "#", "▄": "=", "▀": "=", "▌": "|", "▐": "|", "▬": "-", "▲": "^", "▼": "v", "↑": "^", "↓": "v", "→": ">",
    "←": "<", "☼": "*", "■": "#", "µ": "u", "²": "2", "§": "S", "╤": "+", "░": ":", "«": '"', "»": '"',
}  # fmt: skip

Has = Callable[[str], bool]
"""Whether a sign is there."""


def in_font(sign: str) -> bool:
    """Whether the console's font has a sign."""
    return sign in FONT


def encodable(encoding: str) -> Has | None:
    """Return what says which signs an encoding has, or None where it has all of them."""
    if encoding.lower().replace("-", "").startswith(("utf", "cp65001")):
        return None

    def has(sign: str) -> bool:
        try:
            return bool(sign.encode(encoding))
        except UnicodeError:
            return False

    return has


def plain(text: str, has: Has = in_font) -> str:
    """Return a text in signs that are there, as wide as before."""
    return "".join(each if each.isascii() or has(each) else _other(each, has) for each in text)


@lru_cache(4096)
def _other(sign: str, has: Has) -> str:
    """Return the sign that looks most like one, a letter without its accent, or a question mark."""
    near = _LOOKS_LIKE.get(sign, sign)
    for each in (near, _IN_ASCII.get(near, ""), unicodedata.normalize("NFKD", sign)[:1]):
        if each and has(each):
            return each
    return "??" if unicodedata.east_asian_width(sign) in "WF" else "?"
