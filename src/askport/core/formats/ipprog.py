"""Art-Net 4 ArtIpProg and its reply: a node's address is asked for and programmed."""

from ipaddress import IPv4Address
from typing import NamedTuple

from askport.core.addresses import UNSPECIFIED
from askport.core.formats.unreadable import Unreadable

_HEAD = b"Art-Net\0"
_PROGRAM, _REPLY, _VERSION = 0xF800, 0xF900, 14
ASK, SET, SET_WITH_GATEWAY = 0x00, 0x86, 0x96
"""Commands: bit 7 programs at all, bit 4 the gateway, bit 2 the address, bit 1 the mask; without bit 7 it only asks."""
_DHCP = 0x40


class IpProg(NamedTuple):
    """One packet of either kind."""

    is_reply: bool
    address: IPv4Address = UNSPECIFIED
    mask: IPv4Address = UNSPECIFIED
    gateway: IPv4Address = UNSPECIFIED
    command: int = ASK
    by_dhcp: bool = False
    """Whether the node takes its address by DHCP, in a reply."""


def encode_ip_prog(packet: IpProg) -> bytes:
    """Write a packet."""
    op = _REPLY if packet.is_reply else _PROGRAM
    head = _HEAD + op.to_bytes(2, "little") + bytes((0, _VERSION, 0, 0, 0 if packet.is_reply else packet.command, 0))
    status = bytes((_DHCP if packet.by_dhcp else 0, 0)) if packet.is_reply else b""
    told = packet.address.packed + packet.mask.packed + bytes(2) + status + packet.gateway.packed
    return (head + told).ljust(36 if packet.is_reply else 34, b"\0")


def decode_ip_prog(data: bytes) -> IpProg | Unreadable:
    """Read a packet; one of another kind is unreadable as this."""
    op = int.from_bytes(data[8:10], "little")
    if data[:8] != _HEAD or op not in (_PROGRAM, _REPLY):
        return Unreadable("Art-Net", 0, "it is neither ArtIpProg nor its reply")
    if len(data) < 32:
        return Unreadable("Art-Net", len(data), f"it has {len(data)} of at least 32 bytes")
    is_reply = op == _REPLY
    at = 28 if is_reply else 26
    address, mask, gateway = (IPv4Address(data[place : place + 4]) for place in (16, 20, at))
    by_dhcp = is_reply and bool(data[26] & _DHCP)
    return IpProg(is_reply, address, mask, gateway, 0 if is_reply else data[14], by_dhcp)
