"""DNS messages (RFC 1035) as mDNS (RFC 6762), LLMNR (RFC 4795) and NetBIOS names (RFC 1002) use them."""

from enum import IntEnum
from ipaddress import IPv4Address
from struct import Struct, pack
from typing import NamedTuple

from askport.core.formats.unreadable import Unreadable, made

PORT_NETBIOS_NAMES = 137
PORT_MDNS = 5353
PORT_LLMNR = 5355
MDNS_GROUP = IPv4Address("224.0.0.251")
RESPONSE = 0x8000
_MAX_NAME = 255
"""Bytes of a name (RFC 1035 section 2.3.4)."""
_MAX_JUMPS = 10
"""Pointers followed in one name; honest encoders nest a few, and a hostile chain must not take long."""
_MAX_RECORDS = 64
"""Records read of one message: more than honest devices put into one frame."""
_HEADER, _QUESTION, _RECORD = Struct("!HHHHHH"), Struct("!HH"), Struct("!HHIH")
_CLASS_MASK = 0x7FFF
"""The top bit of a class is a flag in mDNS (RFC 6762 section 10.2)."""


class RecordType(IntEnum):
    """Types of records that this program reads."""

    A = 1
    PTR = 12
    TXT = 16
    AAAA = 28
    NB = 32
    SRV = 33
    """Also NBSTAT in NetBIOS messages."""
    ANY = 255


_NAME_BEHIND: dict[int, int] = {RecordType.PTR: 0, RecordType.SRV: 6}
"""Where in a record's data a name begins."""

Name = tuple[bytes, ...]
"""Labels, outermost last."""


class DnsQuestion(NamedTuple):
    """What is asked for."""

    name: Name
    type: int
    class_: int = 1


class Record(NamedTuple):
    """One resource record."""

    name: Name
    type: int
    class_: int = 1
    ttl: int = 120
    """In seconds."""
    data: bytes = b""
    """As on the wire, except for a name at its end, which is in ``target``."""
    target: Name | None = None
    """The name that a PTR or SRV record points to."""

    @property
    def address(self) -> IPv4Address | None:
        """The address in an A record."""
        return IPv4Address(self.data) if self.type == RecordType.A and len(self.data) == 4 else None


class Dns(NamedTuple):
    """One message."""

    id: int = 0
    flags: int = 0
    questions: tuple[DnsQuestion, ...] = ()
    answers: tuple[Record, ...] = ()
    """Answers, authorities and additional records, in this order."""

    @property
    def is_response(self) -> bool:
        """Whether it answers."""
        return bool(self.flags & RESPONSE)


class _Broken(Exception):
    """A name or a record runs out of the message."""


def _name(data: bytes, at: int, known: dict[int, Name], depth: int = 0) -> tuple[Name, int]:
    """Read a name with its pointers (RFC 1035 section 4.1.4); return it with the place behind it.

    What a pointer leads to is read once for a whole message, so that a hostile one takes no longer than its bytes.
    """
    labels: list[bytes] = []
    start, end = at, len(data)
    while True:
        if at >= end:
            raise _Broken
        length = data[at]
        if length >= 0xC0:
            if at + 1 >= end or depth == _MAX_JUMPS:
                raise _Broken
            target = (length & 0x3F) << 8 | data[at + 1]
            if target not in known:
                known[target] = _name(data, target, known, depth + 1)[0]
            whole = (*labels, *known[target])
            at += 2
            break
        if length > 63 or at + 1 + length > end:
            raise _Broken
        at += 1
        if length == 0:
            if at - start > _MAX_NAME:
                raise _Broken
            return tuple(labels), at
        labels.append(data[at : at + length])
        at += length
    if sum(map(len, whole)) + len(whole) >= _MAX_NAME:
        raise _Broken
    return whole, at


def _record(data: bytes, at: int, known: dict[int, Name]) -> tuple[Record, int]:
    name, at = _name(data, at, known)
    if at + 10 > len(data):
        raise _Broken
    kind, class_, ttl, size = _RECORD.unpack_from(data, at)
    at += 10
    end = at + size
    if end > len(data):
        raise _Broken
    fixed = _NAME_BEHIND.get(kind)
    target: Name | None = None
    raw = data[at:end]
    # NetBIOS uses SRV's number for something without a name in it (RFC 1002 section 4.2.18).
    if fixed is not None and size > fixed:
        try:
            target, behind = _name(data, at + fixed, known)
        except _Broken:
            target, behind = None, -1
        if behind == end:
            raw = raw[:fixed]
        else:
            target = None
    return made(Record, (name, kind, class_ & _CLASS_MASK, ttl, raw, target)), end


def decode_dns(data: bytes) -> Dns | Unreadable:
    """Read a message; what stands before a broken record is kept."""
    if len(data) < 12:
        return Unreadable("DNS", len(data), f"it has {len(data)} of at least 12 bytes")
    ident, flags, asked, *counts = _HEADER.unpack_from(data)
    questions: list[DnsQuestion] = []
    records: list[Record] = []
    known: dict[int, Name] = {}
    at = 12
    try:
        for _ in range(min(asked, _MAX_RECORDS)):
            name, at = _name(data, at, known)
            if at + 4 > len(data):
                raise _Broken
            kind, class_ = _QUESTION.unpack_from(data, at)
            questions.append(made(DnsQuestion, (name, kind, class_ & _CLASS_MASK)))
            at += 4
        for _ in range(min(sum(counts), _MAX_RECORDS)):
            record, at = _record(data, at, known)
            records.append(record)
    except _Broken:
        if not questions and not records:
            return Unreadable("DNS", at, "its first entry is broken")
    return made(Dns, (ident, flags, tuple(questions), tuple(records)))


def _encode_name(name: Name) -> bytes:
    return b"".join(bytes((len(label),)) + label for label in name) + b"\0"


def encode_dns(message: Dns) -> bytes:
    """Write a message without name compression; all records go into the answer section."""
    parts = [pack("!HHHHHH", message.id, message.flags, len(message.questions), len(message.answers), 0, 0)]
    parts += [_encode_name(each.name) + pack("!HH", each.type, each.class_) for each in message.questions]
    for each in message.answers:
        data = each.data + (_encode_name(each.target) if each.target is not None else b"")
        parts.append(_encode_name(each.name) + pack("!HHIH", each.type, each.class_, each.ttl, len(data)) + data)
    return b"".join(parts)


def name_of(text: str) -> Name:
    """Return the labels of a dotted name."""
    return tuple(label.encode() for label in text.split("."))


def netbios_name(label: bytes) -> tuple[bytes, int] | None:
    """Return the name and its suffix from a first-level encoded label (RFC 1001 section 14.1), or None."""
    if len(label) != 32 or any(not 0x41 <= byte <= 0x50 for byte in label):
        return None
    raw = bytes((label[at] - 0x41) << 4 | label[at + 1] - 0x41 for at in range(0, 32, 2))
    return raw[:15].rstrip(b" \0"), raw[15]


def netbios_label(name: bytes, suffix: int = 0) -> bytes:
    """Return the first-level encoding of a NetBIOS name."""
    raw = b"*" + bytes(15) if name == b"*" else name.upper()[:15].ljust(15) + bytes((suffix,))
    return bytes(nibble + 0x41 for byte in raw for nibble in (byte >> 4, byte & 15))
