"""Choosing a laptop address: near the device where its mask is not known, asked for before it is taken."""

from collections.abc import Container, Iterable, Iterator
from ipaddress import IPv4Address, IPv4Interface, IPv4Network
from itertools import chain, islice

from askport.core import addresses, script, wire
from askport.core.formats.arp import Arp, arp_question

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
            if interface.ip not in avoid and not doubtful and not addresses.host_fault(interface):
                yield interface


def from_the_top(network: IPv4Network, avoid: Container[IPv4Address]) -> Iterator[IPv4Interface]:
    """Yield laptop addresses in the site's own subnet: high ones, where plans seldom put devices.

    The very highest come last, because gateways and servers like to live there.
    """
    top, bottom = int(network[-1]), int(network[0])
    below = max(bottom, top - _LEFT_AT_THE_TOP)
    for address in chain(range(below, bottom - 1, -1), range(top, below, -1)):
        interface = IPv4Interface((address, network.prefixlen))
        if interface.ip not in avoid and not addresses.host_fault(interface):
            yield interface


def _ends_in_same_bits(address: int) -> bool:
    return address & 7 in (0, 7)


class FreeAddressSearch(script.Script):
    """Takes the first candidate that nobody answers for (RFC 5227 section 2.1.1)."""

    def __init__(self, mac: addresses.MacAddress, candidates: Iterable[IPv4Interface], *, now: float) -> None:
        self._mac = mac
        self._candidates = islice(candidates, _MAX_TRIES)
        self.candidate: IPv4Interface | None = None
        """The address being asked for."""
        self.chosen: IPv4Interface | None = None
        """The free address, once there is one."""
        self.taken: dict[IPv4Address, addresses.MacAddress] = {}
        """Candidates that somebody holds."""
        super().__init__(now=now)
        self._go_on(None, now)

    async def steps(self) -> None:
        for candidate in self._candidates:
            self.candidate = candidate
            await self.pause(0.0)
            for wait_s in (*(_PROBE_INTERVAL_S,) * (_PROBES - 1), _ANSWER_WAIT_S):
                self._send(arp_question(self._mac, candidate.ip))
                if holder := await script.Wait(until=self.now + wait_s, frame=self._holder):
                    self.taken[candidate.ip] = holder
                    break
            else:
                self.chosen = candidate
                break
        self.candidate = None

    def _holder(self, heard: wire.Heard) -> addresses.MacAddress | None:
        """Return who holds the candidate, or is about to take it."""
        arp = heard.packet.get(Arp)
        if arp is None or self.candidate is None or arp.sha == self._mac:
            return None
        return arp.sha if arp.spa == self.candidate.ip or (arp.is_probe and arp.tpa == self.candidate.ip) else None
