"""Clues from the addresses of IPv4 packets (RFC 791)."""

from collections.abc import Iterator

from askport.core.addresses import host_fault_of
from askport.core.finding.clues import Clue, Tells
from askport.core.formats.ethernet import Ethernet
from askport.core.formats.ipv4 import IPv4
from askport.core.formats.packet import Packet
from askport.core.formats.udp import Udp

_FIRST_HOP_TTLS = frozenset({1, 2, 4, 8, 16, 30, 32, 60, 64, 100, 128, 200, 255})
"""What stacks start with (64, 128, 255 mostly; small ones for multicast). A router takes one away, so 63, 127 or 254
says that the packet was passed on and its source is behind this MAC address."""
_SERVERS = {53: "DNS", 123: "time (NTP)", 162: "alarms (SNMP trap)", 514: "its log (syslog)"}
"""UDP destination ports that tell what a device is set to (RFC 1035, 5905, 3416, 5424)."""


def read_ipv4(ipv4: IPv4, packet: Packet) -> Iterator[Clue]:
    """Read which address a device sends from, unless it only passes the packet on, and which servers it uses."""
    ethernet = packet.get(Ethernet)
    if ethernet is None or ethernet.src.is_group or host_fault_of(ipv4.src):
        return
    if ipv4.ttl not in _FIRST_HOP_TTLS:
        yield Clue(ethernet.src, Tells.FORWARDS, ipv4.src)
        return
    yield Clue(ethernet.src, Tells.SENDS_FROM, ipv4.src)
    udp = packet.get(Udp)
    service = _SERVERS.get(udp.dst_port) if udp else None
    if service and not host_fault_of(ipv4.dst):
        yield Clue(ethernet.src, Tells.USES, ipv4.src, about=ipv4.dst, text=service)
