"""ICMPv6 (RFC 4443) with neighbour discovery (RFC 4861) and multicast listener discovery (RFC 2710, 3810)."""

from enum import IntEnum
from ipaddress import IPv6Address
from typing import NamedTuple

from askport.core.formats.checksum import internet_checksum, pseudo_header
from askport.core.formats.unreadable import Unreadable, made

PROTOCOL_ICMPV6 = 58


class Icmpv6Type(IntEnum):
    """Message types that this program uses."""

    ECHO = 128
    ECHO_REPLY = 129
    LISTENER_QUERY = 130
    LISTENER_REPORT = 131
    ROUTER_SOLICITATION = 133
    ROUTER_ADVERTISEMENT = 134
    NEIGHBOUR_SOLICITATION = 135
    NEIGHBOUR_ADVERTISEMENT = 136
    LISTENER_REPORT_V2 = 143


class Icmpv6(NamedTuple):
    """One message."""

    type: int
    code: int = 0
    body: bytes = b""
    """Everything behind the checksum."""

    @property
    def target(self) -> IPv6Address | None:
        """The address that a neighbour solicitation or advertisement is about (RFC 4861 section 4.3, 4.4)."""
        if self.type not in (Icmpv6Type.NEIGHBOUR_SOLICITATION, Icmpv6Type.NEIGHBOUR_ADVERTISEMENT):
            return None
        return IPv6Address(self.body[4:20]) if len(self.body) >= 20 else None


def decode_icmpv6(data: bytes) -> Icmpv6 | Unreadable:
    """Read a message; its checksum, which covers the addresses too, is left alone."""
    if len(data) < 4:
        return Unreadable("ICMPv6", len(data), f"it has {len(data)} of at least 4 bytes")
    return made(Icmpv6, (data[0], data[1], data[4:]))


def encode_icmpv6(message: Icmpv6, *, src: IPv6Address, dst: IPv6Address) -> bytes:
    """Write a message with its checksum between these two addresses (RFC 4443 section 2.3)."""
    head, size = bytes((message.type, message.code)), 4 + len(message.body)
    pseudo = pseudo_header(src, dst, PROTOCOL_ICMPV6, size)
    checksum = internet_checksum(pseudo + head + b"\0\0" + message.body)
    return head + checksum.to_bytes(2, "big") + message.body
