"""What a device is asked in order to measure it: from which made-up source, and in which kind of message.

Whoever answers an address that is not the laptop's has to be told a MAC address for its next hop, and the laptop is
the one to tell it. Each next hop gets a stand-in MAC address of its own, made of its IP address: so the MAC address
that an answer goes to names the next hop that the device has chosen for it, whether it asked for it now or remembers
it from a run before. It stands inside of ARP only: all frames come from the laptop's one MAC address, or a port that is
bound to one would shut. That is the control of every measurement: what a device looks for by itself meanwhile (a time
server that is not there) moves no answer.
"""

from dataclasses import dataclass
from enum import Enum, auto
from ipaddress import IPv4Address

from askport.core.addresses import MacAddress, address_of, host_fault_of
from askport.core.formats.arp import Arp, Op, arp_frame
from askport.core.formats.icmp import Icmp, IcmpType
from askport.core.formats.ipv4 import IPv4
from askport.core.formats.packet import STAYS_ON_LINK, Ends, Packet, ends_of, frame_between
from askport.core.formats.tcp import Tcp, TcpFlag
from askport.core.formats.udp import Udp

_STAND_IN = b"\x02\x41"
"""Locally administered (IEEE 802 clause 8.2), with the IP address behind it."""
_LOW_BITS = (1, 2, 5, 6, 9, 10, 13, 14, 17, 18, 21, 22, 25, 26, 33, 34)
"""Host bits of sources: the last two are 01 or 10, and so never all ones or all zeros, whatever the prefix."""
_FIRST_PORT = 49_152
"""Dynamic ports (RFC 6335 section 6)."""


def stand_in_mac(address: IPv4Address) -> MacAddress:
    """Return the MAC address that stands in for an address that nobody on the wire has."""
    return MacAddress(_STAND_IN + address.packed)


def stood_in_for(mac: MacAddress) -> IPv4Address | None:
    """Return the address that a MAC address stands in for, or None where it is somebody's own."""
    return address_of(mac[2:]) if mac[:2] == _STAND_IN else None


def sender_of(packet: Packet) -> IPv4Address | None:
    """Return the address that a frame was sent from, or None where it names none that a host can have."""
    arp, ipv4 = packet.get(Arp), packet.get(IPv4)
    sender = arp.spa if arp else ipv4.src if ipv4 else None
    return None if sender is None or host_fault_of(sender) else sender


def stand_in_answer(asked: Arp, laptop_mac: MacAddress) -> bytes:
    """Return the frame that tells a device a stand-in MAC address for whomever it asks for."""
    reply = Arp(op=Op.REPLY, sha=stand_in_mac(asked.tpa), spa=asked.tpa, tha=asked.sha, tpa=asked.spa)
    return arp_frame(reply, to=asked.sha, sent_by=laptop_mac)


class Kind(Enum):
    """Kinds of question; no one of them works on every stack."""

    ECHO = auto()
    TCP = auto()
    UDP = auto()


class Reaction(Enum):
    """What a device did with its answer."""

    INSIDE = auto()
    """It went straight to the source: the source is inside its subnet."""
    THROUGH = auto()
    """It went to another next hop, which is its gateway: the source is outside."""
    STRAIGHT = auto()
    """It went back to the laptop's own MAC address without any ARP."""
    TO_ALL = auto()
    """It went to everybody: the device takes the source for the broadcast address of its subnet."""
    SILENT = auto()
    """There was none."""


@dataclass(frozen=True, slots=True)
class Probe:
    """One question: how many leading bits its source shares with the device's address, and in which ways it is put."""

    shared: int
    kinds: tuple[Kind, ...]
    variant: int = 0
    """Which of the sources that share so many."""
    source: IPv4Address | None = None
    """The source itself, where it is a certain one."""


def source_sharing(address: IPv4Address, shared: int, variant: int = 0) -> IPv4Address | None:
    """Return a source that shares exactly this many leading bits with an address, or None where no more are left."""
    below = 31 - shared
    base = (int(address) >> below ^ 1) << below
    if below == 1:
        # Host bits 01 and 10 are the two that a /30 has room for.
        return IPv4Address(base | (base >> 1 & 1 ^ 1)) if variant == 0 else None
    lows = [each for each in _LOW_BITS if each < (1 << below) - 1]
    return IPv4Address(base | lows[variant]) if variant < len(lows) else None


def sources_sharing(address: IPv4Address, shared: int, seed: int) -> list[IPv4Address]:
    """Return all sources that share so many bits, beginning somewhere else for each seed."""
    found = [source_sharing(address, shared, variant) for variant in range(len(_LOW_BITS))]
    here = [each for each in found if each is not None]
    turn = seed % len(here) if here else 0
    return here[turn:] + here[:turn]


def broadcasts_of(address: IPv4Address, prefix: int) -> tuple[IPv4Address, IPv4Address]:
    """Return the broadcast address of an address's subnet, were it this long, and that of the subnet beside it."""
    ones = (1 << 32 - prefix) - 1
    own = int(address) | ones
    return IPv4Address(own), IPv4Address(own ^ (ones + 1))


def question_frame(
    laptop_mac: MacAddress, mac: MacAddress, address: IPv4Address, source: IPv4Address, kind: Kind, count: int,
    ttl: int = STAYS_ON_LINK,
) -> bytes:  # fmt: skip
    """Return a question from a source to a device; no router passes it on, unless its time to live says so."""
    ends = Ends(src_mac=laptop_mac, src=source, dst_mac=mac, dst=address)
    port = _port(source, count)
    messages: dict[Kind, Icmp | Tcp | Udp] = {
        Kind.ECHO: Icmp(type=IcmpType.ECHO, identifier=0x4150, sequence_number=count, data=b"askport " * 4),
        Kind.TCP: Tcp(src_port=port, dst_port=80, seq=port, flags=TcpFlag.SYN, window=1024),
        Kind.UDP: Udp(src_port=port, dst_port=33_434, payload=b"askport"),
    }
    return frame_between(ends, messages[kind], ttl)


def _port(source: IPv4Address, count: int) -> int:
    return _FIRST_PORT + (count + int(source)) % 16_000


def is_answer(packet: Packet, source: IPv4Address, count: int) -> bool:
    """Whether a packet to the source answers the question with this number."""
    icmp, tcp = packet.get(Icmp), packet.get(Tcp)
    if tcp:
        return tcp.dst_port == _port(source, count)
    if icmp and icmp.type == IcmpType.ECHO_REPLY:
        return icmp.sequence_number == count
    # What could not be delivered is quoted: an IP header without options, as it was sent, then the ports (RFC 792).
    return icmp is not None and icmp.data[20:22] == _port(source, count).to_bytes(2, "big")


def kind_of(answer: Packet) -> Kind:
    """Return the kind of question that this answers; a UDP one gets a word of ICMP (RFC 1122 section 4.1.3.1)."""
    icmp = answer.get(Icmp)
    if icmp is None:
        return Kind.TCP if answer.get(Tcp) else Kind.UDP
    return Kind.ECHO if icmp.type == IcmpType.ECHO_REPLY else Kind.UDP


def closing_frame(answer: Packet, laptop_mac: MacAddress) -> bytes | None:
    """Return what closes a port that has opened, so that nothing stays open at the device (RFC 9293 section 3.10.7)."""
    tcp, ends = answer.get(Tcp), ends_of(answer)
    if tcp is None or ends is None or not tcp.flags & TcpFlag.SYN:
        return None
    reset = Tcp(src_port=tcp.dst_port, dst_port=tcp.src_port, seq=tcp.ack, flags=TcpFlag.RST)
    return frame_between(ends.back._replace(src_mac=laptop_mac), reset)
