"""Reaching a device by its link-local IPv6 address: nothing is borrowed, and its IPv4 address may change meanwhile."""

from ipaddress import IPv4Address, IPv6Address
from typing import Annotated

import typer

from askport.cli import on_cable, saying
from askport.core.addresses import MacAddress
from askport.core.errors import Refused
from askport.core.reach.link_local import LinkLocal
from askport.edges.footing import Footing

OverIpv6Option = Annotated[
    bool, typer.Option("--over-ipv6", help="Talk to it by its link-local IPv6 address, whatever its IPv4 address is.")
]
_WHO_HAS_S = 3.0


async def link_local_of(cable: Footing, mac: MacAddress) -> IPv6Address:
    """Return the link-local address that a device shows, and have the laptop speak IPv6 beside the adapter.

    Raises:
        Refused: it shows none.
        MachineRefused: the laptop cannot speak IPv6 here.
    """
    await cable.speak_ipv6()
    look = LinkLocal(cable.mac, mac, now=cable.wire.now())
    await on_cable.run(look, cable, None)
    if look.address is None:
        raise Refused(
            "{mac} shows no IPv6 address here: leave --over-ipv6 out, and reach it by its IPv4 address.", mac=mac
        )
    saying.say(
        "It is reached at {address}, {where}; no IPv4 address is borrowed for that.",
        address=look.address,
        where=cable.where,
    )
    return look.address


async def who_has(cable: Footing, address: IPv4Address) -> MacAddress:
    """Return who has an IPv4 address on this cable.

    Raises:
        Refused: nobody answers for it.
    """
    finder = on_cable.finder_on(cable, measures=False)
    finder.call([address], now=cable.wire.now(), guess=False)
    await on_cable.run(finder, cable, _WHO_HAS_S, lambda: any(each.is_found for each in finder.devices()))
    found = (each.mac for each in finder.devices() if each.best and each.best.address == address)
    if (mac := next(found, None)) is None:
        raise Refused("Nobody answers for {address} here: give the device's MAC address with --pin.", address=address)
    return mac
