"""Capture files: pcap (draft-ietf-opsawg-pcap) and pcapng (draft-ietf-opsawg-pcapng), read and written.

Readers yield frames one by one and stop in front of a broken end; writers return blocks of pcapng.
"""

from collections.abc import Iterator, Sequence
from struct import pack, unpack_from
from typing import NamedTuple

from askport.core.errors import BadInput

LINKTYPE_ETHERNET, LINKTYPE_COOKED, LINKTYPE_COOKED2 = 1, 113, 276
"""Ethernet, and what Linux writes of all adapters at once: "cooked", whose header has the sender's address only."""
_READABLE = frozenset({LINKTYPE_ETHERNET, LINKTYPE_COOKED, LINKTYPE_COOKED2})
_ARPHRD_ETHER = 1
_TO_ALL, _TO_GROUP = 1, 2
"""Types of packets in a cooked header; of others it is not known to whom they went."""
_PCAP = {
    b"\xd4\xc3\xb2\xa1": ("<", 1e-6),
    b"\xa1\xb2\xc3\xd4": (">", 1e-6),
    b"\x4d\x3c\xb2\xa1": ("<", 1e-9),
    b"\xa1\xb2\x3c\x4d": (">", 1e-9),
}
"""Magic number to byte order and unit of the fraction of a second."""
_SECTION = 0x0A0D0D0A
_INTERFACE, _PACKET, _SIMPLE, _ENHANCED = 1, 2, 3, 6
_ORDER = {b"\x4d\x3c\x2b\x1a": "<", b"\x1a\x2b\x3c\x4d": ">"}
_MAX_CAPTURED = 262_144
"""Bytes of one frame that any tool writes."""
_MAX_BLOCK = 1 << 24
_MAX_INTERFACES = 4096
_TSRESOL, _END_OF_OPTIONS = 9, 0
_COMMENT, _FLAGS = 1, 2
INBOUND, OUTBOUND = 1, 2
"""Direction of a frame in its flags (section 4.3.1)."""


class Captured(NamedTuple):
    """One frame of a file."""

    at: float
    """Seconds since 1970 (UTC); 0 where the file does not say."""
    data: bytes
    whole: bool
    """Whether none of it was cut off when it was captured."""


def read_capture(data: bytes) -> Iterator[Captured]:
    """Yield the Ethernet frames of a capture file.

    Raises:
        BadInput: it is neither pcap nor pcapng, or holds no Ethernet.
    """
    magic = data[:4]
    if magic in _PCAP:
        return _read_pcap(data, *_PCAP[magic])
    if len(data) >= 12 and unpack_from(">I", data)[0] == _SECTION and data[8:12] in _ORDER:
        return _read_pcapng(data)
    raise BadInput("it is neither a pcap nor a pcapng file")


def _read_pcap(data: bytes, order: str, unit: float) -> Iterator[Captured]:
    if len(data) < 24:
        raise BadInput("its header is cut off")
    link_type = unpack_from(order + "I", data, 20)[0] & 0xFFFF
    if link_type not in _READABLE:
        raise BadInput(f"it holds frames of link type {link_type}: only Ethernet and Linux cooked ones can be read")
    at = 24
    while at + 16 <= len(data):
        seconds, fraction, size, length = unpack_from(order + "IIII", data, at)
        at += 16
        if size > _MAX_CAPTURED or at + size > len(data) or not length:
            return  # a record of nothing is no frame, but a hole in the file
        if (frame := _as_ethernet(link_type, data[at : at + size])) is not None:
            yield Captured(seconds + fraction * unit, frame, size >= length)
        at += size


def _read_pcapng(data: bytes) -> Iterator[Captured]:
    order, at = "<", 0
    interfaces: list[tuple[int, float]] = []
    while at + 12 <= len(data):
        if unpack_from(">I", data, at)[0] == _SECTION:
            if data[at + 8 : at + 12] not in _ORDER:
                return
            order, interfaces = _ORDER[data[at + 8 : at + 12]], []
        kind, size = unpack_from(order + "II", data, at)
        if size < 12 or size % 4 or size > _MAX_BLOCK or at + size > len(data):
            return
        body = data[at + 8 : at + size - 4]
        if kind == _INTERFACE and len(body) >= 8 and len(interfaces) < _MAX_INTERFACES:
            interfaces.append((unpack_from(order + "H", body)[0], _resolution(body[8:], order)))
        elif captured := _frame(kind, body, order, interfaces):
            yield captured
        at += size


def _frame(kind: int, body: bytes, order: str, interfaces: Sequence[tuple[int, float]]) -> Captured | None:
    if kind in (_ENHANCED, _PACKET) and len(body) >= 20:
        number = unpack_from(order + ("I" if kind == _ENHANCED else "H"), body)[0]
        high, low, size, length = unpack_from(order + "IIII", body, 4)
        start = 20
    elif kind == _SIMPLE and len(body) >= 4:
        number, high, low, start = 0, 0, 0, 4
        length = unpack_from(order + "I", body)[0]
        size = min(length, len(body) - 4)
    else:
        return None
    if number >= len(interfaces) or start + size > len(body) or size > _MAX_CAPTURED:
        return None
    link_type, unit = interfaces[number]
    frame = _as_ethernet(link_type, body[start : start + size])
    return Captured((high << 32 | low) * unit, frame, size >= length) if frame is not None else None


def _as_ethernet(link_type: int, data: bytes) -> bytes | None:
    """Return a frame as Ethernet has it, or None where it came from another kind of adapter.

    A cooked header does not say to whom a packet went, only whether to all or to a group (LINKTYPE_LINUX_SLL and SLL2).
    """
    if link_type == LINKTYPE_ETHERNET:
        return data
    if link_type == LINKTYPE_COOKED and len(data) >= 16:
        kind, hardware, size, address, protocol = *unpack_from(">HHH", data), data[6:12], data[14:16]
        payload = data[16:]
    elif link_type == LINKTYPE_COOKED2 and len(data) >= 20:
        protocol, hardware = data[:2], int(unpack_from(">H", data, 8)[0])
        kind, size, address = data[10], data[11], data[12:18]
        payload = data[20:]
    else:
        return None
    if hardware != _ARPHRD_ETHER or size != 6:
        return None
    to = {_TO_ALL: b"\xff" * 6, _TO_GROUP: b"\x01" + bytes(5)}.get(kind, bytes(6))
    return to + address + protocol + payload


def _resolution(options: bytes, order: str) -> float:
    """Return seconds in a unit of time, microseconds unless an option says otherwise (section 4.2)."""
    at = 0
    while at + 4 <= len(options):
        code, size = unpack_from(order + "HH", options, at)
        if code == _END_OF_OPTIONS:
            break
        if code == _TSRESOL and size >= 1 and at + 4 < len(options):
            exponent = options[at + 4]
            return 2.0 ** -(exponent & 0x7F) if exponent & 0x80 else 10.0**-exponent
        at += 4 + size + -size % 4
    return 1e-6


def _block(kind: int, body: bytes) -> bytes:
    size = 12 + len(body)
    return pack("<II", kind, size) + body + pack("<I", size)


def _option(code: int, value: bytes) -> bytes:
    return pack("<HH", code, len(value)) + value + bytes(-len(value) % 4)


def pcapng_start() -> bytes:
    """Return the blocks that a pcapng file begins with: a section, and one Ethernet interface in nanoseconds."""
    section = _block(_SECTION, pack("<IHHq", 0x1A2B3C4D, 1, 0, -1))
    options = _option(_TSRESOL, b"\x09") + _option(_END_OF_OPTIONS, b"")
    return section + _block(_INTERFACE, pack("<HHI", LINKTYPE_ETHERNET, 0, 0) + options)


def pcapng_frame(at: float, data: bytes, *, outbound: bool = False, comment: str = "") -> bytes:
    """Return the block of one frame; ``at`` is in seconds since 1970 (UTC)."""
    stamp = max(0, round(at * 1e9))
    head = pack("<IIIII", 0, stamp >> 32, stamp & 0xFFFF_FFFF, len(data), len(data))
    options = _option(_COMMENT, comment.encode()) if comment else b""
    options += _option(_FLAGS, pack("<I", OUTBOUND if outbound else INBOUND)) + _option(_END_OF_OPTIONS, b"")
    return _block(_ENHANCED, head + data + bytes(-len(data) % 4) + options)
