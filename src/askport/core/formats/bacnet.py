"""BACnet/IP confirmed requests to the Network Port object (ASHRAE 135 clauses 12.56, 15, 20 and annex J)."""

from enum import IntEnum
from typing import NamedTuple

from askport.core.formats.unreadable import Unreadable

DEVICE, NETWORK_PORT = 8, 56
"""Object types (clause 21)."""
ANY_INSTANCE = 4_194_303
"""Stands for the port on which the request came (clause 12.56)."""
ACTIVATE_CHANGES = 7
"""State of the device to be begun (clause 16.4)."""


class ConfirmedService(IntEnum):
    """Confirmed services (clause 21)."""

    READ_PROPERTY = 12
    WRITE_PROPERTY = 15
    REINITIALIZE_DEVICE = 20


class Property(IntEnum):
    """Of the Network Port object (clause 12.56)."""

    OBJECT_IDENTIFIER = 75
    OBJECT_LIST = 76
    """Of the device object."""
    IP_ADDRESS = 400
    DEFAULT_GATEWAY = 401
    DHCP_ENABLE = 402
    DNS_SERVER = 406
    SUBNET_MASK = 411
    CHANGES_PENDING = 416


class Pdu(IntEnum):
    """Kinds of answers (clause 20.1)."""

    SIMPLE_ACK = 2
    COMPLEX_ACK = 3
    ERROR = 5
    REJECT = 6
    ABORT = 7


_PASSWORD_FAILURE, _UNKNOWN_PROPERTY = 26, 32
ERRORS = {
    2: "its configuration is being changed by something else",
    3: "it is busy now",
    7: "the values do not fit each other",
    9: "it takes no such type of value",
    13: "it takes no such type of value",
    17: "it has no Network Port object",
    18: "it has no room for that",
    26: "it wants another password for that",
    27: "that cannot be read",
    29: "it does not permit that service",
    30: "it waited too long for a part of itself",
    31: "it has no Network Port object of that number",
    32: "it does not have that property",
    36: "it has no Network Port object",
    37: "it takes no such value",
    40: "that can only be read",
    42: "it does not take that many",
    45: "it does not offer that",
    46: "it takes no such configuration",
    47: "it takes no such type of value",
    50: "that property is no list",
}
"""What an error code means (clause 18, BACnetErrorCode), as the end of a sentence."""
REJECTS = {
    0: "it does not say why",
    1: "it has no room for the request",
    2: "the values do not fit each other",
    3: "it takes no such type of value",
    4: "it does not understand a part of the request",
    5: "a part of the request is missing",
    6: "a value is out of its range",
    7: "there is too much in the request",
    8: "it does not know a part of the request",
    9: "it does not offer this service",
}
"""What a reject reason means (clause 18.9), as the end of a sentence."""
ABORTS = {
    0: "it does not say why",
    1: "it has no room for the answer",
    2: "the request came at the wrong moment",
    3: "something more urgent came",
    4: "its answer does not fit into one message",
    5: "it could not check who asks",
    6: "it wants secured messages",
    7: "it takes no messages in parts",
    8: "its own program took too long",
    9: "it has no room for the request now",
    10: "it waited too long",
    11: "the request is too long",
}
"""What an abort reason means (clause 18.10), as the end of a sentence."""
_PASSING = frozenset({3, 8, 9, 10})
"""Reasons of an abort that may be none a moment later."""


class BacnetAnswer(NamedTuple):
    """What came back to a confirmed request."""

    kind: int
    invoke: int
    service: int
    """Of an error too; 0 in a reject or an abort."""
    code: int = 0
    """Of an error, a reject or an abort."""
    value: bytes = b""
    """What stands between the tags around a property's value."""

    @property
    def is_unknown(self) -> bool:
        """Whether it does not have that property, and so nothing that could stay as it is."""
        return self.kind == Pdu.ERROR and self.code == _UNKNOWN_PROPERTY

    @property
    def wants_password(self) -> bool:
        """Whether it wants another password."""
        return self.kind == Pdu.ERROR and self.code == _PASSWORD_FAILURE

    @property
    def may_pass(self) -> bool:
        """Whether it only has no time or no room for it now."""
        return self.kind == Pdu.ABORT and self.code in _PASSING

    @property
    def refusal(self) -> str:
        """Why it did not do it, as the end of a sentence; nothing where it did."""
        if self.kind in (Pdu.SIMPLE_ACK, Pdu.COMPLEX_ACK):
            return ""
        table = {Pdu.ERROR: ERRORS, Pdu.REJECT: REJECTS, Pdu.ABORT: ABORTS}.get(Pdu(self.kind), {})
        return table.get(self.code, f"it answered {Pdu(self.kind).name.lower()} {self.code}")


def _tagged(number: int, data: bytes) -> bytes:
    return bytes((number << 4 | 8 | len(data),)) + data


def _number(value: int) -> bytes:
    return value.to_bytes(max(1, (value.bit_length() + 7) // 8), "big")


def _object(instance: int, kind: int = NETWORK_PORT) -> bytes:
    return _tagged(0, (kind << 22 | instance).to_bytes(4, "big"))


def _request(invoke: int, service: int, parameters: bytes) -> bytes:
    apdu = bytes((0x00, 0x05, invoke, service)) + parameters
    npdu = bytes((1, 4)) + apdu
    return bytes((0x81, 0x0A)) + (4 + len(npdu)).to_bytes(2, "big") + npdu


def read_property(invoke: int, instance: int, number: int) -> bytes:
    """Return the question for a property (clause 15.5)."""
    return _request(invoke, ConfirmedService.READ_PROPERTY, _object(instance) + _tagged(1, _number(number)))


def read_object_list(invoke: int, device: int, index: int | None = None) -> bytes:
    """Return the question for all objects of a device, for one of them, or by 0 for their number (clause 12.11)."""
    told = _object(device, DEVICE) + _tagged(1, _number(Property.OBJECT_LIST))
    at = b"" if index is None else _tagged(2, _number(index))
    return _request(invoke, ConfirmedService.READ_PROPERTY, told + at)


def port_in(values: list[bytes]) -> int | None:
    """Return the number of the first Network Port object of a list of identifiers, or None."""
    numbers = (int.from_bytes(each, "big") for each in values if len(each) == 4)
    return next((number & ANY_INSTANCE for number in numbers if number >> 22 == NETWORK_PORT), None)


def write_property(invoke: int, instance: int, number: int, value: bytes) -> bytes:
    """Return the request to change a property; ``value`` has its own tags (clause 15.9)."""
    told = _object(instance) + _tagged(1, _number(number)) + b"\x3e" + value + b"\x3f"
    return _request(invoke, ConfirmedService.WRITE_PROPERTY, told)


def activate_changes(invoke: int, password: str) -> bytes:
    """Return the request to use what was written (clause 16.4)."""
    text = b"\0" + password.encode()
    secret = (b"\x1d" + bytes((len(text),)) if len(text) > 4 else bytes((0x18 | len(text),))) + text
    return _request(
        invoke,
        ConfirmedService.REINITIALIZE_DEVICE,
        _tagged(0, bytes((ACTIVATE_CHANGES,))) + (secret if password else b""),
    )


def octets(data: bytes) -> bytes:
    """Write an octet string (clause 20.2.10)."""
    return bytes((0x60 | len(data),)) + data


def boolean(*, value: bool) -> bytes:
    """Write a boolean (clause 20.2.3)."""
    return bytes((0x10 | value,))


def decode_answer(data: bytes) -> BacnetAnswer | Unreadable:
    """Read what came back (clauses 20.1.4 to 20.1.9)."""
    head = 10 if data[1:2] == b"\x04" else 4  # a forwarded one has its sender's address in front (annex J.2.5)
    if len(data) < head + 4 or data[0] != 0x81 or data[head] != 1:
        return Unreadable("BACnet", 0, "it is no BACnet/IP message")
    at, control = head + 2, data[head + 1]
    for bit in (0x20, 0x08):  # destination, source: network number and address
        if control & bit:
            if at + 3 > len(data):
                return Unreadable("BACnet", at, "it ends inside a network address")
            at += 3 + data[at + 2]
    at += bool(control & 0x20)
    apdu = data[at:]
    if len(apdu) < 3:
        return Unreadable("BACnet", at, "it ends before its answer")
    kind, invoke = apdu[0] >> 4, apdu[1]
    match kind:
        case Pdu.SIMPLE_ACK:
            return BacnetAnswer(kind, invoke, apdu[2])
        case Pdu.COMPLEX_ACK if not apdu[0] & 0x08:
            return BacnetAnswer(kind, invoke, apdu[2], value=_between_tags(apdu, 3))
        case Pdu.ERROR if len(apdu) >= 7:
            return BacnetAnswer(kind, invoke, apdu[2], apdu[-1])
        case Pdu.REJECT | Pdu.ABORT:
            return BacnetAnswer(kind, invoke, 0, apdu[2])
    return Unreadable("BACnet", at, "it is no answer to a confirmed request")


class _Tag(NamedTuple):
    """One tag (clause 20.2.1)."""

    number: int
    is_context: bool
    size: int
    """Of what follows; of a boolean of the application class, its value."""
    at: int
    """Where what follows begins."""
    opens: bool = False
    closes: bool = False

    @property
    def end(self) -> int:
        """Where the next tag begins."""
        inside = self.opens or self.closes or (self.number == _BOOLEAN and not self.is_context)
        return self.at if inside else self.at + self.size


_BOOLEAN, _EXTENDED = 1, 15
_OPENING, _CLOSING, _SIZE_FOLLOWS = 6, 7, 5
_MOST_VALUES = 4096


def _tag_at(data: bytes, at: int) -> _Tag | None:
    """Read a tag, or None where it is cut off."""
    if at >= len(data):
        return None
    number, is_context, size = data[at] >> 4, bool(data[at] & 0x08), data[at] & 0x07
    at += 1
    if number == _EXTENDED:
        if at >= len(data):
            return None
        number, at = data[at], at + 1
    if is_context and size in (_OPENING, _CLOSING):
        return _Tag(number, True, 0, at, size == _OPENING, size == _CLOSING)
    if size == _SIZE_FOLLOWS:
        wide = {254: 2, 255: 4}.get(data[at], 0) if at < len(data) else 0
        if at + 1 + wide > len(data):
            return None
        size = int.from_bytes(data[at + 1 : at + 1 + wide], "big") if wide else data[at]
        at += 1 + wide
    tag = _Tag(number, is_context, size, at)
    return tag if tag.end <= len(data) else None


def _between_tags(data: bytes, at: int) -> bytes:
    """Return what stands between the first opening tag 3 and the closing one that goes with it (clause 15.5)."""
    start, depth = -1, 0
    while tag := _tag_at(data, at):
        if tag.closes:
            depth -= 1
            if not depth and start >= 0:
                return data[start:at]
        at = tag.end
        if tag.opens:
            start = at if not depth and tag.number == _VALUE else start
            depth += 1
    return b""


_VALUE = 3
"""The context tag around the value of a property."""


def values_of(data: bytes) -> list[bytes]:
    """Return the values of a property, each without its tag (clause 20.2.1)."""
    found: list[bytes] = []
    at = 0
    while len(found) < _MOST_VALUES and (tag := _tag_at(data, at)):
        if tag.number == _BOOLEAN and not tag.is_context:  # a boolean has its value in its tag, in place of a length
            found += [bytes((tag.size,))] if tag.size <= 1 else []
        elif not (tag.opens or tag.closes):
            found.append(data[tag.at : tag.end])
        at = tag.end
    return found
