"""Small things put into words in the same way everywhere."""

from collections.abc import Iterable


def listed(things: Iterable[object]) -> str:
    """Return things as a sentence lists them: ``a``, ``a and b``, ``a, b and c``."""
    *before, last = list(map(str, things)) or [""]
    return f"{', '.join(before)} and {last}" if before else last


def speed_words(speed_mbps: int) -> str:
    """Return a link's speed, given in Mb/s, in the unit that people say it in."""
    return f"{speed_mbps} Mb/s" if speed_mbps < 1000 else f"{speed_mbps / 1000:g} Gb/s"


def span_words(span_s: float) -> str:
    """Return a time span in a few words."""
    if span_s < 90:
        return f"{span_s:.0f} s"
    return f"{span_s / 60:.0f} min" if span_s < 5400 else f"{span_s / 3600:.1f} h"
