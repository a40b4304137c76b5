"""``askport identify``: by what a device is known in the field protocols that it speaks."""

import asyncio
from ipaddress import IPv4Address
from typing import Annotated

import typer

from askport.cli.ask_own_word import named
from askport.cli.errand_run import ErrandRun
from askport.cli.on_cable import OnAdapterOption, giving_back, open_cable, run
from askport.cli.saying import JsonOption, Status, put_json
from askport.core.addresses import MacAddress, parse_address
from askport.core.finding.asking_modbus import AskingModbus
from askport.core.finding.clues import Identity
from askport.core.finding.greeting import ask_for_numbers
from askport.core.finding.sentences import shown_source
from askport.core.formats.packet import Ends
from askport.core.machine import Together
from askport.core.visit.errand import Errand
from askport.core.visit.steps import Step
from askport.edges.footing import Footing

_LISTENS_S = 3.5
"""For all answers; what comes over a connection has its own time, which is shorter."""


def identify(
    adapter: Annotated[str, typer.Argument(help="The adapter that the cable is in.")],
    mac: Annotated[str, typer.Option(help="The device's MAC address.")],
    at: Annotated[str, typer.Option(metavar="ADDRESS", help="Where the device is.")],
    on_adapter: OnAdapterOption = False,
    json: JsonOption = False,
) -> None:
    """Ask a device who it is, in the field protocols that it may speak; nothing is set."""
    device, address = MacAddress.parse(mac), parse_address(at)
    with open_cable(adapter, on_adapter=on_adapter) as cable, giving_back(cable):
        known, names = asyncio.run(_ask(cable, device, address))
    if json:
        put_json(
            {
                "schema": "askport.identify/1",
                "mac": str(device),
                "at": str(address),
                "identities": [each._asdict() for each in known],
                "names": [{"name": name, "source": source} for name, source in names],
            }
        )
    else:
        for each in known:
            print(each.sentence)
        for name, source in names:
            print(f"{shown_source(source)}: called {name}")
    if not known:
        if not json:
            print(f"{device} says at {address} who it is in no field protocol.")
        raise typer.Exit(Status.NO)


async def _ask(
    cable: Footing, mac: MacAddress, address: IPv4Address
) -> tuple[list[Identity], tuple[tuple[str, str], ...]]:
    errand = ErrandRun(cable, Errand(start=named(mac, address), ends=Step.REACH))
    reached, finder = await errand.reach(), errand.session.cable.finder
    if reached.beside is None:
        raise ValueError("it is reached from an address in its subnet")
    ends = Ends(src_mac=cable.mac, src=reached.beside.ip, dst_mac=mac, dst=address)
    for frame in ask_for_numbers(ends, cable.wire.now()):
        cable.wire.send(frame)
    modbus = AskingModbus(address, now=cable.wire.now())
    await run(Together(modbus, finder), cable, _LISTENS_S, lambda: False)
    heard = finder.device(mac)
    known = [*(heard.identities if heard else ()), *filter(None, [modbus.identity])]
    return known, heard.names if heard else ()
