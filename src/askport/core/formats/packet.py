"""A frame read through all its layers, as far as they can be read."""

from collections.abc import Callable
from ipaddress import IPv4Address, IPv6Address
from typing import Any, NamedTuple, TypeVar

from askport.core.addresses import MacAddress
from askport.core.formats.arp import decode_arp
from askport.core.formats.dhcp import CLIENT_PORT, SERVER_PORT, decode_dhcp
from askport.core.formats.discovery import (
    PORT_SSDP,
    PORT_WS_DISCOVERY,
    decode_ssdp,
    decode_ws_discovery,
)
from askport.core.formats.dns import PORT_LLMNR, PORT_MDNS, PORT_NETBIOS_NAMES, decode_dns
from askport.core.formats.eapol import ETHERTYPE_EAPOL, decode_eapol
from askport.core.formats.ethernet import ETHERTYPE_ARP, ETHERTYPE_IPV4, Ethernet, decode_ethernet
from askport.core.formats.icmp import Icmp, decode_icmp, encode_icmp
from askport.core.formats.icmpv6 import PROTOCOL_ICMPV6, decode_icmpv6
from askport.core.formats.igmp import PROTOCOL_IGMP, decode_igmp
from askport.core.formats.ipv4 import PROTOCOL_ICMP, PROTOCOL_TCP, PROTOCOL_UDP, IPv4, decode_ipv4, ipv4_frame
from askport.core.formats.ipv6 import ETHERTYPE_IPV6, IPv6, decode_ipv6, ipv6_frame
from askport.core.formats.llc import SAP_SPANNING_TREE, Llc, decode_bpdu, decode_llc
from askport.core.formats.lldp import ETHERTYPE_LLDP, decode_lldp
from askport.core.formats.tcp import Tcp, decode_tcp, encode_tcp
from askport.core.formats.udp import Udp, decode_udp, encode_udp
from askport.core.formats.unreadable import Unreadable, made
from askport.core.protocols import PROTOCOLS, later

L = TypeVar("L")
Decoder = Callable[[bytes], Any]
"""Reads a layer; bytes that are none give what is wrong with them (:class:`Unreadable`)."""

# To read one protocol more: its decoder, and one line in the table of what carries it; field protocols declare theirs.
BY_ETHERTYPE: dict[int | None, Decoder] = {
    ETHERTYPE_ARP: decode_arp,
    ETHERTYPE_IPV4: decode_ipv4,
    ETHERTYPE_IPV6: decode_ipv6,
    ETHERTYPE_LLDP: decode_lldp,
    ETHERTYPE_EAPOL: decode_eapol,
    None: decode_llc,
    **{each.ethertype: later(each.decoder) for each in PROTOCOLS.values() if each.ethertype},
}
BY_SAP: dict[int, Decoder] = {SAP_SPANNING_TREE: decode_bpdu}
BY_IP_PROTOCOL: dict[int, Decoder] = {
    PROTOCOL_ICMP: decode_icmp,
    PROTOCOL_IGMP: decode_igmp,
    PROTOCOL_TCP: decode_tcp,
    PROTOCOL_UDP: decode_udp,
}
BY_IPV6_HEADER: dict[int, Decoder] = {
    PROTOCOL_ICMPV6: decode_icmpv6,
    PROTOCOL_TCP: decode_tcp,
    PROTOCOL_UDP: decode_udp,
}
BY_UDP_PORT: dict[int, Decoder] = {
    SERVER_PORT: decode_dhcp,
    CLIENT_PORT: decode_dhcp,
    PORT_MDNS: decode_dns,
    PORT_LLMNR: decode_dns,
    PORT_NETBIOS_NAMES: decode_dns,
    PORT_SSDP: decode_ssdp,
    PORT_WS_DISCOVERY: decode_ws_discovery,
    **{each.udp_port: later(each.decoder) for each in PROTOCOLS.values() if each.udp_port},
}


class Packet(NamedTuple):
    """The layers of one frame, outermost first, and what stopped the reading, if anything did."""

    layers: tuple[Any, ...]
    unreadable: Unreadable | None = None

    def get(self, kind: type[L]) -> L | None:
        """Return the layer of this kind, or None."""
        for layer in self.layers:
            if type(layer) is kind:
                return layer
        return None


_CARRIES: dict[type, Callable[[Any], Decoder | None]] = {
    Ethernet: lambda frame: BY_ETHERTYPE.get(frame.ethertype),
    Llc: lambda header: BY_SAP.get(header.dsap),
    IPv4: lambda packet: None if packet.is_fragment else BY_IP_PROTOCOL.get(packet.protocol),
    IPv6: lambda packet: BY_IPV6_HEADER.get(packet.next_header),
    Udp: lambda datagram: BY_UDP_PORT.get(datagram.dst_port) or BY_UDP_PORT.get(datagram.src_port),
}
"""How each layer that carries another says which one."""


def read_packet(data: bytes) -> Packet:
    """Read a frame as deep as it can be read; any bytes give a packet."""
    layers: list[Any] = []
    decoder: Decoder | None = decode_ethernet
    while decoder:
        layer: Any = decoder(data)
        if type(layer) is Unreadable:
            return made(Packet, (tuple(layers), layer))
        layers.append(layer)
        if carries := _CARRIES.get(type(layer)):
            decoder, data = carries(layer), layer.payload
        else:
            break
    return made(Packet, (tuple(layers), None))


class Ends(NamedTuple):
    """The two ends that a frame goes between."""

    src_mac: MacAddress
    src: IPv4Address
    dst_mac: MacAddress
    dst: IPv4Address

    @property
    def back(self) -> "Ends":
        """The same ends for the answer."""
        return Ends(src_mac=self.dst_mac, src=self.dst, dst_mac=self.src_mac, dst=self.src)


class Ends6(NamedTuple):
    """The same, over IPv6."""

    src_mac: MacAddress
    src: IPv6Address
    dst_mac: MacAddress
    dst: IPv6Address

    @property
    def back(self) -> "Ends6":
        """The same ends for the answer."""
        return Ends6(src_mac=self.dst_mac, src=self.dst, dst_mac=self.src_mac, dst=self.src)


STAYS_ON_LINK = 1
"""A time to live with which no router passes a packet on: only who holds its destination can answer it (RFC 791)."""


def frame_between(ends: Ends | Ends6, message: Icmp | Tcp | Udp, ttl: int = 64) -> bytes:
    """Return a whole frame with this message from one end to the other."""
    match message:
        case Icmp():
            protocol, payload = PROTOCOL_ICMP, encode_icmp(message)
        case Tcp():
            protocol, payload = PROTOCOL_TCP, encode_tcp(message, src=ends.src, dst=ends.dst)
        case Udp():
            protocol, payload = PROTOCOL_UDP, encode_udp(message, src=ends.src, dst=ends.dst)
    if isinstance(ends, Ends6):
        packet6 = IPv6(src=ends.src, dst=ends.dst, next_header=protocol, payload=payload, hop_limit=ttl)
        return ipv6_frame(packet6, src=ends.src_mac, dst=ends.dst_mac)
    packet = IPv4(src=ends.src, dst=ends.dst, protocol=protocol, payload=payload, ttl=ttl)
    return ipv4_frame(packet, src=ends.src_mac, dst=ends.dst_mac)


def ends_of(packet: Packet) -> Ends | None:
    """Return the ends that an IPv4 frame went between, or None for another frame."""
    ethernet, ipv4 = packet.get(Ethernet), packet.get(IPv4)
    if ethernet is None or ipv4 is None:
        return None
    return Ends(src_mac=ethernet.src, src=ipv4.src, dst_mac=ethernet.dst, dst=ipv4.dst)


def ends6_of(packet: Packet) -> Ends6 | None:
    """Return the ends that an IPv6 frame went between, or None for another frame."""
    ethernet, ipv6 = packet.get(Ethernet), packet.get(IPv6)
    if ethernet is None or ipv6 is None:
        return None
    return Ends6(src_mac=ethernet.src, src=ipv6.src, dst_mac=ethernet.dst, dst=ipv6.dst)
