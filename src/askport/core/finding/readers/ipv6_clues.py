"""Clues from IPv6 sources, neighbour discovery and multicast listener reports (RFC 4861, 4862, 2710, 3810)."""

from collections.abc import Iterator
from functools import lru_cache
from ipaddress import IPv6Address

from askport.core.finding.clues import Clue, ClueKind
from askport.core.formats.ethernet import Ethernet
from askport.core.formats.icmpv6 import Icmpv6, Icmpv6Type
from askport.core.formats.ipv6 import IPv6
from askport.core.formats.packet import Packet

_LINK_HOPS = frozenset({1, 64, 128, 255})


def read_ipv6(ipv6: IPv6, packet: Packet) -> Iterator[Clue]:
    """Read which address a device sends from; what a router passed on has lost a hop."""
    ethernet = packet.get(Ethernet)
    sender = _sender(ipv6.src)
    if ethernet is not None and sender and ipv6.hop_limit in _LINK_HOPS:
        yield Clue(ethernet.src, ClueKind.HAS_IPV6, text=sender)


@lru_cache(maxsize=4096)
def _sender(address: IPv6Address) -> str | None:
    """Return the text of an address that somebody can have, or None."""
    return None if address.is_unspecified or address.is_multicast else str(address)


def read_icmpv6(message: Icmpv6, packet: Packet) -> Iterator[Clue]:
    """Read a device that tries out its address before it takes it, and a router that says so."""
    ethernet, ipv6 = packet.get(Ethernet), packet.get(IPv6)
    if ethernet is None or ipv6 is None:
        return
    target = message.target
    tries_out = message.type == Icmpv6Type.NEIGHBOUR_SOLICITATION and ipv6.src.is_unspecified
    if target and not target.is_multicast and (tries_out or message.type == Icmpv6Type.NEIGHBOUR_ADVERTISEMENT):
        yield Clue(ethernet.src, ClueKind.HAS_IPV6, text=str(target))
    if message.type == Icmpv6Type.ROUTER_ADVERTISEMENT:
        yield Clue(ethernet.src, ClueKind.ROUTES_IPV6)
