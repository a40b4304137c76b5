"""Transmission Control Protocol segments (RFC 9293), as far as asking whether a port opens needs them."""

from enum import IntFlag
from struct import Struct, pack
from typing import NamedTuple

from askport.core.addresses import Address
from askport.core.formats import checksum, ipv4, unreadable

_HEADER = Struct("!HHIIHH")
_END_OF_OPTIONS, _NO_OPERATION, _TIMESTAMPS = 0, 1, 8


class TcpFlag(IntFlag):
    """Control bits (RFC 9293 section 3.1)."""

    FIN = 1
    SYN = 2
    RST = 4
    ACK = 16


class Tcp(NamedTuple):
    """One segment."""

    src_port: int
    dst_port: int
    seq: int = 0
    ack: int = 0
    flags: int = 0
    window: int = 0
    options: bytes = b""
    payload: bytes = b""


def decode_tcp(data: bytes) -> Tcp | unreadable.Unreadable:
    """Read a segment; its checksum is left alone, as for UDP."""
    if len(data) < 20:
        return unreadable.Unreadable("TCP", len(data), f"it has {len(data)} of at least 20 bytes")
    src_port, dst_port, seq, ack, offset_flags, window = _HEADER.unpack_from(data)
    header = (offset_flags >> 12) * 4
    if not 20 <= header <= len(data):
        return unreadable.Unreadable("TCP", 12, f"a header of {header} bytes in a segment of {len(data)}")
    flags = offset_flags & 0x1FF
    return unreadable.made(Tcp, (src_port, dst_port, seq, ack, flags, window, data[20:header], data[header:]))


def encode_tcp(segment: Tcp, *, src: Address, dst: Address) -> bytes:
    """Write a segment with its checksum between these two addresses."""
    offset = (20 + len(segment.options)) // 4
    head = pack(
        "!HHIIHH",
        segment.src_port,
        segment.dst_port,
        segment.seq,
        segment.ack,
        offset << 12 | segment.flags,
        segment.window,
    )
    tail = b"\0\0" + segment.options + segment.payload
    covered = checksum.pseudo_header(src, dst, ipv4.PROTOCOL_TCP, len(head) + 2 + len(tail)) + head + b"\0\0" + tail
    return head + checksum.internet_checksum(covered).to_bytes(2, "big") + tail


def encode_timestamp(value: int) -> bytes:
    """Write the option that asks for the other end's timestamp (RFC 7323 section 3.2), padded to whole words."""
    return pack("!BBBBII", 1, 1, _TIMESTAMPS, 10, value, 0)


def timestamp_of(segment: Tcp) -> int | None:
    """Return the sender's timestamp, in ticks of its own (RFC 7323 section 3.2), or None where it sends none."""
    options, at = segment.options, 0
    while at < len(options) and options[at] != _END_OF_OPTIONS:
        length = 1 if options[at] == _NO_OPERATION else options[at + 1] if at + 1 < len(options) else 0
        if length < 1 or at + length > len(options) or (length < 2 and options[at] != _NO_OPERATION):
            return None
        if (options[at], length) == (_TIMESTAMPS, 10):
            return int.from_bytes(options[at + 2 : at + 6], "big")
        at += length
    return None
