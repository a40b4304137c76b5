"""PROFINET Discovery and Configuration Protocol (IEC 61158-6-10 clause 4.3): layer 2, so no address is needed."""

from enum import IntEnum
from ipaddress import IPv4Address
from struct import Struct, pack
from typing import NamedTuple

from askport.core.addresses import MacAddress
from askport.core.formats.made import made
from askport.core.formats.unreadable import Unreadable

ETHERTYPE_PROFINET = 0x8892
IDENTIFY_GROUP = MacAddress(bytes.fromhex("010ecf000000"))
_MAX_BLOCKS = 64
_HEADER, _BLOCK = Struct("!BBIHH"), Struct("!HH")


class FrameId(IntEnum):
    """Frame identifiers of DCP."""

    HELLO = 0xFEFC
    GET_SET = 0xFEFD
    IDENTIFY_REQUEST = 0xFEFE
    IDENTIFY_RESPONSE = 0xFEFF


_DCP_FRAMES = frozenset(map(int, FrameId))


class Block(IntEnum):
    """Option and suboption of the blocks that this program reads."""

    IP = 0x0102
    TYPE_OF_STATION = 0x0201
    NAME_OF_STATION = 0x0202
    ALL = 0xFFFF


class Dcp(NamedTuple):
    """One message."""

    frame_id: int
    service_id: int
    service_type: int
    """0 a request, 1 an answer."""
    xid: int
    response_delay: int = 0
    blocks: tuple[tuple[int, bytes], ...] = ()
    """Option and suboption as one number, and the data; in answers it begins with two bytes of block information."""

    def get(self, kind: int) -> bytes | None:
        """Return an answer's block without its block information, or None."""
        return next((data[2:] for present, data in self.blocks if present == kind), None)

    @property
    def ip(self) -> tuple[IPv4Address, IPv4Address, IPv4Address] | None:
        """Address, mask and gateway as the device states them."""
        data = self.get(Block.IP) or b""
        if len(data) < 12:
            return None
        return IPv4Address(data[:4]), IPv4Address(data[4:8]), IPv4Address(data[8:12])


class OtherProfinet(NamedTuple):
    """A PROFINET frame that is not DCP: cyclic data, say."""

    frame_id: int


def decode_profinet(data: bytes) -> Dcp | OtherProfinet | Unreadable:
    """Read a frame."""
    if len(data) < 2:
        return Unreadable("PROFINET", len(data), "it has no frame identifier")
    frame_id = int.from_bytes(data[:2], "big")
    if frame_id not in _DCP_FRAMES:
        return OtherProfinet(frame_id)
    if len(data) < 12:
        return Unreadable("DCP", len(data), f"it has {len(data)} of at least 12 bytes")
    service_id, service_type, xid, delay, length = _HEADER.unpack_from(data, 2)
    end = 12 + length
    if end > len(data):
        return Unreadable("DCP", 10, f"it claims {length} bytes and has {len(data) - 12}")
    blocks: list[tuple[int, bytes]] = []
    at = 12
    while at + 4 <= end and len(blocks) < _MAX_BLOCKS:
        kind, size = _BLOCK.unpack_from(data, at)
        if at + 4 + size > end:
            break
        blocks.append((kind, data[at + 4 : at + 4 + size]))
        at += 4 + size + size % 2
    return made(Dcp, (frame_id, service_id, service_type, xid, delay, tuple(blocks)))


def encode_dcp(message: Dcp) -> bytes:
    """Write a message; blocks are padded to an even length."""
    blocks = b"".join(pack("!HH", kind, len(data)) + data + bytes(len(data) % 2) for kind, data in message.blocks)
    head = pack(
        "!HBBIHH",
        message.frame_id,
        message.service_id,
        message.service_type,
        message.xid,
        message.response_delay,
        len(blocks),
    )
    return head + blocks
