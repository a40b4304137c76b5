"""CIP over EtherNet/IP on TCP: sessions, unconnected requests, and the TCP/IP Interface object.

CIP volume 1 (requests, general status), volume 2 (encapsulation section 2-3, TCP/IP Interface object section 5-4).
"""

import re
from enum import IntEnum
from ipaddress import IPv4Address
from struct import Struct, pack, unpack_from
from typing import NamedTuple

from askport.core import addresses, errors
from askport.core.formats.unreadable import Unreadable
from askport.core.text import display_text

_HEADER = Struct("<HHII8sI")
_MAX_BODY = 4_096
_TCP_IP_INTERFACE = 0xF5
_UNCONNECTED = 0xB2
_MAX_ITEMS = 8


class Command(IntEnum):
    """Encapsulation commands (volume 2 table 2-3.2)."""

    REGISTER_SESSION = 0x65
    SEND_RR_DATA = 0x6F


class CipService(IntEnum):
    """Common services (volume 1 appendix A)."""

    GET = 0x0E
    SET = 0x10


class Attribute(IntEnum):
    """Of the TCP/IP Interface object (volume 2 table 5-4.2)."""

    STATUS = 1
    CAPABILITY = 2
    CONTROL = 3
    CONFIGURATION = 5
    HOST_NAME = 6


SETTABLE, RESET_NEEDED = 0x10, 0x40
"""Capability bits 4 and 6: the configuration can be set; it is used after a reset only."""
FROM_SWITCHES = 2
"""Interface status, low nibble: the configuration comes from hardware settings."""
PENDING = 0x20
"""Status bit 5: a new configuration waits for a reset."""
STATIC, BOOTP, DHCP = 0, 1, 2
"""Configuration control, low nibble."""
METHOD, DNS_ENABLED = 0x0F, 0x10

_MAX_HOST_NAME = 64
_LABEL = re.compile(r"(?!-)[A-Za-z0-9-]{1,63}(?<!-)")
STATUS = {
    0x01: "a connection on the way to it failed",
    0x02: "it has no room for the request now",
    0x03: "a value in the request is none that it knows",
    0x04: "it does not understand whom the request is for",
    0x05: "it has no TCP/IP Interface object",
    0x06: "its answer does not fit into one message",
    0x07: "the connection was lost",
    0x08: "it does not offer this service",
    0x09: "it takes no such value",
    0x0A: "one of the attributes is in error",
    0x0B: "it is so already",
    0x0C: "it will not now, in the state that it is in: its configuration control may not be static yet",
    0x0D: "that is there already",
    0x0E: "this can only be read",
    0x0F: "it does not permit that: a password or a switch on the device may protect it",
    0x10: "the device is in a state in which it will not: it may be in operation",
    0x11: "its answer is too large",
    0x12: "it splits a value that cannot be split",
    0x13: "the request has too little data",
    0x14: "it does not have this attribute",
    0x15: "the request has too much data",
    0x16: "it has no TCP/IP Interface object",
    0x17: "it is not in the right part of a longer exchange",
    0x18: "it has not stored the data",
    0x19: "it could not store the data",
    0x1A: "the request is too large for the way to it",
    0x1B: "the answer is too large for the way to it",
    0x1C: "a value that belongs to it is missing",
    0x1D: "it ends a list with an error",
    0x1E: "a request inside the request failed",
    0x1F: "it refuses for reasons of its maker's own",
    0x20: "a parameter is none that it takes",
    0x21: "it was written already, and is written once only",
    0x22: "its answer is none that was expected",
    0x25: "a key in the path does not fit it",
    0x26: "the length of the path is wrong",
    0x27: "an attribute was named that it did not expect",
    0x28: "a number is none of its members",
    0x29: "the member can only be read",
    0x2A: "it is reached over another network only",
}
"""What a general status means (volume 1 appendix B), as the end of a sentence."""
ENCAPSULATION_STATUS = {
    0x01: "it does not know this command",
    0x02: "it has no room for a session now",
    0x03: "it does not understand the data",
    0x64: "it does not know the session any more",
    0x65: "the length was wrong",
    0x69: "it speaks another revision of the protocol",
}
"""What an encapsulation status means (volume 2 table 2-3.3), as the end of a sentence."""


class Encapsulated(NamedTuple):
    """One message on the connection."""

    command: int
    session: int
    status: int
    body: bytes

    @property
    def reply(self) -> "Reply | None":
        """The answer to an unconnected request (common packet format, volume 2 section 2-6), or None."""
        if self.command != Command.SEND_RR_DATA or len(self.body) < 8:
            return None
        count, at = int(unpack_from("<H", self.body, 6)[0]), 8
        for _ in range(min(count, _MAX_ITEMS)):
            if at + 4 > len(self.body):
                return None
            kind, size = unpack_from("<HH", self.body, at)
            data = self.body[at + 4 : at + 4 + size]
            at += 4 + size
            if kind == _UNCONNECTED and len(data) >= 4 and len(data) == size:
                return Reply(data[0] & 0x7F, data[2], data[4 + 2 * data[3] :])
        return None


class Reply(NamedTuple):
    """What an object answered."""

    service: int
    status: int
    """General status; 0 is success."""
    data: bytes


class Configuration(NamedTuple):
    """Interface configuration: attribute 5. All numbers in it are little-endian, addresses too."""

    address: IPv4Address
    mask: IPv4Address
    gateway: IPv4Address = addresses.UNSPECIFIED
    dns: tuple[IPv4Address, IPv4Address] = (addresses.UNSPECIFIED, addresses.UNSPECIFIED)
    domain: bytes = b""


def take_message(stream: bytes) -> tuple[Encapsulated | None, bytes] | Unreadable:
    """Take the first whole message off a stream; return it, or None where it is not whole yet, and what is left."""
    if len(stream) < _HEADER.size:
        return None, stream
    command, length, session, status, _, _ = _HEADER.unpack_from(stream)
    if length > _MAX_BODY:
        return Unreadable("EtherNet/IP", 2, f"it claims {length} bytes")
    end = _HEADER.size + length
    if len(stream) < end:
        return None, stream
    return Encapsulated(command, session, status, stream[_HEADER.size : end]), stream[end:]


def encapsulate(command: int, session: int, body: bytes, status: int = 0) -> bytes:
    """Write a message."""
    return _HEADER.pack(command, len(body), session, status, b"askport\0", 0) + body


def register_session() -> bytes:
    """Return the request for a session (volume 2 section 2-4.4)."""
    return encapsulate(Command.REGISTER_SESSION, 0, pack("<HH", 1, 0))


def unconnected(session: int, data: bytes) -> bytes:
    """Wrap a request, or an answer, as an unconnected message."""
    return encapsulate(Command.SEND_RR_DATA, session, pack("<IHHHHHH", 0, 5, 2, 0, 0, _UNCONNECTED, len(data)) + data)


def interface_request(service: int, attribute: int, data: bytes = b"") -> bytes:
    """Return a request to the first TCP/IP Interface object (path: class, instance, attribute)."""
    return bytes((service, 3, 0x20, _TCP_IP_INTERFACE, 0x24, 1, 0x30, attribute)) + data


def encode_host_name(text: str) -> bytes:
    """Write a host name as a string with its length, padded to an even number of bytes (volume 2 section 5-4.3.2.6).

    Raises:
        BadInput: it is none (RFC 1123 section 2.1).
    """
    if len(text) > _MAX_HOST_NAME or not all(_LABEL.fullmatch(each) for each in text.split(".")):
        fault = f"up to {_MAX_HOST_NAME} of a to z, 0 to 9 and hyphens between them, such as valves-3"
        raise errors.BadInput(f"'{display_text(text, 60)}' is no host name: {fault}.")
    name = text.encode("ascii")
    return pack("<H", len(name)) + name + bytes(len(name) % 2)


def decode_configuration(data: bytes) -> Configuration | Unreadable:
    """Read attribute 5."""
    if len(data) < 22:
        return Unreadable("CIP", len(data), f"its configuration has {len(data)} of at least 22 bytes")
    address, mask, gateway, *dns = (IPv4Address(number) for number in unpack_from("<5I", data))
    size = int(unpack_from("<H", data, 20)[0])
    return Configuration(address, mask, gateway, (dns[0], dns[1]), data[22 : 22 + size])


def encode_configuration(value: Configuration) -> bytes:
    """Write attribute 5; a domain of odd length is padded."""
    numbers = (int(each) for each in (value.address, value.mask, value.gateway, *value.dns))
    return pack("<5IH", *numbers, len(value.domain)) + value.domain + bytes(len(value.domain) % 2)
