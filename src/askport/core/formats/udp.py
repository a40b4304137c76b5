"""User Datagram Protocol (RFC 768)."""

from struct import Struct, pack
from typing import NamedTuple

from askport.core.addresses import Address
from askport.core.formats import ipv4, unreadable
from askport.core.formats.checksum import internet_checksum, pseudo_header

_HEADER = Struct("!HHH")


class Udp(NamedTuple):
    """One datagram."""

    src_port: int
    dst_port: int
    payload: bytes


def decode_udp(data: bytes) -> Udp | unreadable.Unreadable:
    """Read a datagram.

    The checksum is left alone: many small senders leave it out or wrong, and every frame has passed the
    check sequence of Ethernet.
    """
    if len(data) < 8:
        return unreadable.Unreadable("UDP", len(data), f"it has {len(data)} of at least 8 bytes")
    src_port, dst_port, length = _HEADER.unpack_from(data)
    if not 8 <= length <= len(data):
        return unreadable.Unreadable("UDP", 4, f"it claims {length} bytes and has {len(data)}")
    return unreadable.made(Udp, (src_port, dst_port, data[8:length]))


def encode_udp(datagram: Udp, *, src: Address, dst: Address) -> bytes:
    """Write a datagram with its checksum between these two addresses."""
    length = 8 + len(datagram.payload)
    head = pack("!HHH", datagram.src_port, datagram.dst_port, length)
    covered = pseudo_header(src, dst, ipv4.PROTOCOL_UDP, length) + head + b"\0\0" + datagram.payload
    checksum = internet_checksum(covered) or 0xFFFF
    return head + checksum.to_bytes(2, "big") + datagram.payload
