"""``askport assign``."""

import asyncio
import secrets
from ipaddress import IPv4Address
from typing import Annotated

import typer

from askport.cli.cable import choose, finder_on, giving_back, laptop_beside, laptop_within, open_cable, run
from askport.cli.record import JobOption, Record, TagOption
from askport.cli.talk import JsonOption, Status, put_json, say
from askport.core.addresses import MacAddress, parse_address, parse_interface, parse_list
from askport.core.channels import TcpPort
from askport.core.errors import BadInput, Refused
from askport.core.finding.device import Device
from askport.core.finding.finder import Finder
from askport.core.machine import Together
from askport.core.plan.landings import landings
from askport.core.plan.target import Target, require_sound
from askport.core.ways.table import WAYS, Start
from askport.core.ways.way import Result, Way
from askport.edges.door import Door
from askport.edges.keeper_client import Keeper
from askport.reports.times import iso

_ASSIGN_S = 120.0
"""How long a way may take unless said otherwise: a device has to be power-cycled by hand meanwhile."""
_PAGE = 80


def assign(
    adapter: Annotated[str | None, typer.Argument(help="The adapter that the cable is in.")] = None,
    mac: Annotated[str | None, typer.Option(help="The device's MAC address.")] = None,
    to: Annotated[str | None, typer.Option(metavar="ADDRESS/PREFIX", help="Its final address.")] = None,
    gateway: Annotated[str | None, typer.Option(help="Its gateway.")] = None,
    dns: Annotated[list[str] | None, typer.Option(help="A DNS server.")] = None,
    by: Annotated[str | None, typer.Option(metavar="WAY", help="The way; --ways lists them.")] = None,
    at: Annotated[str | None, typer.Option(metavar="ADDRESS", help="Where the device is now.")] = None,
    seconds: Annotated[float, typer.Option(help="How long at the most.")] = _ASSIGN_S,
    others_are_fine: Annotated[
        bool, typer.Option("--others-are-fine", help="Answer this MAC though other devices are on the wire.")
    ] = False,
    ways: Annotated[bool, typer.Option("--ways", help="List the ways and end.")] = False,
    job: JobOption = None,
    tag: TagOption = "",
    json: JsonOption = False,
) -> None:
    """Set a device's address by one way."""
    if ways:
        for entry in WAYS.values():
            print(f"{entry.name}  {entry.says}")
        return
    if not (adapter and mac and to and by):
        raise BadInput("Name the adapter, --mac, --to and --by: 'askport assign --help' shows how.")
    if by not in WAYS:
        raise BadInput(f"'{by}' is no way of setting an address: choose {' or '.join(WAYS)}.")
    target = Target(
        interface=parse_interface(to),
        gateway=parse_address(gateway, "gateway") if gateway else None,
        dns=tuple(parse_list(dns or [], "DNS server")),
    )
    require_sound(target)
    device, old = MacAddress.parse(mac), parse_address(at) if at else None
    record = Record(job, tag)
    with open_cable(adapter, first=record.open) as keeper, giving_back(keeper):
        way, seen = asyncio.run(_assign(keeper, device, target, by, old, seconds, others_are_fine))
        wall, now = keeper.wire.wall, keeper.wire.now()
        if job:
            from askport.core.register.writing import was_set

            record.visit(device, seen, wall, now, goes_on=False)
            record.write(wall(now), was_set(way, unit=record.unit))
    if json:
        put_json(
            {
                "schema": "askport.assign/1",
                "mac": str(device),
                "way": by,
                "to": str(target.interface),
                "result": str(way.result),
                "permanent": way.permanent,
                "steps": [{"at": iso(wall(step.at)), "text": step.text} for step in way.steps],
                "because": way.because,
            }
        )
    else:
        print(way.because)
        if way.result is Result.TAKEN and way.permanent is False:
            print("It is gone at the next power cut: tell the device to keep it, then prove it with --power-cycle.")
    if way.result is not Result.TAKEN:
        raise typer.Exit(Status.NO)


async def _assign(
    keeper: Keeper,
    mac: MacAddress,
    target: Target,
    by: str,
    old: IPv4Address | None,
    seconds: float,
    others_are_fine: bool,
) -> tuple[Way, Device | None]:
    """Return the way that was gone, and the device as it was heard before."""
    finder = finder_on(keeper, measures=False)
    finder.laptop_addresses |= {each.ip for each in keeper.own}
    vacancy = await choose(keeper, [target.interface], finder)
    holder = vacancy.taken.get(target.interface.ip)
    if holder and holder != mac:
        raise Refused(f"{target.interface.ip} is in use by {holder}: choose another final address.")
    avoid = {*filter(None, [target.gateway, old]), *target.dns}
    laptop = await laptop_within(keeper, target.interface, avoid, finder)
    finder.laptop_addresses.add(laptop.ip)
    entry = WAYS[by]
    door = await _door_to(keeper, mac, old, finder) if entry.needs_reach else None
    way = entry.begin(
        Start(
            mac=mac,
            target=target,
            laptop_mac=keeper.mac,
            laptop=laptop,
            old=old,
            now=keeper.wire.now(),
            xid=lambda: secrets.randbits(32),
            servers=finder.servers(),
            landings=landings(target.interface.ip, old),
            allow_others=others_are_fine,
        )
    )
    if entry.by_technician:
        for field, value in target.typed():
            say(f"    {field}: {value}")
    say(way.waits_for)
    seen: Device | None = None

    def over() -> bool:
        nonlocal seen
        heard = finder.device(mac)
        seen = heard if heard and (seen is None or heard.request) else seen
        return way.done

    try:
        await run(Together(way, finder), keeper, seconds, over)
    finally:
        if door:
            await door.close()
    way.close(keeper.wire.now())
    return way, seen


async def _door_to(keeper: Keeper, mac: MacAddress, old: IPv4Address | None, finder: Finder) -> Door | None:
    """Borrow what reaches the device where it is, and open a door to its page there."""
    heard = finder.device(mac)
    at = old or (heard.best.address if heard and heard.best else None)
    if at is None:
        say("Where it is now is not known, so its page cannot be reached: name it with --at.")
        return None
    await laptop_beside(keeper, at, finder)
    await keeper.pin(at, mac)
    door = Door(keeper.adapter, TcpPort(at, _PAGE))
    await door.open()
    say(f"Its page is at {door.url}, over {keeper.adapter} only.")
    return door
