"""Internet Protocol version 6 (RFC 8200)."""

from functools import lru_cache
from ipaddress import IPv6Address
from struct import pack, unpack_from
from typing import NamedTuple

from askport.core.addresses import MacAddress
from askport.core.formats.ethernet import Ethernet, encode_ethernet
from askport.core.formats.unreadable import Unreadable, made

ETHERTYPE_IPV6 = 0x86DD
ALL_NODES = IPv6Address("ff02::1")
_HEADER = 40
_WALKED = frozenset({0, 43, 60})
"""Extension headers that say how long they are and what follows: hop-by-hop, routing, destination options."""
_MAX_EXTENSIONS = 8


class IPv6(NamedTuple):
    """One IPv6 packet."""

    src: IPv6Address
    dst: IPv6Address
    next_header: int
    """Of the payload, behind all extension headers."""
    payload: bytes
    hop_limit: int = 64
    extensions: tuple[tuple[int, bytes], ...] = ()
    """Kind of each extension header, and its bytes behind the next-header field, which says what follows."""


@lru_cache(maxsize=4096)
def _address_of(packed: bytes) -> IPv6Address:
    """Return the address in sixteen bytes; those on a wire are few, and each is made once."""
    return IPv6Address(packed)


def decode_ipv6(data: bytes) -> IPv6 | Unreadable:
    """Read a packet; bytes after its payload length are padding."""
    if len(data) < _HEADER:
        return Unreadable("IPv6", len(data), f"it has {len(data)} of at least {_HEADER} bytes")
    first, length, kind, hop_limit = unpack_from("!IHBB", data)
    if first >> 28 != 6:
        return Unreadable("IPv6", 0, f"its version is {first >> 28}")
    end = _HEADER + length
    if end > len(data):
        return Unreadable("IPv6", 4, f"it claims {end} bytes and has {len(data)}")
    at = _HEADER
    extensions: list[tuple[int, bytes]] = []
    while kind in _WALKED:
        if at + 8 > end or len(extensions) == _MAX_EXTENSIONS:
            return Unreadable("IPv6", at, "its extension headers do not end")
        size = (data[at + 1] + 1) * 8
        if at + size > end:
            return Unreadable("IPv6", at, "an extension header runs over the end")
        extensions.append((kind, data[at + 1 : at + size]))
        kind, at = data[at], at + size
    return made(
        IPv6, (_address_of(data[8:24]), _address_of(data[24:40]), kind, data[at:end], hop_limit, tuple(extensions))
    )


def encode_ipv6(packet: IPv6) -> bytes:
    """Write a packet."""
    kinds = [kind for kind, _ in packet.extensions] + [packet.next_header]
    chain = b"".join(
        bytes((following,)) + raw for following, (_, raw) in zip(kinds[1:], packet.extensions, strict=True)
    )
    length = len(chain) + len(packet.payload)
    head = pack("!IHBB", 6 << 28, length, kinds[0], packet.hop_limit)
    return head + packet.src.packed + packet.dst.packed + chain + packet.payload


def ipv6_frame(packet: IPv6, *, src: MacAddress, dst: MacAddress | None = None) -> bytes:
    """Return a whole frame with this packet: to a MAC address, or to the group that it is for (RFC 2464 section 7)."""
    dst = dst or MacAddress(b"\x33\x33" + packet.dst.packed[12:])
    return encode_ethernet(Ethernet(dst=dst, src=src, ethertype=ETHERTYPE_IPV6, payload=encode_ipv6(packet)))


def link_local(mac: MacAddress) -> IPv6Address:
    """Return the link-local address that is made from a MAC address (RFC 4291 appendix A)."""
    return IPv6Address(b"\xfe\x80" + bytes(6) + bytes((mac[0] ^ 2,)) + mac[1:3] + b"\xff\xfe" + mac[3:])
