"""``askport adapters`` and ``askport find``."""

import asyncio
from typing import Annotated

import typer

from askport.cli.cable import open_cable, run
from askport.cli.find_document import find_document
from askport.cli.talk import Status, put_json, say
from askport.core.addresses import parse_network
from askport.core.errors import BadInput
from askport.core.finding.asking import DEFAULT_RATE
from askport.core.finding.finder import Device, Finder, Loudness
from askport.edges.makers import maker

_LISTEN_S = 30.0
"""How long listening takes unless said otherwise: most devices speak within that time after power-up."""
_LAST_ANSWERS_S = 1.0
"""How long answers to the last question are waited for."""
_MAX_RATE = 1000.0
"""Questions a second: what calling sends one by one without a burst."""


def adapters(json: Annotated[bool, typer.Option("--json", help="Print one JSON document.")] = False) -> None:
    """List the laptop's adapters."""
    from askport.edges.adapters import list_adapters

    found = list_adapters()
    if json:
        devices = [
            {
                "name": each.name,
                "kind": each.kind,
                "link": "up" if each.link_up else "down",
                "speed_mbps": each.speed_mbps,
                "mac": each.mac,
                "addresses": [{"address": str(a.interface), "origin": a.origin} for a in each.addresses],
                "gateway": str(each.gateway) if each.gateway else None,
                "dns": list(each.dns),
                "manager": each.manager,
                "hazards": [{"code": code, "text": text} for code, text in each.hazards],
            }
            for each in found
        ]
        put_json({"schema": "askport.adapters/1", "adapters": devices})
        return
    for each in found:
        speed = f", {each.speed_mbps} Mb/s" if each.speed_mbps else ""
        print(f"{each.name}  {each.kind}, link {'up' if each.link_up else 'down'}{speed}  {each.mac or ''}")
        for address in each.addresses:
            print(f"    {address.interface}  {address.origin}")
        for _, text in each.hazards:
            print(f"    {text}")


def find(
    adapter: Annotated[str, typer.Argument(help="The adapter that the cable is in.")],
    loudness: Annotated[str, typer.Option(help="listen (send nothing) or call (ask by ARP).")] = "listen",
    seconds: Annotated[float | None, typer.Option(help="How long at the most.")] = None,
    within: Annotated[list[str] | None, typer.Option(help="A range to ask in, such as 10.84.16.0/24.")] = None,
    rate: Annotated[float, typer.Option(help="Questions a second.")] = DEFAULT_RATE,
    until_found: Annotated[bool, typer.Option("--until-found", help="End at the first sure address.")] = False,
    json: Annotated[bool, typer.Option("--json", help="Print one JSON document.")] = False,
) -> None:
    """Find the devices on the cable."""
    if loudness not in list(Loudness):
        raise BadInput(f"'{loudness}' is no loudness: choose {' or '.join(Loudness)}.")
    ranges = [parse_network(each) for each in within or []]
    if ranges and loudness == Loudness.LISTEN:
        raise BadInput("--within says where to ask, and listening asks nothing: add --loudness call.")
    if not 0 < rate <= _MAX_RATE:
        raise BadInput(f"A rate of {rate:g} cannot be kept: name questions a second up to {_MAX_RATE:g}.")
    if seconds is not None and seconds < 0:
        raise BadInput(f"{seconds:g} seconds cannot pass: name a number above 0.")
    with open_cable(adapter) as keeper:
        started = keeper.wire.now()
        finder = Finder([keeper.mac], now=started, loudness=Loudness(loudness), within=ranges, rate=rate)
        finder.laptop_addresses |= {each.ip for each in keeper.own}

        def found() -> bool:
            return until_found and any(device.is_found for device in finder.devices())

        asking_s = finder.calling.total / rate + _LAST_ANSWERS_S if finder.calling else _LISTEN_S
        if not json:
            say(f"{adapter}: {'asking and ' if finder.calling else ''}listening. Ctrl-C ends it.")
        asyncio.run(run(finder, keeper, asking_s if seconds is None else seconds, found))
        devices = finder.devices()
        if json:
            put_json(
                find_document(
                    finder,
                    source=adapter,
                    listened_s=keeper.wire.now() - started,
                    counts=keeper.wire.counts(),
                    wall=keeper.wire.wall,
                    maker=maker,
                )
            )
        else:
            for device in devices:
                _tell(device)
            for hazard in finder.hazards():
                print(hazard.text)
            if not devices:
                say("Nothing heard. Pull the device's power and plug it in again: most devices speak when they start.")
    if not any(device.addresses or device.asking for device in devices):
        raise typer.Exit(Status.NO)


def _tell(device: Device) -> None:
    print(f"{device.mac}  {maker(device.mac) or 'maker unknown'}")
    if device.asking:
        print(f"    asks for an address by {device.asking.protocol.upper()}, requests so far: {device.asking.requests}")
    for belief in device.addresses:
        prefix = f"/{belief.prefix}" if belief.prefix is not None else ""
        print(f"    {belief.address}{prefix}  {belief.belief}")
        for reason in belief.because:
            print(f"        {reason.sentence}")
