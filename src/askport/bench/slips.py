"""How values are typed by tired fingers."""

from dataclasses import replace
from ipaddress import IPv4Address, IPv4Interface

from askport.core.plan.target import Target


def mistyped(target: Target) -> Target:
    """Return the values as tired fingers type them: the digits of one octet turned round, or two octets swapped."""
    octets = str(target.interface.ip).split(".")
    turned = str(int(octets[2][::-1]))
    if turned != octets[2] and int(turned) <= 255:
        octets[2] = turned
    else:
        octets[1], octets[2] = octets[2], octets[1]
    wrong = IPv4Interface((IPv4Address(".".join(octets)), target.interface.network.prefixlen))
    return replace(target, interface=wrong)
