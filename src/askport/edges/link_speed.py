"""What an adapter's driver tells of its link: whether there is one, and the speed that both ends have agreed on."""

import fcntl
from array import array
from pathlib import Path
from struct import pack

_SIOCETHTOOL, _ETHTOOL_GLINK = 0x8946, 0x0A
"""The driver's own word on the link (linux/ethtool.h); anybody may ask for it."""


def has_carrier(socket: int, adapter: str) -> bool | None:
    """Return whether there is a signal at this moment, or None where the driver does not tell."""
    value = array("I", (_ETHTOOL_GLINK, 0))
    try:
        fcntl.ioctl(socket, _SIOCETHTOOL, pack("16sP16x", adapter.encode()[:15], value.buffer_info()[0]))
    except OSError:
        return None
    return bool(value[1])


def changes_of(adapter: str) -> int:
    """Return how often an adapter's link has come or gone, as the kernel has counted; 0 where it does not tell.

    A cable that was pulled and put back between two looks leaves nothing else behind.
    """
    try:
        return int((Path("/sys/class/net") / adapter / "carrier_changes").read_text())
    except (OSError, ValueError):
        return 0


def speed_of(adapter: str) -> int | None:
    """Return an adapter's speed in Mb/s, or None where it has no link or does not tell."""
    try:
        speed = int((Path("/sys/class/net") / adapter / "speed").read_text())
    except (OSError, ValueError):
        return None
    return speed if speed > 0 else None
