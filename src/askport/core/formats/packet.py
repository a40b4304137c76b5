"""A frame read through all its layers, as far as they can be read."""

from collections.abc import Callable
from dataclasses import dataclass
from ipaddress import IPv4Address
from typing import TypeVar

from askport.core.addresses import MacAddress
from askport.core.formats.arp import Arp, decode_arp
from askport.core.formats.dhcp import CLIENT_PORT, SERVER_PORT, Dhcp, decode_dhcp
from askport.core.formats.ethernet import ETHERTYPE_ARP, ETHERTYPE_IPV4, Ethernet, decode_ethernet
from askport.core.formats.icmp import Icmp, decode_icmp, encode_icmp
from askport.core.formats.ipv4 import PROTOCOL_ICMP, PROTOCOL_TCP, PROTOCOL_UDP, IPv4, decode_ipv4, ipv4_frame
from askport.core.formats.tcp import Tcp, decode_tcp, encode_tcp
from askport.core.formats.udp import Udp, decode_udp, encode_udp
from askport.core.formats.unreadable import Unreadable

Layer = Ethernet | Arp | IPv4 | Udp | Icmp | Tcp | Dhcp
L = TypeVar("L", bound=Layer)
Decoder = Callable[[bytes], Layer | Unreadable]

# To read one protocol more: its decoder, and one line in the table of what carries it.
BY_ETHERTYPE: dict[int | None, Decoder] = {ETHERTYPE_ARP: decode_arp, ETHERTYPE_IPV4: decode_ipv4}
BY_IP_PROTOCOL: dict[int, Decoder] = {PROTOCOL_ICMP: decode_icmp, PROTOCOL_TCP: decode_tcp, PROTOCOL_UDP: decode_udp}
BY_UDP_PORT: dict[int, Decoder] = {SERVER_PORT: decode_dhcp, CLIENT_PORT: decode_dhcp}


@dataclass(frozen=True, slots=True)
class Packet:
    """The layers of one frame, outermost first, and what stopped the reading, if anything did."""

    layers: tuple[Layer, ...]
    unreadable: Unreadable | None = None

    def get(self, kind: type[L]) -> L | None:
        """Return the layer of this kind, or None."""
        for layer in self.layers:
            if isinstance(layer, kind):
                return layer
        return None


def _inside(layer: Layer) -> tuple[Decoder, bytes] | None:
    """Return how to read what a layer carries, or None where nobody here can."""
    decoder: Decoder | None = None
    match layer:
        case Ethernet():
            decoder = BY_ETHERTYPE.get(layer.ethertype)
        case IPv4(fragment_offset=0):
            decoder = BY_IP_PROTOCOL.get(layer.protocol)
        case Udp():
            decoder = BY_UDP_PORT.get(layer.dst_port) or BY_UDP_PORT.get(layer.src_port)
        case _:
            return None
    return (decoder, layer.payload) if decoder else None


def read_packet(data: bytes) -> Packet:
    """Read a frame as deep as it can be read; any bytes give a packet."""
    layers: list[Layer] = []
    step: tuple[Decoder, bytes] | None = (decode_ethernet, data)
    while step:
        decoder, payload = step
        layer = decoder(payload)
        if isinstance(layer, Unreadable):
            return Packet(tuple(layers), layer)
        layers.append(layer)
        step = _inside(layer)
    return Packet(tuple(layers))


@dataclass(frozen=True, slots=True, kw_only=True)
class Ends:
    """The two ends that a frame goes between."""

    src_mac: MacAddress
    src: IPv4Address
    dst_mac: MacAddress
    dst: IPv4Address

    @property
    def back(self) -> "Ends":
        """The same ends for the answer."""
        return Ends(src_mac=self.dst_mac, src=self.dst, dst_mac=self.src_mac, dst=self.src)


def frame_between(ends: Ends, message: Icmp | Tcp | Udp) -> bytes:
    """Return a whole frame with this message from one end to the other."""
    match message:
        case Icmp():
            protocol, payload = PROTOCOL_ICMP, encode_icmp(message)
        case Tcp():
            protocol, payload = PROTOCOL_TCP, encode_tcp(message, src=ends.src, dst=ends.dst)
        case Udp():
            protocol, payload = PROTOCOL_UDP, encode_udp(message, src=ends.src, dst=ends.dst)
    packet = IPv4(src=ends.src, dst=ends.dst, protocol=protocol, payload=payload)
    return ipv4_frame(packet, src=ends.src_mac, dst=ends.dst_mac)


def ends_of(packet: Packet) -> Ends | None:
    """Return the ends that an IPv4 frame went between, or None for another frame."""
    ethernet, ipv4 = packet.get(Ethernet), packet.get(IPv4)
    if ethernet is None or ipv4 is None:
        return None
    return Ends(src_mac=ethernet.src, src=ipv4.src, dst_mac=ethernet.dst, dst=ipv4.dst)
