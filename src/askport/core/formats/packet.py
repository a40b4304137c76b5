"""A frame read through all its layers, as far as they can be read."""

from collections.abc import Callable
from ipaddress import IPv4Address, IPv6Address
from typing import Any, NamedTuple, TypeVar

from askport.core import addresses, protocols
from askport.core.formats import arp, dhcp, discovery, dns, eapol, icmp, icmpv6, igmp, llc, lldp, tcp, udp
from askport.core.formats.ethernet import ETHERTYPE_ARP, ETHERTYPE_IPV4, Ethernet, decode_ethernet
from askport.core.formats.ipv4 import PROTOCOL_ICMP, PROTOCOL_TCP, PROTOCOL_UDP, IPv4, decode_ipv4, ipv4_frame
from askport.core.formats.ipv6 import ETHERTYPE_IPV6, IPv6, decode_ipv6, ipv6_frame
from askport.core.formats.unreadable import Unreadable, made

L = TypeVar("L")
Decoder = Callable[[bytes], Any]
"""Reads a layer; bytes that are none give what is wrong with them (:class:`Unreadable`)."""

# To read one protocol more: its decoder, and one line in the table of what carries it; field protocols declare theirs.
BY_ETHERTYPE: dict[int | None, Decoder] = {
    ETHERTYPE_ARP: arp.decode_arp,
    ETHERTYPE_IPV4: decode_ipv4,
    ETHERTYPE_IPV6: decode_ipv6,
    lldp.ETHERTYPE_LLDP: lldp.decode_lldp,
    eapol.ETHERTYPE_EAPOL: eapol.decode_eapol,
    None: llc.decode_llc,
    **{each.ethertype: protocols.later(each.decoder) for each in protocols.PROTOCOLS.values() if each.ethertype},
}
BY_SAP: dict[int, Decoder] = {llc.SAP_SPANNING_TREE: llc.decode_bpdu}
BY_IP_PROTOCOL: dict[int, Decoder] = {
    PROTOCOL_ICMP: icmp.decode_icmp,
    igmp.PROTOCOL_IGMP: igmp.decode_igmp,
    PROTOCOL_TCP: tcp.decode_tcp,
    PROTOCOL_UDP: udp.decode_udp,
}
BY_IPV6_HEADER: dict[int, Decoder] = {
    icmpv6.PROTOCOL_ICMPV6: icmpv6.decode_icmpv6,
    PROTOCOL_TCP: tcp.decode_tcp,
    PROTOCOL_UDP: udp.decode_udp,
}
BY_UDP_PORT: dict[int, Decoder] = {
    dhcp.SERVER_PORT: dhcp.decode_dhcp,
    dhcp.CLIENT_PORT: dhcp.decode_dhcp,
    dns.PORT_MDNS: dns.decode_dns,
    dns.PORT_LLMNR: dns.decode_dns,
    dns.PORT_NETBIOS_NAMES: dns.decode_dns,
    discovery.PORT_SSDP: discovery.decode_ssdp,
    discovery.PORT_WS_DISCOVERY: discovery.decode_ws_discovery,
    **{each.udp_port: protocols.later(each.decoder) for each in protocols.PROTOCOLS.values() if each.udp_port},
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
    llc.Llc: lambda header: BY_SAP.get(header.dsap),
    IPv4: lambda packet: None if packet.is_fragment else BY_IP_PROTOCOL.get(packet.protocol),
    IPv6: lambda packet: BY_IPV6_HEADER.get(packet.next_header),
    udp.Udp: lambda datagram: BY_UDP_PORT.get(datagram.dst_port) or BY_UDP_PORT.get(datagram.src_port),
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

    src_mac: addresses.MacAddress
    src: IPv4Address
    dst_mac: addresses.MacAddress
    dst: IPv4Address

    @property
    def back(self) -> "Ends":
        """The same ends for the answer."""
        return Ends(src_mac=self.dst_mac, src=self.dst, dst_mac=self.src_mac, dst=self.src)


class Ends6(NamedTuple):
    """The same, over IPv6."""

    src_mac: addresses.MacAddress
    src: IPv6Address
    dst_mac: addresses.MacAddress
    dst: IPv6Address

    @property
    def back(self) -> "Ends6":
        """The same ends for the answer."""
        return Ends6(src_mac=self.dst_mac, src=self.dst, dst_mac=self.src_mac, dst=self.src)


STAYS_ON_LINK = 1
"""A time to live with which no router passes a packet on: only who holds its destination can answer it (RFC 791)."""


def frame_between(ends: Ends | Ends6, message: icmp.Icmp | tcp.Tcp | udp.Udp, ttl: int = 64) -> bytes:
    """Return a whole frame with this message from one end to the other."""
    match message:
        case icmp.Icmp():
            protocol, payload = PROTOCOL_ICMP, icmp.encode_icmp(message)
        case tcp.Tcp():
            protocol, payload = PROTOCOL_TCP, tcp.encode_tcp(message, src=ends.src, dst=ends.dst)
        case udp.Udp():
            protocol, payload = PROTOCOL_UDP, udp.encode_udp(message, src=ends.src, dst=ends.dst)
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
