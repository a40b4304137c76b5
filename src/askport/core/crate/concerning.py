"""Which frames on a switch concern one unit: dozens side by side would hear, and disturb, each other's every word."""

from collections.abc import Collection
from ipaddress import IPv4Address

_SENDERS = {b"\x08\x06": slice(28, 32), b"\x08\x00": slice(26, 30)}
"""Where the sender's address stands in ARP and IPv4, by EtherType."""


def concerns(
    frame: bytes, others: Collection[bytes], said_to: Collection[bytes], addresses: Collection[IPv4Address]
) -> bool:
    """Whether a frame is not another unit's alone.

    Read where it stands in Ethernet, ARP (RFC 826) and IPv4 (RFC 791).

    Args:
        frame: its bytes.
        said_to: MAC addresses of the laptop; what others say to these is heard.
        addresses: those of this unit and of the laptop there; who claims one of them is heard, whoever it is.
    """
    if frame[6:12] not in others or frame[:6] in said_to:
        return True
    sender = _SENDERS.get(frame[12:14])
    return sender is not None and frame[sender] in {each.packed for each in addresses}
