"""Frames decoded a second beside dpkt, on one mixed capture: both as deep as both can read."""

import time
from collections.abc import Callable
from statistics import median

import dpkt

from askport.core.finding.readers import read_clues
from askport.core.formats.packet import read_packet
from capture import mixed

_FRAMES, _ROUNDS = 5000, 15


def _with_dpkt(data: bytes) -> None:
    packet = dpkt.ethernet.Ethernet(data).data
    udp = getattr(packet, "data", None)
    if isinstance(udp, dpkt.udp.UDP):
        if udp.dport in (67, 68):
            dpkt.dhcp.DHCP(udp.data)
        elif udp.dport in (5353, 137):
            dpkt.dns.DNS(udp.data)


def _seconds(decode: Callable[[bytes], object], frames: list[bytes]) -> float:
    started = time.perf_counter()
    for data in frames:
        decode(data)
    return time.perf_counter() - started


def beside_dpkt() -> None:
    """Decode the same frames in turn, and compare each round with its neighbour."""
    frames = mixed(_FRAMES)
    decoders: tuple[Callable[[bytes], object], ...] = (
        read_packet,
        _with_dpkt,
        lambda data: read_clues(read_packet(data)),
    )
    rounds = [[_seconds(decode, frames) for decode in decoders] for _ in range(_ROUNDS)]
    ours, theirs, clues = (median(column) for column in zip(*rounds, strict=True))
    ratio = median(one[1] / one[0] for one in rounds)
    print(
        f"decoding: {_FRAMES / ours:,.0f} frames a second, dpkt {_FRAMES / theirs:,.0f}: {ratio:.2f} times dpkt; "
        f"with all clues {_FRAMES / clues:,.0f}"
    )
