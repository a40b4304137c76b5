"""The laptop's second MAC address: whom it is when it talks from beside the adapter, and not on it."""

from collections.abc import Sequence
from functools import lru_cache
from hashlib import sha256

from askport.core.addresses import MacAddress

PLACES = 32
"""How many places there can be beside one adapter at once."""
_LOCAL, _GROUP = 0x02, 0x01  # bits of its first byte (IEEE 802 section 8)


@lru_cache(maxsize=16)
def own_macs(adapter: MacAddress) -> tuple[MacAddress, ...]:
    """Return every MAC address that is this laptop's on one cable: the adapter's own, and those beside it."""
    return (adapter, *(beside_mac(adapter, place) for place in range(PLACES)))


def without_beside(macs: Sequence[MacAddress]) -> list[MacAddress]:
    """Return the laptop's MAC addresses but those beside the first."""
    return [each for each in macs if each == macs[0] or each not in own_macs(macs[0])]


def beside_mac(adapter: MacAddress, place: int = 0) -> MacAddress:
    """Return the MAC address of a place beside an adapter.

    It is made up locally, and the same in every run, so that a device's tables see one more address and not many.

    Args:
        place: which place, where several are used at once.
    """
    made = bytearray(sha256(b"askport beside" + adapter + place.to_bytes(2, "big")).digest()[:6])
    made[0] = (made[0] | _LOCAL) & ~_GROUP
    return MacAddress(bytes(made))
