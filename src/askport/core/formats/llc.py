"""IEEE 802.2 logical link control, and the spanning tree messages in it (IEEE 802.1D)."""

from struct import pack, unpack_from
from typing import NamedTuple

from askport.core.formats.unreadable import Unreadable

SAP_SPANNING_TREE = 0x42
_BPDU = 35
_TOPOLOGY_CHANGE = 0x80


class Llc(NamedTuple):
    """The header of an 802.3 frame's payload."""

    dsap: int
    ssap: int
    control: int
    payload: bytes


class Bpdu(NamedTuple):
    """One spanning tree message: a switch speaks."""

    version: int
    type: int
    root: bytes = bytes(8)
    """Priority and MAC address of the tree's root; zeros in a topology change notification."""
    bridge: bytes = bytes(8)
    """Priority and MAC address of the switch that sent it."""
    port: int = 0


def decode_llc(data: bytes) -> Llc | Unreadable:
    """Read the header; only unnumbered frames have one of three bytes, and others are nothing to this program."""
    if len(data) < 3:
        return Unreadable("LLC", len(data), f"it has {len(data)} of at least 3 bytes")
    return Llc(dsap=data[0], ssap=data[1], control=data[2], payload=data[3:])


def encode_llc(header: Llc) -> bytes:
    """Write the header with its payload."""
    return bytes((header.dsap, header.ssap, header.control)) + header.payload


def decode_bpdu(data: bytes) -> Bpdu | Unreadable:
    """Read a spanning tree message (IEEE 802.1D clause 9.3)."""
    if len(data) < 4 or data[:2] != b"\0\0":
        return Unreadable("STP", 0, "it is no bridge protocol data unit")
    version, kind = data[2], data[3]
    if kind == _TOPOLOGY_CHANGE:
        return Bpdu(version=version, type=kind)
    if len(data) < _BPDU:
        return Unreadable("STP", len(data), f"it has {len(data)} of {_BPDU} bytes")
    return Bpdu(
        version=version, type=kind, root=data[5:13], bridge=data[17:25], port=int(unpack_from("!H", data, 25)[0])
    )


def encode_bpdu(bpdu: Bpdu) -> bytes:
    """Write a message, with the standard's default times."""
    head = bytes((0, 0, bpdu.version, bpdu.type))
    if bpdu.type == _TOPOLOGY_CHANGE:
        return head
    times = pack("!HHHH", 0, 20 << 8, 2 << 8, 15 << 8)
    return head + b"\0" + bpdu.root + bytes(4) + bpdu.bridge + pack("!H", bpdu.port) + times
