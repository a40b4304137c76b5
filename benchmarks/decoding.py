"""Frames decoded a second, beside the least that could be done: their headers taken apart by ``struct`` alone."""

import time
from collections.abc import Callable
from statistics import median
from struct import Struct

from askport.core.finding.readers import read_clues
from askport.core.formats.packet import read_packet
from capture import mixed

_FRAMES, _ROUNDS = 5000, 15
_ETHERNET, _IPV4, _PORTS = Struct("!6s6sH"), Struct("!BBHHHBBH4s4s"), Struct("!HH")


def _headers_only(data: bytes) -> None:
    if _ETHERNET.unpack_from(data)[2] == 0x0800 and len(data) >= 38:
        _IPV4.unpack_from(data, 14)
        _PORTS.unpack_from(data, 34)


def _seconds(decode: Callable[[bytes], object], frames: list[bytes]) -> float:
    started = time.perf_counter()
    for data in frames:
        decode(data)
    return time.perf_counter() - started


def beside_headers() -> None:
    """Decode the same frames in turn, and compare each round with its neighbour."""
    frames = mixed(_FRAMES)
    decoders: tuple[Callable[[bytes], object], ...] = (
        read_packet,
        _headers_only,
        lambda data: read_clues(read_packet(data)),
    )
    rounds = [[_seconds(decode, frames) for decode in decoders] for _ in range(_ROUNDS)]
    ours, least, clues = (median(column) for column in zip(*rounds, strict=True))
    ratio = median(one[0] / one[1] for one in rounds)
    print(
        f"decoding: {_FRAMES / ours:,.0f} frames a second, headers alone {_FRAMES / least:,.0f}: it takes {ratio:.1f} "
        f"times as long; with all clues {_FRAMES / clues:,.0f}"
    )
