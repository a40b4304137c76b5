"""PROFINET Discovery and Configuration Protocol (IEC 61158-6-10 clause 4.3): layer 2, so no address is needed."""

import re
from enum import IntEnum
from ipaddress import IPv4Address
from struct import Struct, pack
from typing import NamedTuple

from askport.core import addresses, errors
from askport.core.formats.ethernet import Ethernet, encode_ethernet
from askport.core.formats.unreadable import Unreadable, made
from askport.core.text import display_text

ETHERTYPE_PROFINET = 0x8892
IDENTIFY_GROUP = addresses.MacAddress(bytes.fromhex("010ecf000000"))
_MAX_BLOCKS = 64
_ASKED = 0x41_50_47_31
"""Marks what everybody is asked, so that answers to it are known to be ours."""
_SHORTEST = 46
"""Bytes of an Ethernet payload: shorter ones are padded."""
_HEADER, _BLOCK = Struct("!BBIHH"), Struct("!HH")


class FrameId(IntEnum):
    """Frame identifiers of DCP."""

    HELLO = 0xFEFC
    GET_SET = 0xFEFD
    IDENTIFY_REQUEST = 0xFEFE
    IDENTIFY_RESPONSE = 0xFEFF


_DCP_FRAMES = frozenset(map(int, FrameId))


class DcpService(IntEnum):
    """What is asked for (clause 4.3.1.3.3)."""

    GET = 3
    SET = 4
    IDENTIFY = 5


class Block(IntEnum):
    """Option and suboption of the blocks that this program reads or writes."""

    IP = 0x0102
    TYPE_OF_STATION = 0x0201
    NAME_OF_STATION = 0x0202
    DEVICE_ID = 0x0203
    SIGNAL = 0x0503
    CONTROL_RESPONSE = 0x0504
    RESET_TO_FACTORY = 0x0506
    ALL = 0xFFFF


PERMANENT, TEMPORARY = 1, 0
"""Qualifiers of a set block: kept over a power cycle, or for now (clause 4.3.1.4.18)."""
FLASH_ONCE = bytes.fromhex("0100")
"""Signal value: the unit shows where it is (clause 4.3.1.4.17)."""
COMMUNICATION = 4
"""Qualifier of a reset: name and address, which every station can forget; what it does is left as it is."""
REFUSALS = {
    1: "it does not know that option",
    2: "it does not know that setting, or has it set by hand or by its project",
    3: "it left that setting as it was",
    4: "it has no room for it now",
    5: "it will not for reasons of its own: something on the device itself may hold it",
    6: "it is in operation: its controller has a connection to it, and must be stopped first",
}
"""What a block error means (IEC 61158-6-10 table "BlockError"), as the end of a sentence."""


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
    def device_id(self) -> tuple[int, int] | None:
        """The maker's and the device's number, as their makers' association gives them, or None."""
        data = self.get(Block.DEVICE_ID) or b""
        return (int.from_bytes(data[:2], "big"), int.from_bytes(data[2:4], "big")) if len(data) >= 4 else None

    @property
    def has_conflict(self) -> bool:
        """Whether the device says that somebody else has its address (block information, clause 4.3.1.4.3.1)."""
        return any(kind == Block.IP and len(data) >= 2 and data[1] & 0x80 for kind, data in self.blocks)

    @property
    def is_from_dhcp(self) -> bool:
        """Whether the device says that it took its address by DHCP."""
        return any(kind == Block.IP and len(data) >= 2 and data[1] & 0x03 == 2 for kind, data in self.blocks)

    @property
    def refusals(self) -> list[int]:
        """The errors of a set answer's control blocks, which are there though its header says success."""
        controls = (data for kind, data in self.blocks if kind == Block.CONTROL_RESPONSE and len(data) >= 3)
        return [data[2] for data in controls if data[2]]

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
    if service_id == DcpService.GET and service_type == 0:
        names = data[12 : min(end, 12 + 2 * _MAX_BLOCKS)]
        blocks = [(int.from_bytes(names[place : place + 2], "big"), b"") for place in range(0, len(names) - 1, 2)]
        at = end
    while at + 4 <= end and len(blocks) < _MAX_BLOCKS:
        kind, size = _BLOCK.unpack_from(data, at)
        if at + 4 + size > end:
            break
        blocks.append((kind, data[at + 4 : at + 4 + size]))
        at += 4 + size + size % 2
    return made(Dcp, (frame_id, service_id, service_type, xid, delay, tuple(blocks)))


def set_ip(xid: int, address: IPv4Address, mask: IPv4Address, gateway: IPv4Address, *, permanent: bool) -> Dcp:
    """Return the request that gives a station its address (clause 4.3.1.4.4).

    Args:
        gateway: its own address, or 0.0.0.0, where it has none.
        permanent: whether it is kept over a power cycle.
    """
    value = pack("!H", PERMANENT if permanent else TEMPORARY) + address.packed + mask.packed + gateway.packed
    return Dcp(FrameId.GET_SET, DcpService.SET, 0, xid, blocks=((Block.IP, value),))


def set_name(xid: int, name: bytes, *, permanent: bool) -> Dcp:
    """Return the request that gives a station its name (clause 4.3.1.4.11)."""
    value = pack("!H", PERMANENT if permanent else TEMPORARY) + name
    return Dcp(FrameId.GET_SET, DcpService.SET, 0, xid, blocks=((Block.NAME_OF_STATION, value),))


_LABEL = re.compile(r"(?!-)[a-z0-9-]{1,63}(?<!-)")


def station_name(text: str) -> bytes:
    """Return a name as a station takes it (clause 4.3.1.4.16.2).

    Raises:
        BadInput: it is none.
    """
    labels = text.split(".")
    fault = ""
    if len(text) > 240:
        fault = "it is longer than 240 characters"
    elif not all(_LABEL.fullmatch(each) for each in labels):
        fault = "its parts are of a to z, 0 to 9 and hyphens between them, and dots part them"
    elif len(labels) == 4 and all(each.isdigit() for each in labels):
        fault = "it looks like an address"
    elif re.fullmatch(r"port-\d{3}(-\d{5})?", labels[0]):
        fault = "names like this one are those of ports"
    if fault:
        raise errors.BadInput(f"'{display_text(text, 60)}' is not a name of a station: {fault}, such as feed-lane-3.")
    return text.encode("ascii")


def identify_frame(laptop: addresses.MacAddress) -> bytes:
    """Return what asks all stations what they are (clause 4.3.2.2.3)."""
    message = Dcp(
        FrameId.IDENTIFY_REQUEST, DcpService.IDENTIFY, 0, _ASKED, response_delay=1, blocks=((Block.ALL, b""),)
    )
    frame = Ethernet(dst=IDENTIFY_GROUP, src=laptop, ethertype=ETHERTYPE_PROFINET, payload=encode_dcp(message))
    return encode_ethernet(frame)


def blink_frame(laptop: addresses.MacAddress, station: addresses.MacAddress, xid: int) -> bytes:
    """Return what has a station show where it is."""
    return dcp_frame(laptop, station, blink(xid))


def blink(xid: int) -> Dcp:
    """Return the request that has a station show where it is."""
    return Dcp(FrameId.GET_SET, DcpService.SET, 0, xid, blocks=((Block.SIGNAL, pack("!H", TEMPORARY) + FLASH_ONCE),))


def reset(xid: int) -> Dcp:
    """Return the request that has a station forget its name and its address (clause 4.3.1.4.19)."""
    value = ((Block.RESET_TO_FACTORY, pack("!H", COMMUNICATION)),)
    return Dcp(FrameId.GET_SET, DcpService.SET, 0, xid, blocks=value)


def get(xid: int, *blocks: int) -> Dcp:
    """Return the request for values, whose blocks are their names only (clause 4.3.1.3)."""
    return Dcp(FrameId.GET_SET, DcpService.GET, 0, xid, blocks=tuple((each, b"") for each in blocks))


def encode_dcp(message: Dcp) -> bytes:
    """Write a message; blocks are padded to an even length, and a request for values has their names only."""
    if message.service_id == DcpService.GET and message.service_type == 0:
        blocks = b"".join(pack("!H", kind) for kind, _ in message.blocks)
    else:
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


def dcp_frame(laptop: addresses.MacAddress, station: addresses.MacAddress, message: Dcp) -> bytes:
    """Return a message as a frame for one station."""
    payload = encode_dcp(message)
    payload += bytes(max(0, _SHORTEST - len(payload)))
    return encode_ethernet(Ethernet(dst=station, src=laptop, ethertype=ETHERTYPE_PROFINET, payload=payload))
