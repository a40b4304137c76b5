"""Clues from the addresses of IPv4 packets (RFC 791)."""

from collections.abc import Iterator
from functools import lru_cache
from ipaddress import IPv4Address, IPv4Network

from askport.core.addresses import LIMITED_BROADCAST, LINK_LOCAL, UNSPECIFIED, host_fault_of
from askport.core.finding import clues, virtual
from askport.core.formats.dhcp import Dhcp
from askport.core.formats.ethernet import Ethernet
from askport.core.formats.ipv4 import PROTOCOL_UDP, IPv4
from askport.core.formats.packet import Packet
from askport.core.formats.udp import Udp
from askport.core.phrases import phrase

SENT_WITH = frozenset({1, 2, 4, 8, 16, 30, 32, 60, 64, 100, 128, 200, 255})
"""Times to live that stacks start with. Another one says that the packet was passed on; one of these says nothing,
because a router may have taken any number away."""
_LINK_GROUPS = IPv4Network("224.0.0.0/24")
"""Groups that no router forwards, whatever the time to live (RFC 5771 section 4)."""
_SERVERS = {53: "DNS", 123: phrase("time (NTP)"), 162: phrase("alarms (SNMP trap)"), 514: phrase("its log (syslog)")}
"""UDP destination ports that tell what a device is set to (RFC 1035, 5905, 3416, 5424)."""


def read_ipv4(ipv4: IPv4, packet: Packet) -> Iterator[clues.Clue]:
    """Read which address a device sends from, and which servers it uses.

    Only what no router forwards (RFC 919 section 7, RFC 3927 section 2.7, RFC 5771) and no relay passes on shows that
    the sender of the frame holds the packet's address.
    """
    ethernet = packet.get(Ethernet)
    if ethernet is None or ethernet.src.is_group or host_fault_of(ipv4.src):
        return
    stays = _stays_on_link(ipv4.dst)
    if virtual.group_protocol(ethernet.src):
        # Hellos come from the shared MAC address with the address of the router that speaks (RFC 5798 section 7.2).
        if stays:
            yield clues.Clue(ethernet.src, clues.ClueKind.SPEAKS_FOR, about=ipv4.src)
        return
    if ipv4.ttl not in SENT_WITH:
        yield clues.Clue(ethernet.src, clues.ClueKind.FORWARDS, ipv4.src)
        return
    dhcp = packet.get(Dhcp) if stays else None
    relayed = dhcp is not None and (dhcp.giaddr != UNSPECIFIED or dhcp.hops > 0)
    udp = packet.get(Udp)
    # Datagrams to everybody are what relays pass on as they are; one that names its own sender's MAC address is none.
    # Of a fragment, and of a datagram that cannot be read, nobody knows what it is.
    own = ipv4.protocol != PROTOCOL_UDP or (dhcp is not None and dhcp.chaddr[:6] == ethernet.src)
    on_link = clues.ClueKind.SENDS_ON_LINK if own else clues.ClueKind.SENDS_TO_ALL
    yield clues.Clue(ethernet.src, on_link if stays and not relayed else clues.ClueKind.SENDS_FROM, ipv4.src)
    service = _SERVERS.get(udp.dst_port) if udp else None
    if service and not host_fault_of(ipv4.dst):
        yield clues.Clue(ethernet.src, clues.ClueKind.USES, ipv4.src, about=ipv4.dst, text=service)


@lru_cache(maxsize=4096)
def _stays_on_link(address: IPv4Address) -> bool:
    return address == LIMITED_BROADCAST or address in _LINK_GROUPS or address in LINK_LOCAL
