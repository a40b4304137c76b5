"""Sweeping: ARP through whole ranges, at a chosen rate."""

from collections.abc import Iterable, Iterator
from ipaddress import IPv4Address, IPv4Network
from itertools import islice

from askport.core import addresses, machine, wire
from askport.core.formats.arp import arp_question

DEFAULT_SWEEP_RATE = 1000.0
"""Questions a second: under 1 % of 100 Mb/s, which small controllers still take in beside their work."""
RATES = (1_000.0, 3_000.0, 10_000.0, 30_000.0, 100_000.0)
"""What a technician can choose from, in questions a second."""
_SLOWEST_MBPS = 10
"""Taken where a link's speed is not known."""
LINE_RATE = 148_810.0
"""Minimum frames a second that 100 Mb/s Ethernet carries (IEEE 802.3)."""
PRIVATE = tuple(
    IPv4Network(each)
    for each in (
        "192.168.0.0/16", "10.0.0.0/16", "172.16.0.0/16", "10.10.0.0/16", "10.1.0.0/16", "172.16.0.0/12",
        "10.0.0.0/8", "169.254.0.0/16",
    )
)  # fmt: skip
"""All private space (RFC 1918) and link-local (RFC 3927), in order of likelihood; each address is asked for once."""
_CATCH_UP = 2.0
"""A held-up laptop catches up at this many times the rate, so that the rate is kept and no device is flooded."""
_LONGEST_BURST_S = 0.02
_MOST_BEHIND_S = 10.0
"""What it may fall behind and still catch up on; a laptop that slept is not caught up with."""
_TICK_S = 0.001
"""Between bursts at high rates."""
_LAST_ANSWERS_S = 3.0
"""Slow devices answer seconds later."""
_TARGET_AT, _PACKET_END = 38, 42
"""Where the address asked for stands in an ARP frame (RFC 826)."""


def distinct(ranges: Iterable[IPv4Network]) -> list[tuple[int, int]]:
    """Return ranges as first and last number, without what an earlier range has covered."""
    kept: list[tuple[int, int]] = []
    for network in ranges:
        pieces = [(int(network.network_address), int(network.broadcast_address))]
        for first, last in kept:
            pieces = [part for piece in pieces for part in _without(piece, first, last)]
        kept += pieces
    return kept


def _without(piece: tuple[int, int], first: int, last: int) -> Iterator[tuple[int, int]]:
    start, end = piece
    if last < start or end < first:
        yield piece
        return
    if start < first:
        yield start, first - 1
    if last < end:
        yield last + 1, end


class Sweeping(machine.Machine):
    """Asks who holds each address of the ranges, from 0.0.0.0, which disturbs nobody (RFC 5227 section 2.1.1)."""

    def __init__(self, mac: addresses.MacAddress, ranges: Iterable[IPv4Network], *, now: float, rate: float) -> None:
        super().__init__()
        self._ranges = distinct(ranges)
        self.total = sum(last - first + 1 for first, last in self._ranges)
        """Questions that will have been sent in the end."""
        self.asked = 0
        """Questions sent so far."""
        self.rate = rate
        self.began_at = now
        self.last_at: float | None = None
        """When the last question was sent, or None before that."""
        question = arp_question(mac, IPv4Address(0))
        self._head, self._tail = question[:_TARGET_AT], question[_PACKET_END:]
        self._numbers = (number for first, last in self._ranges for number in range(first, last + 1))
        self._next_at: float | None = now
        """When the next question is due by the rate."""
        self._wake_at = self._woken_at = now
        self._paused_at: float | None = None
        self._no_link_since: float | None = None

    @property
    def done(self) -> bool:
        """Whether the last question was sent, and slow answers to it were waited for."""
        return self._next_at is None

    @property
    def is_paused(self) -> bool:
        """Whether it waits to be resumed."""
        return self._paused_at is not None

    def faster(self, speed_mbps: int | None) -> float | None:
        """Return the next higher rate that a link of a speed bears, or None at the top.

        Half of what the link carries is left to the device's own work.
        """
        bears = LINE_RATE / 2 * (speed_mbps or _SLOWEST_MBPS) / 100
        return next((each for each in RATES if self.rate < each <= bears), None)

    def go_at(self, rate: float, now: float) -> None:
        """Go on at another rate, in questions a second."""
        self.rate = rate
        if self._next_at is not None and self.asked < self.total:
            self._next_at = self._wake_at = max(now, self._next_at - 1)

    @property
    def left_s(self) -> float:
        """Seconds until the last question."""
        return (self.total - self.asked) / self.rate

    @property
    def at(self) -> IPv4Address | None:
        """The address asked for last."""
        passed = 0
        for first, last in self._ranges:
            if self.asked <= passed + last - first + 1:
                return IPv4Address(first + max(0, self.asked - passed - 1))
            passed += last - first + 1
        return None

    def pause(self, now: float) -> None:
        """Send nothing until resumed."""
        self._paused_at = now

    def resume(self, now: float) -> None:
        """Go on where it was."""
        if self._paused_at is not None and self._next_at is not None:
            self._next_at += now - self._paused_at
            self._wake_at = self._woken_at = now
        self._paused_at = None

    def link_changed(self, link: wire.Link, now: float) -> None:
        """Hold on while there is no link: what is sent then reaches nobody."""
        if not link.up and self._no_link_since is None:
            self._no_link_since = now
        elif link.up and self._no_link_since is not None:
            if self._next_at is not None:
                self._next_at = max(now, self._next_at + now - self._no_link_since)
                self._wake_at = self._woken_at = now
            self._no_link_since = None

    def next_deadline(self) -> float | None:
        if self._no_link_since is not None:
            return None
        return None if self.is_paused or self._next_at is None else self._wake_at

    def handle_timer(self, now: float) -> None:
        if self._next_at is None or now < self._wake_at or self.is_paused or self._no_link_since is not None:
            return
        if self.asked == self.total:
            self._next_at = None
            return
        step = max(1 / self.rate, _TICK_S)
        since = min(max(now - self._woken_at, step), _LONGEST_BURST_S)
        behind = now - self._next_at
        due = min(round((behind + step) * self.rate), max(1, round(_CATCH_UP * self.rate * since)))
        head, tail = self._head, self._tail
        frames = tuple(head + number.to_bytes(4, "big") + tail for number in islice(self._numbers, due))
        self._effects.append(machine.SendMany(frames))
        self.asked += len(frames)
        self._next_at = max(self._next_at, now - _MOST_BEHIND_S) + due / self.rate
        self._woken_at, self._wake_at = now, max(self._next_at, now + step)
        if self.asked == self.total:
            self.last_at, self._wake_at = now, now + _LAST_ANSWERS_S
