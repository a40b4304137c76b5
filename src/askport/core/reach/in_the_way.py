"""The laptop's adapters as values, and what is dangerous about them, each with what to do."""

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, field, replace
from ipaddress import IPv4Address, IPv4Interface

from askport.core.hazard import Hazard
from askport.core.phrases import phrase

CABLE_KINDS = frozenset({"wired", "virtual"})
"""Kinds of adapter that a cable to a device can be in."""


@dataclass(frozen=True, slots=True, kw_only=True)
class AdapterAddress:
    """One IPv4 address of an adapter."""

    interface: IPv4Interface
    origin: str
    """``static``, ``dhcp`` (it has a lifetime) or ``link-local``."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Adapter:
    """One adapter of the laptop."""

    name: str
    kind: str
    """``wired``, ``wireless``, ``virtual``, ``tunnel`` or ``loopback``."""
    link_up: bool
    switched_on: bool
    speed_mbps: int | None
    half_duplex: bool = False
    driver: str | None = None
    mac: str | None
    addresses: tuple[AdapterAddress, ...]
    gateway: IPv4Address | None
    dns: tuple[str, ...]
    manager: str | None
    """The program that has this adapter in its hands, where that can be told."""
    forwards: bool = False
    """Whether the kernel passes on what comes in there for somebody else."""
    taken_by: str | None = None
    """The adapter that is made upon this one and takes what comes in here: a bridge, a bond, a passthru macvtap."""
    hazards: tuple[tuple[str, str], ...] = field(default=())
    """Code and sentence of each reason for care."""


def with_hazards(adapters: Sequence[Adapter], *, server_port_held: bool) -> list[Adapter]:
    """Return the adapters with what is dangerous about each.

    Args:
        server_port_held: whether a program on the laptop holds the address-server port.
    """
    return [
        replace(each, hazards=tuple(_of_one(each, adapters, server_port_held=server_port_held))) for each in adapters
    ]


def _of_one(one: Adapter, all_of_them: Sequence[Adapter], *, server_port_held: bool) -> Iterator[tuple[str, str]]:
    if one.kind == "loopback":
        return
    if one.gateway:
        text = phrase(
            "{name} carries the laptop's internet connection. If this is the site network, plug the "
            "cable into the device instead.",
            name=one.name,
        )
        yield "default-route", text
    if not one.link_up:
        text = (
            phrase("No link: plug the cable into {name}.", name=one.name)
            if one.switched_on
            else phrase("{name} is switched off.", name=one.name)
        )
        yield "link-down", text
    if one.taken_by:
        yield (
            "taken-by",
            phrase(
                "{taken_by} takes what comes in on {name}: use {taken_by} instead.",
                taken_by=one.taken_by,
                name=one.name,
            ),
        )
    if one.half_duplex and one.link_up:
        text = phrase(
            "{name} is at half duplex. Set the other end to auto-negotiate, or packets will be lost.", name=one.name
        )
        yield "half-duplex", text
    if one.kind not in CABLE_KINDS:
        return
    for other in all_of_them:
        shared = _shared(one, other) if other.name != one.name and other.link_up else None
        if shared:
            text = phrase(
                "{name} ({kind}) is in {shared} as well: a browser may reach something else there. Open a "
                "door to the device, or switch {name} off meanwhile.",
                name=other.name,
                kind=other.kind,
                shared=shared,
            )
            yield "overlapping-subnet", text
    if server_port_held and not one.gateway:
        text = phrase("Another program on this laptop is using the DHCP server port (UDP 67). Stop it first.")
        yield "server-port", text


def _shared(one: Adapter, other: Adapter) -> str | None:
    for mine in one.addresses:
        for theirs in other.addresses:
            if mine.interface.network.overlaps(theirs.interface.network):
                longer = max(mine.interface.network, theirs.interface.network, key=lambda each: each.prefixlen)
                return str(longer)
    return None


def cable_hazards(
    adapters: Iterable[Adapter],
    cable: str,
    *,
    device: IPv4Address | None = None,
    way_out: str | None = None,
) -> list[Hazard]:
    """Return what is dangerous about the laptop for the work on one cable.

    Args:
        device: the device's address, where it is known.
        way_out: the adapter by which the kernel would send to that address, or None where by none.
    """
    here = next((each for each in adapters if each.name == cable), None)
    if here is None:
        text = phrase("{cable} was pulled out, and nothing is left to give back: plug it in again.", cable=cable)
        return [Hazard(code="no-adapter", text=text)]
    hazards = [Hazard(code=code, text=text) for code, text in here.hazards if code != "link-down"]
    present = {each.interface for each in here.addresses}
    if device and way_out and way_out != cable and any(device in each.network for each in present):
        text = phrase(
            "The laptop sends what is for {device} out over {way_out}, not over {cable}. Ask Port itself "
            "uses {cable}; for a browser open a door, or switch {way_out} off meanwhile.",
            device=device,
            way_out=way_out,
            cable=cable,
        )
        hazards.append(Hazard(code="better-route", text=text, address=device))
    return hazards
