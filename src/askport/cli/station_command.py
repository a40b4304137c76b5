"""``askport station``: what a PROFINET station is called, and having it forget that."""

import asyncio
import secrets
from ipaddress import IPv4Interface
from typing import Annotated

import typer

from askport.cli import on_cable, saying
from askport.core import addresses, errors
from askport.core.formats import dcp
from askport.core.formats.dcp import Dcp
from askport.core.phrases import phrase, together
from askport.core.plan.target import Target
from askport.core.ways import dcp_way, station_talk
from askport.core.ways.conversation import Ended, Said
from askport.core.ways.start import Start
from askport.edges.footing import Footing

_LONGEST_S = 6.0


def station(
    adapter: Annotated[str, typer.Argument(help="The adapter that the cable is in.")],
    mac: Annotated[str, typer.Option(help="The station's MAC address.")],
    name: Annotated[str, typer.Option(help="What it is to be called, to be kept: feed-lane-3.")] = "",
    reset: Annotated[bool, typer.Option("--reset", help="Have it forget its name and its address.")] = False,
    json: saying.JsonOption = False,
) -> None:
    """Name or reset a PROFINET station, or read its name.

    No address is needed.

    Example: askport station enp3s0 --mac 00:00:5e:00:53:61 --name flow-1
    """
    device = addresses.MacAddress.parse(mac)
    if name and reset:
        raise errors.BadInput("--name and --reset exclude each other: give one of them.")
    xid = secrets.randbits(32)
    order: tuple[Dcp, str] | None = None
    if name:
        order = dcp.set_name(xid, dcp.station_name(name), permanent=True), phrase("call it {name}", name=name)
    elif reset:
        order = dcp.reset(xid), phrase("forget name and address")
    with on_cable.open_cable(adapter) as cable, on_cable.giving_back(cable):
        did, said = asyncio.run(_talk(cable, device, order))
    called, address = said.found.get("name", ""), said.found.get("address", str(addresses.UNSPECIFIED))
    now = phrase(
        "It says that it is called {called}, and its address is {shown}.",
        called=called or "nothing",
        shown=_shown(address),
    )
    if did and did.ended is not Ended.WELL:
        well, because = False, phrase("It did not do that: {because}.", because=did.because)
    elif said.ended is not Ended.WELL:
        well, because = False, phrase("It did not say what it is called: {because}.", because=said.because)
    else:
        well = not (name and called != name) and not (reset and (called or address != str(addresses.UNSPECIFIED)))
        because = now if well else together(phrase("It took the request, but nothing has changed."), now)
    if json:
        saying.put_json(
            {
                "schema": "askport.station/1",
                "mac": str(device),
                "name": called or None,
                "address": None if address == str(addresses.UNSPECIFIED) else address,
                "done": well,
                "because": because,
            }
        )
    else:
        print(because)
    if not well:
        raise typer.Exit(saying.Status.NO)


def _shown(address: str) -> str:
    return "none" if address == str(addresses.UNSPECIFIED) else address


async def _talk(cable: Footing, mac: addresses.MacAddress, order: tuple[Dcp, str] | None) -> tuple[Said | None, Said]:
    """Return how the order ended, where there is one, and what the station says of itself after that."""
    silent = Said(Ended.SILENT, phrase("it did not answer"))
    did: Said | None = None
    if order:
        telling = station_talk.StationTalk(mac, cable.mac, *order, cable.wire.now())
        await on_cable.run(telling, cable, _LONGEST_S)
        did = telling.said or silent
    start = Start(
        mac=mac,
        target=Target(interface=IPv4Interface(addresses.UNSPECIFIED)),
        laptop_mac=cable.mac,
        laptop=None,
        old=None,
        now=cable.wire.now(),
        xid=lambda: secrets.randbits(32),
    )
    reads = dcp_way.ReadByDcp(start)
    await on_cable.run(reads, cable, _LONGEST_S)
    return did, reads.said or silent
