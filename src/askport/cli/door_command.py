"""``askport door``: a loopback port to a device over the cable."""

import asyncio
from ipaddress import IPv4Address, IPv6Address, ip_address
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from askport.cli import on_cable, target_options, walled
from askport.cli.link_local_option import OverIpv6Option, link_local_of, who_has
from askport.cli.saying import Status, put_json, say
from askport.core.addresses import LINK_LOCAL, MacAddress, host_fault_of, parse_address
from askport.core.channels import TcpPort
from askport.core.errors import BadInput
from askport.core.finding import clues, tracking
from askport.core.finding.device import Device
from askport.core.machine import Together
from askport.core.text import display_text, whole_number
from askport.edges.door import FIREWALL, Door
from askport.edges.footing import Footing

if TYPE_CHECKING:
    from askport.cli.teaching import Teaching

_PORT = 80
_LOOKS_EVERY_S = 0.3


def door(
    adapter: Annotated[str, typer.Argument(help="The adapter that the cable is in.")],
    device: Annotated[str, typer.Argument(metavar="ADDRESS[:PORT]", help="The device; IPv6 as [fe80::1]:80.")],
    pin: Annotated[str | None, typer.Option(metavar="MAC", help="Reach this one of several with one address.")] = None,
    learn: Annotated[
        Path | None, typer.Option(metavar="FILE.toml", help="What the browser sends becomes a kind file.")
    ] = None,
    to: Annotated[str, typer.Option(metavar="ADDRESS/PREFIX", help="What the device is set to, if it is known.")] = "",
    gateway: Annotated[str, typer.Option(help="With --to: its gateway.")] = "",
    dns: Annotated[list[str] | None, typer.Option(help="With --to: its DNS servers.")] = None,
    name: Annotated[str, typer.Option(help="With --learn: what the kind is called.")] = "",
    on_adapter: on_cable.OnAdapterOption = False,
    over_ipv6: OverIpv6Option = False,
    json: Annotated[bool, typer.Option("--json", help="Print one JSON document.")] = False,
) -> None:
    """Open a device's web page to one browser on this laptop.

    Until Ctrl-C. Prints the address for the browser. With --learn, what the browser sends becomes a kind file.

    Example: askport door enp3s0 192.168.61.7:80
    """
    far = far_end(device)
    mac = MacAddress.parse(pin) if pin else None
    target = target_options.target_of(to, gateway, dns) if to else None
    if learn and not isinstance(far.address, IPv4Address):
        raise BadInput("Learning is for pages at IPv4 addresses: give the device's.")
    if learn and over_ipv6:
        raise BadInput("Learning is for pages at IPv4 addresses: leave --over-ipv6 out.")
    if mac and not isinstance(far.address, IPv4Address):
        raise BadInput("--pin is for IPv4 addresses: an IPv6 link-local address is one device's alone.")
    with (
        on_cable.open_cable(adapter, on_adapter=on_adapter) as cable,
        on_cable.giving_back(cable),
    ):
        taught = None
        if learn:
            from askport.cli.teaching import Teaching  # what a lesson takes is loaded for one only

            taught = Teaching(learn, target, name)
        try:
            status = asyncio.run(_serve(cable, far, mac, taught, over_ipv6=over_ipv6, json=json))
        except KeyboardInterrupt:
            if taught:
                taught.write()
            raise
    raise typer.Exit(status)


def far_end(text: str) -> TcpPort:
    """Read ADDRESS[:PORT].

    Raises:
        BadInput: the address or the port cannot be meant.
    """
    shown = display_text(text, 60)
    if text.startswith("["):
        head, _, tail = text[1:].partition("]")
        port = tail.removeprefix(":")
    else:
        many = text.count(":") > 1
        head, _, port = (text, "", "") if many else text.partition(":")
    address: IPv4Address | IPv6Address
    if ":" in head:
        try:
            address = ip_address(head.partition("%")[0])
        except ValueError:
            raise BadInput(
                "'{shown}' is not an address of a device: write e.g. 10.84.16.40:80 or [fe80::1]:80.", shown=shown
            ) from None
    else:
        address = parse_address(head)
    if port and whole_number(port, 1, 65_535) is None:
        raise BadInput("'{port}' is not a TCP port: give one from 1 to 65535.", port=display_text(port, 20))
    return TcpPort(address, int(port) if port else _PORT)


async def _serve(
    cable: Footing, far: TcpPort, mac: MacAddress | None, taught: "Teaching | None", *, over_ipv6: bool, json: bool
) -> int:
    if over_ipv6 and isinstance(far.address, IPv4Address):
        far = TcpPort(await link_local_of(cable, mac or await who_has(cable, far.address)), far.port)
    elif isinstance(far.address, IPv4Address):
        await on_cable.laptop_beside(cable, far.address, device=mac)
        if mac:
            await cable.pin(far.address, mac)
    opened = await taught.door(cable, far, mac) if taught else Door(cable, far)
    await opened.open()
    if json:
        put_json({"schema": "askport.door/1", "adapter": cable.adapter, "to": str(far), "url": opened.hand_out()})
    else:
        print(opened.hand_out(), flush=True)
    say("Press Ctrl-C to close the door to {far} over {adapter}.", far=far, adapter=cable.adapter)
    said, told, following = "", 0, _Following(cable, opened, mac)
    await following.begin()
    try:
        while True:
            cable.keeper.require_alive()
            await following.look(_LOOKS_EVERY_S)
            if taught:
                taught.look(cable)
            for each in opened.said[told:]:
                say(each)
            told = len(opened.said)
            if opened.fault != said:
                said = opened.fault
                say(said)
                if said and opened.dropped and not cable.beside and await walled.is_walled(cable, opened.far):
                    say(FIREWALL, far=opened.far, adapter=cable.adapter)
    except asyncio.CancelledError:
        return Status.INTERRUPTED
    finally:
        await opened.close()


class _Following:
    """Leads a door to where its device has moved."""

    def __init__(self, cable: Footing, opened: Door, mac: MacAddress | None) -> None:
        """Begin; without a MAC address, the one that shows itself where the door leads is the device."""
        self._cable, self._opened, self._mac = cable, opened, mac
        self._finder = on_cable.finder_on(cable, measures=False)
        self._tracker: tracking.Tracker | None = None
        self._told: list[IPv4Address] = []

    async def begin(self) -> None:
        """Ask who is where the door leads, so that it is known again."""
        self._finder.laptop_addresses |= set(await self._own())
        if isinstance(self._opened.far.address, IPv4Address):
            self._finder.call([self._opened.far.address], now=self._cable.wire.now(), guess=False)

    async def _own(self) -> list[IPv4Address]:
        return [each.ip for each in await self._cable.addresses()]

    async def look(self, seconds: float) -> None:
        """Watch the wire for a while; follow the device where it was told to go, or shows itself."""
        await on_cable.run(Together(*filter(None, (self._finder, self._tracker))), self._cable, seconds, lambda: False)
        at = self._opened.far.address
        if not isinstance(at, IPv4Address):
            return
        shown = {each.best.address: each.mac for each in self._finder.devices() if each.best and _is_certain(each)}
        self._mac = self._mac or shown.get(at)
        if self._mac and self._opened.told != self._told:
            self._told = list(self._opened.told)
            may_be = [each for each in self._told if not host_fault_of(each) and each != at]
            self._tracker = None
            if may_be:
                self._tracker = tracking.Tracker(
                    self._cable.mac, self._mac, await self._own(), meant=may_be[0], was=at, landings=may_be[1:]
                )
                self._tracker.look_from(self._cable.wire.now())
        moved = next((where for where, mac in shown.items() if mac == self._mac and where != at), None)
        if tracker := self._tracker:
            moved = tracker.meant if tracker.has_left and tracker.meant in tracker.seen else tracker.moved_to
        if self._mac and moved and moved not in LINK_LOCAL:
            await on_cable.laptop_beside(self._cable, moved, self._finder, device=self._mac)
            await self._cable.pin(moved, self._mac)
            self._opened.follow(TcpPort(moved, self._opened.far.port))
            self._tracker = None
            say("It has moved to {moved}: the door leads there now.", moved=moved)


def _is_certain(device: Device) -> bool:
    return device.best is not None and device.best.belief is clues.Belief.CERTAIN
