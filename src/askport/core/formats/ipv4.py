"""Internet Protocol version 4 (RFC 791)."""

from ipaddress import IPv4Address
from struct import Struct, pack
from typing import NamedTuple

from askport.core.addresses import MacAddress, addresses_of
from askport.core.formats.checksum import internet_checksum
from askport.core.formats.ethernet import ETHERTYPE_IPV4, Ethernet, encode_ethernet
from askport.core.formats.unreadable import Unreadable, made

PROTOCOL_ICMP = 1
PROTOCOL_TCP = 6
PROTOCOL_UDP = 17
_MIN_HEADER = 20
_HEADER = Struct("!BBHHHBB")


class IPv4(NamedTuple):
    """One IPv4 packet."""

    src: IPv4Address
    dst: IPv4Address
    protocol: int
    payload: bytes
    ttl: int = 64
    tos: int = 0
    identification: int = 0
    flags: int = 0
    """Three bits: reserved, don't fragment, more fragments."""
    fragment_offset: int = 0
    """In units of eight bytes; only offset 0 carries the header of the next protocol."""
    options: bytes = b""
    """A multiple of four bytes, 40 at the most."""

    @property
    def is_fragment(self) -> bool:
        """Whether it does not hold the whole message, so that what it carries is not read (section 3.2)."""
        return bool(self.fragment_offset or self.flags & 1)


def decode_ipv4(data: bytes) -> IPv4 | Unreadable:
    """Read a packet; bytes after its total length are padding."""
    if len(data) < _MIN_HEADER:
        return Unreadable("IPv4", len(data), f"it has {len(data)} of at least {_MIN_HEADER} bytes")
    first, tos, total, identification, fragment, ttl, protocol = _HEADER.unpack_from(data)
    header = (first & 15) * 4
    if first >> 4 != 4:
        return Unreadable("IPv4", 0, f"its version is {first >> 4}")
    if not _MIN_HEADER <= header <= total:
        return Unreadable("IPv4", 0, f"a header of {header} bytes in a packet of {total}")
    if total > len(data):
        return Unreadable("IPv4", 2, f"it claims {total} bytes and has {len(data)}")
    # What is left of a right one's sum is nothing (RFC 1071). None at all is what a host's own capture holds of the
    # packets whose checksum it leaves to its adapter.
    if int.from_bytes(data[:header], "big") % 0xFFFF and data[10:12] != b"\0\0":
        return Unreadable("IPv4", 10, "its header checksum is wrong")
    src, dst = addresses_of(data[12:20])
    return made(
        IPv4,
        (
            src,
            dst,
            protocol,
            data[header:total],
            ttl,
            tos,
            identification,
            fragment >> 13,
            fragment & 0x1FFF,
            data[_MIN_HEADER:header],
        ),
    )


def encode_ipv4(packet: IPv4) -> bytes:
    """Write a packet with its checksum."""
    header = _MIN_HEADER + len(packet.options)
    fixed = pack(
        "!BBHHHBB",
        4 << 4 | header // 4,
        packet.tos,
        header + len(packet.payload),
        packet.identification,
        packet.flags << 13 | packet.fragment_offset,
        packet.ttl,
        packet.protocol,
    )
    addresses = packet.src.packed + packet.dst.packed + packet.options
    checksum = internet_checksum(fixed + addresses)
    return fixed + checksum.to_bytes(2, "big") + addresses + packet.payload


def ipv4_frame(packet: IPv4, *, src: MacAddress, dst: MacAddress) -> bytes:
    """Return a whole frame with this packet."""
    return encode_ethernet(Ethernet(dst=dst, src=src, ethertype=ETHERTYPE_IPV4, payload=encode_ipv4(packet)))
