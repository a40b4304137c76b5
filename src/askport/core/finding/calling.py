"""Asking by ARP for one address after the other, at a bounded rate."""

from collections.abc import Iterable
from ipaddress import IPv4Address

from askport.core import machine, wire
from askport.core.addresses import BROADCAST_MAC, MacAddress
from askport.core.formats.arp import arp_question

DEFAULT_RATE = 200.0
"""Questions a second: 0.1 % of 100 Mb/s, and slow enough for a controller that reads frames one by one."""
_PASSES = 2
"""Each address is asked for twice: a stack that drops the first packet while it wakes is not missed."""
_MAX_BURST = 32
"""Questions sent in one go after a delay, so that a held-up laptop does not flood the device."""
_OFTEN_S = 1.0
"""Between questions for an address that a label or manual gives: the device may still be starting."""
_MAX_OFTEN = 16
_PAUSE_BETWEEN_PASSES_S = 0.5


class Calling(machine.Machine):
    """Asks who holds each of the addresses, from 0.0.0.0, which disturbs nobody (RFC 5227 section 2.1.1)."""

    def __init__(
        self,
        mac: MacAddress,
        addresses: Iterable[IPv4Address],
        *,
        now: float,
        rate: float = DEFAULT_RATE,
        often: Iterable[IPv4Address] = (),
        to: MacAddress = BROADCAST_MAC,
    ) -> None:
        """Begin now.

        Args:
            addresses: what is asked for.
            rate: questions a second.
            often: addresses that something speaks for, asked for again and again meanwhile.
            to: who is asked: everybody, or one device, which none of its twins hears.
        """
        super().__init__()
        self._mac, self._to = mac, to
        self._addresses = list(addresses)
        self._often = list(dict.fromkeys(often))[:_MAX_OFTEN]
        self._often_at = now
        self._rate = rate
        self._asked_at: dict[IPv4Address, float] = {}
        self._next_at: float | None = now if self._addresses else None
        self._sent = 0
        self._has_link = True

    @property
    def done(self) -> bool:
        """Whether every address was asked for as often as it will be."""
        return self._next_at is None

    @property
    def asked(self) -> int:
        """Questions sent so far."""
        return self._sent

    @property
    def total(self) -> int:
        """Questions that will have been sent in the end."""
        return len(self._addresses) * _PASSES

    def asked_at(self, address: IPv4Address) -> float | None:
        """Return when an address was last asked for, or None where it was not."""
        return self._asked_at.get(address)

    def link_changed(self, link: wire.Link, now: float) -> None:
        """Hold on while there is no link: what is sent then reaches nobody."""
        self._has_link = link.up
        if link.up and self._next_at is not None:
            self._next_at = self._often_at = now

    def next_deadline(self) -> float | None:
        return self._next_at if self._has_link else None

    def handle_timer(self, now: float) -> None:
        if self._next_at is None or now < self._next_at or not self._has_link:
            return
        if now >= self._often_at:
            self._often_at = now + _OFTEN_S
            for address in self._often:
                self._ask(address, now)
        due = min(_MAX_BURST, 1 + int((now - self._next_at) * self._rate))
        for _ in range(due):
            address = self._addresses[self._sent % len(self._addresses)]
            self._ask(address, now)
            self._sent += 1
            if self._sent == self.total:
                self._next_at = None
                return
            if self._sent % len(self._addresses) == 0:
                self._next_at = now + _PAUSE_BETWEEN_PASSES_S
                return
        self._next_at = max(self._next_at + due / self._rate, now - _MAX_BURST / self._rate)

    def _ask(self, address: IPv4Address, now: float) -> None:
        self._send(arp_question(self._mac, address, to=self._to))
        self._asked_at[address] = now
