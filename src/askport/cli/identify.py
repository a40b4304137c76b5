"""``askport identify``: by what a device is known in the field protocols that it speaks."""

import asyncio
from ipaddress import IPv4Address
from typing import Annotated

import typer

from askport.cli import ask_own_word, errand_run, on_cable, saying
from askport.core import addresses, machine
from askport.core.finding import asking_modbus, clues, greeting, sentences
from askport.core.formats.packet import Ends
from askport.core.phrases import phrase
from askport.core.visit.errand import Errand
from askport.core.visit.steps import Step
from askport.edges.footing import Footing

_LISTENS_S = 3.5
"""For all answers; what comes over a connection has its own time, which is shorter."""


def identify(
    adapter: Annotated[str, typer.Argument(help="The adapter that the cable is in.")],
    mac: Annotated[str, typer.Option(help="The device's MAC address.")],
    at: Annotated[str, typer.Option(metavar="ADDRESS", help="Where the device is.")],
    on_adapter: on_cable.OnAdapterOption = False,
    json: saying.JsonOption = False,
) -> None:
    """Ask a device who it is, in every field protocol.

    Nothing is set.

    Example: askport identify enp3s0 --mac 00:00:5e:00:53:69 --at 192.168.93.20
    """
    device, address = addresses.MacAddress.parse(mac), addresses.parse_address(at)
    with on_cable.open_cable(adapter, on_adapter=on_adapter) as cable, on_cable.giving_back(cable):
        known, names = asyncio.run(_ask(cable, device, address))
    if json:
        saying.put_json(
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
            print(phrase("{shown_source}: called {name}", shown_source=sentences.shown_source(source), name=name))
    if not known:
        if not json:
            print(
                phrase(
                    "{device} at {address} does not identify itself by any field protocol.",
                    device=device,
                    address=address,
                )
            )
        raise typer.Exit(saying.Status.NO)


async def _ask(
    cable: Footing, mac: addresses.MacAddress, address: IPv4Address
) -> tuple[list[clues.Identity], tuple[tuple[str, str], ...]]:
    errand = errand_run.ErrandRun(cable, Errand(start=ask_own_word.named(mac, address), ends=Step.REACH))
    reached, finder = await errand.reach(), errand.session.cable.finder
    if reached.beside is None:
        raise ValueError(phrase("it is reached from an address in its subnet"))
    ends = Ends(src_mac=cable.mac, src=reached.beside.ip, dst_mac=mac, dst=address)
    for frame in greeting.ask_for_numbers(ends, cable.wire.now()):
        cable.wire.send(frame)
    modbus = asking_modbus.AskingModbus(address, now=cable.wire.now())
    await on_cable.run(machine.Together(modbus, finder), cable, _LISTENS_S, lambda: False)
    heard = finder.device(mac)
    known = [*(heard.identities if heard else ()), *filter(None, [modbus.identity])]
    return known, heard.names if heard else ()
