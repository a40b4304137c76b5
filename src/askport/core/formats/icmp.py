"""Internet Control Message Protocol (RFC 792)."""

from enum import IntEnum
from struct import Struct, pack
from typing import NamedTuple

from askport.core.formats import checksum, unreadable


class IcmpType(IntEnum):
    """Message types that this program uses."""

    ECHO_REPLY = 0
    DESTINATION_UNREACHABLE = 3
    ECHO = 8
    TIME_EXCEEDED = 11


_HEADER = Struct("!BBHHH")


class Icmp(NamedTuple):
    """One ICMP message; ``identifier`` and ``sequence_number`` have a meaning in echoes only."""

    type: int
    code: int = 0
    identifier: int = 0
    sequence_number: int = 0
    data: bytes = b""


def decode_icmp(data: bytes) -> Icmp | unreadable.Unreadable:
    """Read a message."""
    if len(data) < 8:
        return unreadable.Unreadable("ICMP", len(data), f"it has {len(data)} of at least 8 bytes")
    if checksum.internet_checksum(data):
        return unreadable.Unreadable("ICMP", 2, "its checksum is wrong")
    kind, code, _, identifier, sequence_number = _HEADER.unpack_from(data)
    return unreadable.made(Icmp, (kind, code, identifier, sequence_number, data[8:]))


def encode_icmp(message: Icmp) -> bytes:
    """Write a message with its checksum."""
    rest = pack("!HH", message.identifier, message.sequence_number) + message.data
    head = bytes((message.type, message.code))
    return head + checksum.internet_checksum(head + b"\0\0" + rest).to_bytes(2, "big") + rest
