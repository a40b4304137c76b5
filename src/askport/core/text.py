"""Text: from the wire, made harmless before it is shown or stored; and small things in words, everywhere the same."""

import unicodedata

from askport.core.phrases import phrase

MAX_TEXT = 255
"""Characters kept of one text from the wire. A DNS name has at most 255 (RFC 1035 section 2.3.4)."""

_MOST_DIGITS = 20
_SUBSTITUTE = "\N{MIDDLE DOT}"


def display_text(raw: str | bytes, limit: int = MAX_TEXT) -> str:
    """Return text that no terminal, markup reader or log can be steered by.

    Control characters (C0, C1, DEL), format characters (bidirectional overrides, zero-width), surrogates, line
    separators and unassigned code points become a middle dot, foreign spaces a space; what is longer than ``limit``
    characters is cut and ends in an ellipsis. Markup is left as it is: whoever shows the text shows it literally.
    """
    text = raw[: limit * 4].decode("utf-8", "replace") if isinstance(raw, bytes) else raw
    cut = text[:limit]
    if not cut.isprintable():
        cut = "".join(char if char.isprintable() else _instead(char) for char in cut)
    return cut if len(text) <= limit else cut[: limit - 1] + "…"


def whole_number(text: str, least: int, most: int) -> int | None:
    """Return the number that a text is, in decimal digits of ASCII, or None where it is none or out of bounds.

    Other digits (², ٣) and endless ones are no numbers: what reads them otherwise raises, or takes seconds.
    """
    if not (text.isascii() and text.isdigit() and len(text) <= _MOST_DIGITS):
        return None
    number = int(text)
    return number if least <= number <= most else None


def _instead(char: str) -> str:
    return " " if unicodedata.category(char) == "Zs" else _SUBSTITUTE


def speed_words(speed_mbps: int) -> str:
    """Return a link's speed, given in Mb/s, in the unit that people say it in."""
    if speed_mbps < 1000:
        return phrase("{speed} Mb/s", speed=speed_mbps)
    return phrase("{speed:g} Gb/s", speed=speed_mbps / 1000)


def span_words(span_s: float) -> str:
    """Return a time span in a few words."""
    if span_s < 90:
        return phrase("{span:.0f} s", span=span_s)
    if span_s < 5400:
        return phrase("{span:.0f} min", span=span_s / 60)
    return phrase("{span:.1f} h", span=span_s / 3600)
