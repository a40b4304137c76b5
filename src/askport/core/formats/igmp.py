"""Internet Group Management Protocol, versions 1 to 3 (RFC 1112, 2236, 3376)."""

from enum import IntEnum
from ipaddress import IPv4Address
from typing import NamedTuple

from askport.core.addresses import UNSPECIFIED, address_of
from askport.core.formats import checksum, unreadable

PROTOCOL_IGMP = 2
_MAX_RECORDS = 64


class IgmpType(IntEnum):
    """Message types (RFC 3376 section 4)."""

    QUERY = 0x11
    REPORT_V1 = 0x12
    REPORT_V2 = 0x16
    LEAVE = 0x17
    REPORT_V3 = 0x22


class Igmp(NamedTuple):
    """One message."""

    type: int
    groups: tuple[IPv4Address, ...] = ()
    """The group asked about, reported or left; several in a version 3 report, none in a general query."""
    max_response: int = 0
    """In tenths of a second, in queries."""


def decode_igmp(data: bytes) -> Igmp | unreadable.Unreadable:
    """Read a message."""
    if len(data) < 8:
        return unreadable.Unreadable("IGMP", len(data), f"it has {len(data)} of at least 8 bytes")
    if checksum.internet_checksum(data):
        return unreadable.Unreadable("IGMP", 2, "its checksum is wrong")
    groups: list[IPv4Address] = []
    if data[0] == IgmpType.REPORT_V3:
        at = 8
        for _ in range(min(int.from_bytes(data[6:8], "big"), _MAX_RECORDS)):
            if at + 8 > len(data):
                break
            groups.append(address_of(data[at + 4 : at + 8]))
            at += 8 + 4 * (int.from_bytes(data[at + 2 : at + 4], "big") + data[at + 1])
    elif data[4:8] != UNSPECIFIED.packed:
        groups.append(address_of(data[4:8]))
    return Igmp(type=data[0], groups=tuple(groups), max_response=data[1])


def encode_igmp(message: Igmp) -> bytes:
    """Write a message; the records of a version 3 report say that a group was joined."""
    if message.type == IgmpType.REPORT_V3:
        records = b"".join(bytes((4, 0, 0, 0)) + group.packed for group in message.groups)
        tail = bytes(2) + len(message.groups).to_bytes(2, "big") + records
    else:
        tail = (message.groups[0] if message.groups else UNSPECIFIED).packed
    head = bytes((message.type, message.max_response))
    return head + checksum.internet_checksum(head + b"\0\0" + tail).to_bytes(2, "big") + tail
