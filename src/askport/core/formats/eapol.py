"""EAP over LAN (IEEE 802.1X clause 11): a port that wants whoever is plugged in to log in."""

from typing import NamedTuple

from askport.core.formats.unreadable import Unreadable

ETHERTYPE_EAPOL = 0x888E


class Eapol(NamedTuple):
    """One message."""

    version: int
    type: int
    body: bytes


def decode_eapol(data: bytes) -> Eapol | Unreadable:
    """Read a message; what follows its body is padding."""
    if len(data) < 4:
        return Unreadable("EAPOL", len(data), f"it has {len(data)} of at least 4 bytes")
    length = int.from_bytes(data[2:4], "big")
    if 4 + length > len(data):
        return Unreadable("EAPOL", 2, f"it claims {length} bytes and has {len(data) - 4}")
    return Eapol(version=data[0], type=data[1], body=data[4 : 4 + length])


def encode_eapol(message: Eapol) -> bytes:
    """Write a message."""
    return bytes((message.version, message.type)) + len(message.body).to_bytes(2, "big") + message.body
