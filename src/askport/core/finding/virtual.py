"""MAC addresses that stand for a group of routers, and for no device."""

from askport.core.addresses import MacAddress
from askport.core.phrases import phrase

_GROUPS = {
    bytes.fromhex("00005e0001"): phrase("VRRP (RFC 5798)"),
    bytes.fromhex("00005e0002"): phrase("VRRP for IPv6 (RFC 5798)"),
    bytes.fromhex("00000c07ac"): phrase("HSRP (RFC 2281)"),
    bytes.fromhex("00000c9ff0"): phrase("HSRP version 2"),
}
"""By their first five bytes; of HSRP version 2 the last of them counts on."""
_COUNTS_ON = bytes.fromhex("00000c9f")


def group_protocol(mac: MacAddress) -> str | None:
    """Return by which protocol a MAC address is shared by routers, or None where it is one device's."""
    if mac[:4] == _COUNTS_ON and mac[4] >= 0xF0:
        return _GROUPS[_COUNTS_ON + b"\xf0"]
    return _GROUPS.get(mac[:5])
