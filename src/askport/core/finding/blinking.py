"""Having one device show itself: "which of them is this?" is answered by the unit."""

from collections.abc import Callable

from askport.core import addresses, machine, protocols
from askport.core.finding.device import Device

_ASKS: dict[str, Callable[[addresses.MacAddress, addresses.MacAddress, int], bytes]] = {
    each.name: protocols.later(each.blinks) for each in protocols.PROTOCOLS.values() if each.blinks
}
"""By the field protocols that have it."""


def can_blink(device: Device | None) -> bool:
    """Whether a device speaks a protocol by which it can be asked to show itself."""
    return device is not None and any(each.protocol in _ASKS for each in device.identities)


def blink_frames(device: Device, laptop: addresses.MacAddress, xid: machine.Xid) -> list[bytes]:
    """Return what asks a device to show itself."""
    return [_ASKS[each.protocol](laptop, device.mac, xid()) for each in device.identities if each.protocol in _ASKS]
