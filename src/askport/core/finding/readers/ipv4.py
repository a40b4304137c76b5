"""Clues from the source address of IPv4 packets (RFC 791)."""

from collections.abc import Iterator
from ipaddress import IPv4Interface

from askport.core.addresses import host_fault
from askport.core.finding.clues import Clue, Tells
from askport.core.formats.ethernet import Ethernet
from askport.core.formats.ipv4 import IPv4
from askport.core.formats.packet import Packet

_FIRST_HOP_TTLS = frozenset({1, 2, 4, 8, 16, 30, 32, 60, 64, 100, 128, 200, 255})
"""What stacks start with (64, 128, 255 mostly; small ones for multicast). A router takes one away, so 63, 127 or 254
says that the packet was passed on and its source is behind this MAC address."""


def read_ipv4(ipv4: IPv4, packet: Packet) -> Iterator[Clue]:
    """Read which address a device sends from, unless it only passes the packet on."""
    ethernet = packet.get(Ethernet)
    if ethernet is None or ethernet.src.is_group or host_fault(IPv4Interface((ipv4.src, 32))):
        return
    yield Clue(ethernet.src, Tells.SENDS_FROM if ipv4.ttl in _FIRST_HOP_TTLS else Tells.FORWARDS, ipv4.src)
