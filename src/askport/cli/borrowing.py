"""``askport borrow`` and ``askport restore``."""

import asyncio
import os
import time
from contextlib import ExitStack
from ipaddress import IPv4Address, IPv4Interface, IPv4Network
from typing import Annotated

import typer

from askport.cli import on_cable, saying
from askport.cli.command import Waiting, run_command
from askport.core.addresses import MacAddress, parse_address, parse_interface, parse_network
from askport.core.errors import BadInput, MachineRefused, Refused
from askport.core.phrases import listed, phrase
from askport.core.reach.free_address import near
from askport.core.text import display_text
from askport.edges.footing import Footing


def borrow(
    context: typer.Context,
    adapter: Annotated[str, typer.Argument(help="The adapter that the cable is in.")],
    addresses: Annotated[
        list[str] | None, typer.Argument(metavar="[ADDRESS/PREFIX]...", help="The address to borrow, or several.")
    ] = None,
    to: Annotated[str | None, typer.Option(help="Choose a free address that reaches this one.")] = None,
    pin: Annotated[
        list[str] | None,
        typer.Option(metavar="ADDRESS=MAC", help="Tie an address to one MAC address, whoever else answers."),
    ] = None,
    instead: Annotated[bool, typer.Option("--instead", help="Instead of the adapter's addresses, not beside.")] = False,
    route: Annotated[
        list[str] | None, typer.Option(metavar="RANGE=GATEWAY", help="Reach a range through a device on the cable.")
    ] = None,
    on_adapter: on_cable.OnAdapterOption = False,
    json: Annotated[bool, typer.Option("--json", help="Print one JSON document.")] = False,
) -> None:
    """Borrow a laptop address, and give it back at the end.

    Runs the command after -- beside the adapter, and ends with its exit status. Without a command the address is on
    the adapter until Ctrl-C.

    Example: askport borrow enp3s0 --to 192.168.61.7 -- ping -c 3 192.168.61.7
    """
    command: list[str] = context.obj
    beside = bool(command) and not on_adapter and not instead
    if (not addresses) == (to is None):
        raise BadInput("Say which address to borrow, or with --to which device it is to reach: one of the two.")
    wanted = [parse_interface(each) for each in addresses or []]
    device = _device(to) if to else None
    pins = [_pin(each) for each in pin or []]
    routes = [_route(each) for each in route or []]
    if beside and os.geteuid() != 0:
        text = phrase("A command beside the adapter has to be started by root: run 'sudo askport borrow'.")
        raise MachineRefused(text, code="no-permission")
    with ExitStack() as ending:
        waiting = ending.enter_context(Waiting(command)) if beside else None
        cable = ending.enter_context(on_cable.open_cable(adapter, on_adapter=not beside))
        ending.enter_context(on_cable.giving_back(cable))
        interfaces = asyncio.run(_borrow(cable, wanted, device, pins, routes, instead=instead))
        if command and not cable.beside:
            asyncio.run(_over_cable(cable, interfaces, [*([device[0].ip] if device else []), *(at for at, _ in pins)]))
        if json:
            document = {"schema": "askport.borrow/1", "adapter": adapter, "address": str(interfaces[0])}
            saying.put_json({**document, "addresses": [str(each) for each in interfaces]})
        else:
            saying.say("Borrowed {interfaces} {where}.", interfaces=listed(interfaces), where=cable.where)
        if not command:
            status = _wait(cable)
        elif waiting and (namespace := asyncio.run(cable.namespace())) is not None:
            status = run_command(waiting.go(namespace), still=cable.keeper.require_alive)
        else:
            status = run_command(command)
    raise typer.Exit(status)


async def _borrow(
    cable: Footing,
    wanted: list[IPv4Interface],
    device: tuple[IPv4Interface, int | None] | None,
    pins: list[tuple[IPv4Address, MacAddress]],
    routes: list[tuple[IPv4Network, IPv4Address]],
    *,
    instead: bool,
) -> list[IPv4Interface]:
    interfaces = await _find_free(cable, wanted, device, {address for address, _ in pins})
    for place, interface in enumerate(interfaces):
        if instead and place == 0:
            await cable.keeper.borrow(interface, instead=True)
        else:
            await on_cable.borrow_beside(cable, interface, None, device[0].ip if device else None)
    for address, mac in pins:
        await cable.pin(address, mac)
    for network, gateway in routes:
        await cable.route(network, gateway)
    return interfaces


async def _over_cable(cable: Footing, interfaces: list[IPv4Interface], devices: list[IPv4Address]) -> None:
    """Have a command's traffic go over the cable, where another adapter is in the same subnet and would take it.

    Raises:
        MachineRefused: nobody said which device is meant, so that nothing can be led there.
    """
    from askport.edges.adapters import list_adapters, way_to

    for at in devices:
        if await asyncio.to_thread(way_to, at) != cable.adapter:
            await cable.route(IPv4Network(at), at)
    if devices:
        return
    for each in await asyncio.to_thread(list_adapters):
        others = [
            other
            for other in each.addresses
            if any(own.network.overlaps(other.interface.network) for own in interfaces)
        ]
        if each.name != cable.adapter and others:
            raise MachineRefused(
                "{name} has {interface} in the same subnet. The command would go there: give the device "
                "with --to ADDRESS, or with --pin ADDRESS=MAC.",
                name=each.name,
                interface=others[0].interface,
            )


def _pin(text: str) -> tuple[IPv4Address, MacAddress]:
    address, equals, mac = text.partition("=")
    if not equals:
        raise BadInput("'{text}' is not a pin: write ADDRESS=MAC.", text=display_text(text, 60))
    return parse_address(address), MacAddress.parse(mac)


def _route(text: str) -> tuple[IPv4Network, IPv4Address]:
    network, equals, gateway = text.partition("=")
    if not equals:
        raise BadInput("'{text}' is not a route: write RANGE=GATEWAY.", text=display_text(text, 60))
    return parse_network(network), parse_address(gateway, "gateway")


def _device(text: str) -> tuple[IPv4Interface, int | None]:
    if "/" not in text:
        return IPv4Interface((parse_address(text), 32)), None
    interface = parse_interface(text)
    return interface, interface.network.prefixlen


async def _find_free(
    cable: Footing,
    wanted: list[IPv4Interface],
    device: tuple[IPv4Interface, int | None] | None,
    pinned: set[IPv4Address],
) -> list[IPv4Interface]:
    """Return the addresses named, or one chosen to reach a device, after asking whether somebody has them."""
    if device is None:
        for each in wanted:
            choosing = await on_cable.choose(cable, [each])
            if choosing.chosen is None:
                raise Refused(
                    "{ip} is in use by {holder}: choose another address to borrow.",
                    ip=each.ip,
                    holder=choosing.taken.get(each.ip),
                )
        return wanted
    avoid = {each.ip for each in cable.own} | pinned
    choosing = await on_cable.choose(cable, near(device[0].ip, device[1], avoid))
    if choosing.chosen is None:
        raise Refused("Every address asked for near {ip} is in use: choose another address to borrow.", ip=device[0].ip)
    return [choosing.chosen]


def _wait(cable: Footing) -> int:
    saying.say("Press Ctrl-C to give it back.")
    try:
        while True:
            cable.keeper.require_alive()
            cable.wire.require_present()
            time.sleep(0.2)
    except KeyboardInterrupt:
        return saying.Status.INTERRUPTED


def restore(
    adapter: Annotated[str | None, typer.Argument(help="Only this adapter.")] = None,
    json: Annotated[bool, typer.Option("--json", help="Print one JSON document.")] = False,
) -> None:
    """Give back what an interrupted run left borrowed.

    Exit status 0 also if there is nothing.

    Example: sudo askport restore
    """
    if os.geteuid() != 0:
        raise MachineRefused("No permission to change adapters: run 'askport restore' with sudo.", code="no-permission")
    from askport.edges.restoring import give_back_all

    restored = give_back_all(adapter)
    left = [f"{name}: {each}" for name, one in restored.items() for each in one.left]
    if json:
        document = {"schema": "askport.restore/1", "given_back": {name: one.given for name, one in restored.items()}}
        saying.put_json({**document, "not_given_back": left})
    else:
        told = [
            phrase("{name}: the adapter is gone, and with it all that was borrowed.", name=name)
            if one.is_gone
            else phrase("{name}: gave back {given}.", name=name, given=listed(one.given))
            for name, one in restored.items()
            if one.is_gone or one.given
        ]
        if told or not left:
            print("\n".join(told or [phrase("Nothing was left borrowed.")]))
    if left:
        raise MachineRefused("Not given back: {left}. Fix that, then run 'askport restore' again.", left=listed(left))
