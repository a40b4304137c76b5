"""Link Layer Discovery Protocol (IEEE 802.1AB)."""

from enum import IntEnum
from ipaddress import IPv4Address
from typing import NamedTuple

from askport.core.formats.unreadable import Unreadable

ETHERTYPE_LLDP = 0x88CC
_MAX_TLVS = 128
_IPV4 = 1
_BRIDGE, _ROUTER = 0x0004, 0x0010
_NETWORK_ADDRESS = 5
_POWER_VIA_MDI, _MED_POWER = b"\x00\x12\x0f\x02", b"\x00\x12\xbb\x04"
"""Organisationally specific: IEEE 802.3 clause 79.3.2, and ANSI/TIA-1057 clause 10.2.5."""


class Tlv(IntEnum):
    """Types of information (clause 8.4)."""

    END = 0
    CHASSIS_ID = 1
    PORT_ID = 2
    TIME_TO_LIVE = 3
    PORT_DESCRIPTION = 4
    SYSTEM_NAME = 5
    SYSTEM_DESCRIPTION = 6
    SYSTEM_CAPABILITIES = 7
    MANAGEMENT_ADDRESS = 8
    SPECIFIC = 127


class Lldp(NamedTuple):
    """One message: what a neighbour says about itself, in the order of the wire."""

    tlvs: tuple[tuple[int, bytes], ...]

    def get(self, kind: int) -> bytes | None:
        """Return the first value of a type, or None."""
        return next((value for present, value in self.tlvs if present == kind), None)

    @property
    def management_addresses(self) -> tuple[IPv4Address, ...]:
        """The IPv4 addresses at which it says it can be managed (clause 8.5.9)."""
        values = [value for kind, value in self.tlvs if kind == Tlv.MANAGEMENT_ADDRESS]
        return tuple(IPv4Address(each[2:6]) for each in values if len(each) >= 6 and each[:2] == bytes((5, _IPV4)))

    @property
    def chassis_address(self) -> IPv4Address | None:
        """The IPv4 address by which it names itself, where it does (clause 8.5.2.2, subtype 5)."""
        value = self.get(Tlv.CHASSIS_ID) or b""
        return IPv4Address(value[2:6]) if len(value) >= 6 and value[:2] == bytes((_NETWORK_ADDRESS, _IPV4)) else None

    @property
    def takes_power(self) -> bool:
        """Whether it says that it is a powered device (PoE), fed through this cable."""
        for kind, value in self.tlvs:
            if kind == Tlv.SPECIFIC and value[:4] == _POWER_VIA_MDI and len(value) >= 7:
                is_pd = not value[4] & 1
                source = value[7] >> 4 & 3 if len(value) >= 8 else 1
                if is_pd and source & 1:
                    return True
            elif kind == Tlv.SPECIFIC and value[:4] == _MED_POWER and len(value) >= 7 and value[4] >> 4 in (5, 7):
                return True  # a powered device, fed by its port, or by that and locally
        return False

    @property
    def is_switch(self) -> bool:
        """Whether it has enabled bridging or routing (clause 8.5.8)."""
        value = self.get(Tlv.SYSTEM_CAPABILITIES) or b""
        return len(value) >= 4 and bool(int.from_bytes(value[2:4], "big") & (_BRIDGE | _ROUTER))


def decode_lldp(data: bytes) -> Lldp | Unreadable:
    """Read a message; what stands before a broken end is kept."""
    tlvs: list[tuple[int, bytes]] = []
    at = 0
    while at + 2 <= len(data) and len(tlvs) < _MAX_TLVS:
        head = int.from_bytes(data[at : at + 2], "big")
        kind, length = head >> 9, head & 0x1FF
        if kind == Tlv.END:
            break
        if at + 2 + length > len(data):
            break
        tlvs.append((kind, data[at + 2 : at + 2 + length]))
        at += 2 + length
    if not tlvs or tlvs[0][0] != Tlv.CHASSIS_ID:
        return Unreadable("LLDP", 0, "it does not begin with a chassis identifier")
    return Lldp(tuple(tlvs))


def encode_lldp(message: Lldp) -> bytes:
    """Write a message with its end mark."""
    return b"".join((kind << 9 | len(value)).to_bytes(2, "big") + value for kind, value in message.tlvs) + b"\0\0"
