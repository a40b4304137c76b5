"""Plug: what is heard on an adapter before it is chosen."""

from typing import TYPE_CHECKING

from askport.core.phrases import phrase
from askport.core.text import span_words
from askport.tui.ink import DIM, THEIRS, Ink, wrapped

if TYPE_CHECKING:  # the first screen stands before what it hears with is loaded
    from askport.core.finding.device import Device
    from askport.core.finding.finder import Finder

_LEFT = 34
_SPAN_S = 30.0
_MAX_SAID = 2
"""Devices of which the last word is shown."""


def heard_lines(finder: "Finder", began_at: float, now: float, width: int) -> list[Ink]:
    """Draw a lane of the last half minute, and the last word of each device."""
    devices = sorted(finder.devices(), key=lambda each: -each.last_at)
    cells = max(10, min(60, width - _LEFT - 24))
    lane = ["·"] * cells
    for device in devices:
        for at, _ in device.moments:
            place = cells - 1 - int((now - at) / _SPAN_S * cells)
            if 0 <= place < cells:
                lane[place] = "▌"
    ink = Ink().to(_LEFT).put(f"{phrase('heard')} ", DIM)
    for mark in lane:
        ink.put(mark, THEIRS if mark == "▌" else DIM)
    said = (
        phrase("last {span_s}", span_s=span_words(_SPAN_S))
        if devices
        else phrase("nothing yet, {now}", now=span_words(now - began_at))
    )
    lines = [ink.put(f" {said}", DIM)]
    for device in devices[:_MAX_SAID]:
        lines += wrapped(f"{device.mac}: {_last_word(device)}", width, "", _LEFT)
    if len(devices) > _MAX_SAID:
        lines.append(Ink().to(_LEFT).put(phrase("and {count} more", count=len(devices) - _MAX_SAID), DIM))
    return lines


def _last_word(device: "Device") -> str:
    reasons = [each for each in device.reasons() if each.frames]
    if not reasons:
        return phrase("It is sending, but has said nothing about itself yet.")
    return max(reasons, key=lambda each: each.frames[-1].at).sentence
