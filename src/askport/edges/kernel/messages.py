"""The kernel's messages for what is borrowed: an address, a route, a neighbour that means one MAC address."""

from ipaddress import IPv4Address, IPv4Interface, IPv4Network
from struct import pack

from askport.edges.kernel.rtnetlink import ADDRESS, INET, LINK, NEIGHBOUR, ROUTE, with_attributes

_PERMANENT, _MAIN, _STATIC, _UNICAST = 0x80, 254, 4, 1
_UP = 1  # IFF_UP


def switch_message(index: int, *, on: bool) -> bytes:
    """Return the message that switches an adapter on or off, and changes nothing else of it."""
    return pack(LINK, 0, 0, index, _UP if on else 0, _UP)


def address_message(interface: IPv4Interface, index: int) -> bytes:
    """Return the message of one address on an adapter."""
    head = pack(ADDRESS, INET, interface.network.prefixlen, 0, 0, index)
    broadcast = {"_4": interface.network.broadcast_address.packed} if interface.network.prefixlen < 31 else {}
    return with_attributes(head, _2=interface.ip.packed, _1=interface.ip.packed, **broadcast)


def route_message(network: IPv4Network, gateway: str, index: int) -> bytes:
    """Return the message of a route to a range through a device on the cable."""
    head = pack(ROUTE, INET, network.prefixlen, 0, 0, _MAIN, _STATIC, 0, _UNICAST, 0)
    ways = {"_5": IPv4Address(gateway).packed, "_4": pack("I", index)}
    return with_attributes(head, _1=network.network_address.packed, **ways)


def pin_message(text: str, mac: str, index: int) -> bytes:
    """Return the message of a neighbour that means one MAC address, whoever else answers.

    Raises:
        ValueError: it is no address, or no MAC address.
    """
    one, hardware = IPv4Network(text), bytes.fromhex(mac.replace(":", ""))
    if len(hardware) != 6 or one.prefixlen != 32:
        raise ValueError(f"{text} and {mac} are no address and MAC address")
    return with_attributes(pack(NEIGHBOUR, INET, index, _PERMANENT, 0, 0), _1=one.network_address.packed, _2=hardware)
