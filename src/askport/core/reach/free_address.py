"""Choosing a laptop address: near the device where its mask is not known, asked for before it is taken."""

from collections.abc import Container, Iterable, Iterator
from ipaddress import IPv4Address, IPv4Interface, IPv4Network
from itertools import chain

from askport.core.addresses import MacAddress, host_fault
from askport.core.formats.arp import Arp, arp_question
from askport.core.machine import Machine
from askport.core.wire import Heard

ASSUMED_PREFIX = 24
"""Used where the device's mask is not known: the commonest, and near the device any shorter one contains it."""
_PROBES = 3
"""As many as RFC 5227 section 1.1 asks (PROBE_NUM)."""
_PROBE_INTERVAL_S = 0.2
"""RFC 5227 spaces probes by 1 to 2 s for networks where hundreds of hosts start at once; here is one cable."""
_ANSWER_WAIT_S = 0.4
"""From the last probe until an address counts as free: stacks answer ARP within milliseconds, slow ones in 0.2 s."""
_LEFT_AT_THE_TOP = 16
_MAX_TRIES = 32
"""Addresses asked for before giving up: on a wire where 32 in a row are taken, something answers for all."""


def near(device: IPv4Address, prefix: int | None, avoid: Container[IPv4Address]) -> Iterator[IPv4Interface]:
    """Yield laptop addresses that can reach a device, nearest first.

    Where the prefix is not known, addresses that could be a network or broadcast address under a longer one are
    left out, because a device answers nobody there.
    """
    network = IPv4Network((int(device), prefix or ASSUMED_PREFIX), strict=False)
    for distance in range(1, network.num_addresses):
        for address in (int(device) + distance, int(device) - distance):
            if not int(network[0]) <= address <= int(network[-1]):
                continue
            interface = IPv4Interface((address, network.prefixlen))
            doubtful = prefix is None and _ends_in_same_bits(address)
            if interface.ip not in avoid and not doubtful and not host_fault(interface):
                yield interface


def from_the_top(network: IPv4Network, avoid: Container[IPv4Address]) -> Iterator[IPv4Interface]:
    """Yield laptop addresses in the site's own subnet: high ones, where plans seldom put devices.

    The very highest come last, because gateways and servers like to live there.
    """
    top, bottom = int(network[-1]), int(network[0])
    below = max(bottom, top - _LEFT_AT_THE_TOP)
    for address in chain(range(below, bottom - 1, -1), range(top, below, -1)):
        interface = IPv4Interface((address, network.prefixlen))
        if interface.ip not in avoid and not host_fault(interface):
            yield interface


def _ends_in_same_bits(address: int) -> bool:
    return address & 7 in (0, 7)


class FreeAddressSearch(Machine):
    """Takes the first candidate that nobody answers for (RFC 5227 section 2.1.1)."""

    def __init__(self, mac: MacAddress, candidates: Iterable[IPv4Interface], *, now: float) -> None:
        super().__init__()
        self._mac = mac
        self._candidates = iter(candidates)
        self._tries = 0
        self.candidate: IPv4Interface | None = None
        """The address being asked for."""
        self.chosen: IPv4Interface | None = None
        """The free address, once there is one."""
        self.taken: dict[IPv4Address, MacAddress] = {}
        """Candidates that somebody holds."""
        self._asked = 0
        self._next_at: float | None = None
        self._try_next(now)

    @property
    def done(self) -> bool:
        """Whether an address was chosen, or none can be."""
        return self.candidate is None

    def _try_next(self, now: float) -> None:
        self._tries += 1
        self.candidate = next(self._candidates, None) if self._tries <= _MAX_TRIES else None
        self._asked = 0
        self._next_at = now if self.candidate else None

    def receive(self, heard: Heard) -> None:
        """Leave a candidate that somebody holds or is about to take."""
        arp = heard.packet.get(Arp)
        if arp is None or self.candidate is None or arp.sha == self._mac:
            return
        if arp.spa == self.candidate.ip or (arp.is_probe and arp.tpa == self.candidate.ip):
            self.taken[self.candidate.ip] = arp.sha
            self._try_next(heard.at)

    def handle_timer(self, now: float) -> None:
        """Ask, or take the address when nobody has answered for long enough."""
        if self._next_at is None or self.candidate is None or now < self._next_at:
            return
        if self._asked == _PROBES:
            self.chosen, self.candidate, self._next_at = self.candidate, None, None
            return
        self._send(arp_question(self._mac, self.candidate.ip))
        self._asked += 1
        self._next_at = now + (_ANSWER_WAIT_S if self._asked == _PROBES else _PROBE_INTERVAL_S)

    def next_deadline(self) -> float | None:
        """Return when the next probe is due or the waiting ends."""
        return self._next_at
