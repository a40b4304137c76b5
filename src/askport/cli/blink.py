"""``askport blink``: have one device show itself."""

import asyncio
import secrets
from typing import Annotated

import typer

from askport.cli.on_cable import finder_on, giving_back, open_cable, run
from askport.core.addresses import MacAddress
from askport.core.errors import Refused
from askport.core.finding.blinking import can_blink
from askport.core.formats import dcp
from askport.core.phrases import phrase
from askport.core.ways import conversation, station_talk
from askport.edges.footing import Footing

_LONGEST_S = 6.0


def blink(
    adapter: Annotated[str, typer.Argument(help="The adapter that the cable is in.")],
    mac: Annotated[str, typer.Option(help="The device's MAC address.")],
) -> None:
    """Make a device blink (PROFINET DCP).

    To see which of several units it is.

    Example: askport blink enp3s0 --mac 00:00:5e:00:53:61
    """
    device = MacAddress.parse(mac)
    with open_cable(adapter) as cable, giving_back(cable):
        asyncio.run(_blink(cable, device))
    print(phrase("{device} was asked to blink: see which one does.", device=device))


async def _blink(cable: Footing, mac: MacAddress) -> None:
    finder = finder_on(cable, measures=False)
    finder.greet(cable.wire.now())
    await run(finder, cable, _LONGEST_S, lambda: can_blink(finder.device(mac)))
    found = finder.device(mac)
    if found is None or not can_blink(found):
        why = "{mac} speaks no protocol by which it can be asked to: read the MAC address on the labels instead."
        why = "{mac} was not heard here: read the MAC address on the labels instead." if found is None else why
        raise Refused(why, mac=mac)
    asking = station_talk.StationTalk(
        mac, cable.mac, dcp.blink(secrets.randbits(32)), phrase("show itself"), cable.wire.now()
    )
    await run(asking, cable, _LONGEST_S)
    if asking.said is None or asking.said.ended is not conversation.Ended.WELL:
        raise Refused(
            "{mac} does not blink: {because}.",
            mac=mac,
            because=asking.said.because if asking.said else "it did not answer",
        )
