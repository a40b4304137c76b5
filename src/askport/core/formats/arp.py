"""Address Resolution Protocol for IPv4 over Ethernet (RFC 826, RFC 5227)."""

from enum import IntEnum
from ipaddress import IPv4Address
from struct import pack
from typing import NamedTuple

from askport.core.addresses import BROADCAST_MAC, NO_MAC, UNSPECIFIED, MacAddress, address_of, mac_of
from askport.core.formats.ethernet import ETHERTYPE_ARP, ETHERTYPE_IPV4, Ethernet, encode_ethernet
from askport.core.formats.unreadable import Unreadable, made

_ETHERNET_AND_IPV4 = pack("!HHBB", 1, ETHERTYPE_IPV4, 6, 4)
"""Hardware and protocol with the sizes of their addresses: this is read for no others."""
_SIZE = 28


class Op(IntEnum):
    """Operation codes (RFC 826)."""

    REQUEST = 1
    REPLY = 2


class Arp(NamedTuple):
    """One ARP packet."""

    op: int
    sha: MacAddress
    """Sender hardware address."""
    spa: IPv4Address
    """Sender protocol address; 0.0.0.0 in a probe (RFC 5227 section 1.1)."""
    tha: MacAddress
    tpa: IPv4Address

    @property
    def is_probe(self) -> bool:
        """Whether it asks if anyone holds an address that the sender means to take (RFC 5227 section 2.1.1)."""
        return self.op == Op.REQUEST and self.spa == UNSPECIFIED

    @property
    def is_announcement(self) -> bool:
        """Whether the sender says which address it has just taken (RFC 5227 section 2.3)."""
        return self.spa == self.tpa and self.spa != UNSPECIFIED


def decode_arp(data: bytes) -> Arp | Unreadable:
    """Read an ARP packet; what follows its 28 bytes is padding."""
    if len(data) < _SIZE:
        return Unreadable("ARP", len(data), f"it has {len(data)} of {_SIZE} bytes")
    if data[:6] != _ETHERNET_AND_IPV4:
        return Unreadable("ARP", 0, "it is not about IPv4 over Ethernet")
    return made(
        Arp,
        (
            data[6] << 8 | data[7],
            mac_of(data[8:14]),
            address_of(data[14:18]),
            mac_of(data[18:24]),
            address_of(data[24:28]),
        ),
    )


def encode_arp(arp: Arp) -> bytes:
    """Write an ARP packet."""
    return _ETHERNET_AND_IPV4 + pack("!H", arp.op) + arp.sha + arp.spa.packed + arp.tha + arp.tpa.packed


def arp_frame(arp: Arp, *, to: MacAddress = BROADCAST_MAC, sent_by: MacAddress | None = None) -> bytes:
    """Return a whole frame with this ARP packet: from its sender, or from one that answers for another."""
    source = sent_by or arp.sha
    return encode_ethernet(Ethernet(dst=to, src=source, ethertype=ETHERTYPE_ARP, payload=encode_arp(arp)))


def arp_question(
    asker: MacAddress, target: IPv4Address, *, sender: IPv4Address = UNSPECIFIED, to: MacAddress = BROADCAST_MAC
) -> bytes:
    """Return a question who holds ``target``: of everybody, or of one device at its own MAC address.

    With the unspecified sender it is a probe, which no stack takes as a claim and every stack answers; but to a
    device that is just probing the same address it is a conflict (RFC 5227 section 2.1.1).
    """
    return arp_frame(Arp(op=Op.REQUEST, sha=asker, spa=sender, tha=NO_MAC, tpa=target), to=to)
