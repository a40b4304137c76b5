"""Modbus/TCP, its identification only: function 43 with type 14, Read Device Identification (V1.1b3 section 6.21)."""

from enum import IntEnum
from struct import pack, unpack_from
from typing import NamedTuple

from askport.core.formats.unreadable import Unreadable

PORT_MODBUS = 502
_FUNCTION, _MEI_TYPE = 0x2B, 0x0E
_HEADER = 7
_MAX_LENGTH = 254
"""Of what the length in the header counts: unit and PDU."""
ANY_UNIT = 0xFF
"""For a device that is not behind a gateway (Messaging on TCP/IP Implementation Guide section 4.4.2.2)."""
UNITS = (ANY_UNIT, 1, 0)
"""Units that are asked one after the other: many a device answers as one of the last two only."""
NO_SUCH_UNIT = frozenset({10, 11})
EXCEPTIONS = {
    1: "it knows no identification",
    2: "it has no such part of an identification",
    3: "it takes the request for malformed",
    4: "it failed in answering",
    5: "it needs time to answer, and does not say how long",
    6: "it is busy",
    8: "its memory is damaged",
    10: "it is a gateway, and has no path to that unit",
    11: "it is a gateway, and the unit behind it does not answer",
}
"""What its exception codes mean, as the end of a sentence (section 7)."""


class Part(IntEnum):
    """Parts of an identification."""

    VENDOR_NAME = 0
    PRODUCT_CODE = 1
    MAJOR_MINOR_REVISION = 2
    VENDOR_URL = 3
    PRODUCT_NAME = 4
    MODEL_NAME = 5
    USER_APPLICATION_NAME = 6


class ReadDevId(IntEnum):
    """How much is asked for."""

    BASIC = 1
    REGULAR = 2


class Identification(NamedTuple):
    """An answer: some parts, and where to go on."""

    transaction: int
    parts: tuple[tuple[int, bytes], ...] = ()
    next_part: int | None = None
    """Where there is more, what to ask for next."""
    exception: int = 0
    code: int = ReadDevId.BASIC
    conformity: int = 1
    unit: int = ANY_UNIT

    @property
    def refusal(self) -> str:
        """Why not, as the end of a sentence, or nothing."""
        return EXCEPTIONS.get(self.exception, f"exception {self.exception}") if self.exception else ""


def read_identification(transaction: int, part: int = 0, code: int = ReadDevId.BASIC, *, unit: int = ANY_UNIT) -> bytes:
    """Return a request for the parts from one on."""
    return _framed(transaction, unit, bytes((_FUNCTION, _MEI_TYPE, code, part)))


def encode_identification(answer: Identification) -> bytes:
    """Write an answer.

    Raises:
        ValueError: it does not fit into one message.
    """
    if answer.exception:
        return _framed(answer.transaction, answer.unit, bytes((_FUNCTION | 0x80, answer.exception)))
    more = answer.next_part is not None
    head = (_FUNCTION, _MEI_TYPE, answer.code, answer.conformity, 0xFF * more, answer.next_part or 0, len(answer.parts))
    parts = b"".join(bytes((number, len(value))) + value for number, value in answer.parts)
    return _framed(answer.transaction, answer.unit, bytes(head) + parts)


def _framed(transaction: int, unit: int, pdu: bytes) -> bytes:
    if len(pdu) >= _MAX_LENGTH:
        raise ValueError(f"a PDU of {len(pdu)} bytes is longer than a message may be")
    return pack(">HHHB", transaction, 0, len(pdu) + 1, unit) + pdu


def take_identification(data: bytes) -> tuple[Identification | None, bytes] | Unreadable:
    """Take the first answer off a stream; None where it is not whole yet."""
    if len(data) < _HEADER:
        return None, data
    transaction, protocol, length, unit = unpack_from(">HHHB", data)
    if protocol or not 2 <= length <= _MAX_LENGTH:
        return Unreadable("Modbus/TCP", 2, "it has no Modbus/TCP header")
    end = _HEADER - 1 + length
    if len(data) < end:
        return None, data
    pdu, rest = data[_HEADER:end], data[end:]
    if pdu[0] == _FUNCTION | 0x80 and len(pdu) == 2:
        return Identification(transaction, exception=pdu[1] or 1, unit=unit), rest
    if len(pdu) < 7 or pdu[0] != _FUNCTION or pdu[1] != _MEI_TYPE:
        return Unreadable("Modbus/TCP", _HEADER, "it is no identification")
    code, conformity, more, next_part, count = pdu[2:7]
    parts: list[tuple[int, bytes]] = []
    at = 7
    for _ in range(count):
        if len(pdu) < at + 2 or len(pdu) < at + 2 + pdu[at + 1]:
            if parts:  # what stands before it is whole
                return Identification(transaction, tuple(parts), None, 0, code, conformity, unit), rest
            return Unreadable("Modbus/TCP", _HEADER + at, "a part of it ends before its length says")
        size = pdu[at + 1]
        parts.append((pdu[at], pdu[at + 2 : at + 2 + size]))
        at += 2 + size
    go_on = next_part if more == 0xFF else None
    return Identification(transaction, tuple(parts), go_on, 0, code, conformity, unit), rest
