"""Ethernet II and IEEE 802.3 frames with IEEE 802.1Q tags."""

from functools import lru_cache
from struct import pack
from typing import NamedTuple

from askport.core.addresses import MacAddress, mac_of
from askport.core.formats.unreadable import Unreadable, made

ETHERTYPE_IPV4 = 0x0800
ETHERTYPE_ARP = 0x0806
MIN_FRAME_SIZE = 60
"""Bytes of the shortest frame without its check sequence; shorter ones are padded (IEEE 802.3 clause 3.2.7)."""

_TAG_TYPES = frozenset({0x8100, 0x88A8})
_MAX_TAGS = 4
"""Two are standard (802.1ad); more than four is nobody's network."""
_MAX_LENGTH_FIELD = 1500


class Ethernet(NamedTuple):
    """One frame without preamble and check sequence."""

    dst: MacAddress
    src: MacAddress
    ethertype: int | None
    """None for an 802.3 frame, whose type field is a length."""
    payload: bytes
    """Includes the padding of a short frame, except in 802.3 frames, which say their length."""
    tags: tuple[int, ...] = ()
    """Tag control information of each 802.1Q tag, outermost first: priority, drop bit and VLAN in 16 bits."""

    @property
    def vlan(self) -> int | None:
        """The outermost VLAN identifier, or None in an untagged frame."""
        return self.tags[0] & 0xFFF if self.tags else None


def decode_ethernet(data: bytes) -> Ethernet | Unreadable:
    """Read a frame."""
    if len(data) < 14:
        return Unreadable("Ethernet", len(data), "the frame is shorter than its 14-byte header")
    dst, src, kind = _header_of(data[:14])
    if kind > _MAX_LENGTH_FIELD and kind not in _TAG_TYPES:
        return made(Ethernet, (dst, src, kind, data[14:], ()))
    at, end = 14, len(data)
    ethertype: int | None = kind
    tags: tuple[int, ...] = ()
    while kind in _TAG_TYPES:
        if len(tags) == _MAX_TAGS:
            return Unreadable("802.1Q", at - 2, f"more than {_MAX_TAGS} tags")
        if end < at + 4:
            return Unreadable("802.1Q", end, "the frame ends inside a tag")
        tags += (data[at] << 8 | data[at + 1],)
        ethertype = kind = data[at + 2] << 8 | data[at + 3]
        at += 4
    if kind <= _MAX_LENGTH_FIELD:
        if kind > end - at:
            return Unreadable("802.3", at - 2, f"it claims {kind} bytes and has {end - at}")
        ethertype, end = None, at + kind
    return made(Ethernet, (dst, src, ethertype, data[at:end], tags))


@lru_cache(maxsize=4096)
def _header_of(packed: bytes) -> tuple[MacAddress, MacAddress, int]:
    """Return destination, source and type; a wire has few, and each is read once."""
    return mac_of(packed[0:6]), mac_of(packed[6:12]), packed[12] << 8 | packed[13]


def encode_ethernet(frame: Ethernet) -> bytes:
    """Write a frame, padded to the minimum size with zeros."""
    kind = len(frame.payload) if frame.ethertype is None else frame.ethertype
    tags = b"".join(pack("!HH", 0x8100, tag) for tag in frame.tags)
    return (frame.dst + frame.src + tags + pack("!H", kind) + frame.payload).ljust(MIN_FRAME_SIZE, b"\0")
