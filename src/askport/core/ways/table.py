"""The ways of setting an address: to have one more, write its module and one line here."""

from collections.abc import Callable, Collection
from dataclasses import dataclass
from ipaddress import IPv4Address, IPv4Interface

from askport.core.addresses import MacAddress
from askport.core.finding.device import Device
from askport.core.machine import Xid
from askport.core.plan.target import Target
from askport.core.ways.answering_requests import AnsweringRequests
from askport.core.ways.by_hand import ByHand
from askport.core.ways.way import Way


@dataclass(frozen=True, slots=True, kw_only=True)
class Start:
    """What a way can be started with."""

    mac: MacAddress
    target: Target
    laptop_mac: MacAddress
    laptop: IPv4Interface | None
    """The laptop's address in the target's subnet, where it has one."""
    old: IPv4Address | None
    """Where the device is now, where that is known."""
    now: float
    xid: Xid
    servers: Collection[IPv4Address] = ()
    """Other address servers that this wire has told of."""
    landings: Collection[IPv4Address] = ()
    """Where it may be instead, once it is not where it was."""
    allow_others: bool = False
    """Whether the technician said that other devices on this wire are in order."""


@dataclass(frozen=True, slots=True, kw_only=True)
class WayEntry:
    """One way, and all that is to be known of it before it is started."""

    name: str
    """A stable word, for scripts and the journal."""
    title: str
    """What it is called on the screen."""
    done: str
    """What it is called in the register, once it was gone."""
    says: str
    """What it does, for the command line."""
    fits: Callable[[Device | None, IPv4Address | None], str | None]
    """Takes the device as found and where it is; says why this way fits it, or None where it does not."""
    needs_laptop: bool = False
    """Whether the laptop must have an address in the target's subnet."""
    needs_reach: bool = False
    """Whether the device must be reached where it is now."""
    by_technician: bool = False
    """Whether somebody types the values in: they are shown, and watching for the move needs no decision."""
    enter_does: str = ""
    """What Enter does, with ``{target}``."""
    begin: Callable[[Start], Way]


def _asks(device: Device | None, _: IPv4Address | None) -> str | None:
    if device is None or device.request is None:
        return None
    return f"It asks for an address by {device.request.protocol.upper()}, so it can be answered."


def _answer(start: Start) -> Way:
    if start.laptop is None:
        raise ValueError("answering needs a laptop address in the target's subnet")
    return AnsweringRequests(
        start.mac,
        start.target,
        laptop_mac=start.laptop_mac,
        laptop=start.laptop,
        xid=start.xid,
        now=start.now,
        allow_others=start.allow_others,
        servers=start.servers,
    )


def _can_be_typed(device: Device | None, there: IPv4Address | None) -> str | None:
    if device and device.request:
        fell_back = f", at {there} which it fell back to" if there else ""
        return f"Its own page or keypad, if it has one{fell_back}."
    return "It has an address of its own: type the new one into its page, keypad or console."


def _watch(start: Start) -> Way:
    return ByHand(
        start.mac,
        start.target,
        laptop_mac=start.laptop_mac,
        laptop=start.laptop,
        old=start.old,
        now=start.now,
        landings=start.landings,
    )


WAYS: dict[str, WayEntry] = {
    entry.name: entry
    for entry in (
        WayEntry(
            name=AnsweringRequests.name,
            title="answer its request",
            done="its request answered",
            says="answers its BOOTP or DHCP requests; gone at the next power cut until the device is told to keep it",
            fits=_asks,
            needs_laptop=True,
            enter_does="answer its requests with {target}, once no other server is heard",
            begin=_answer,
        ),
        WayEntry(
            name=ByHand.name,
            title="by hand",
            done="by hand",
            says=(
                "you type the values into the device's own page or keypad; Ask Port sees it move. Needs --at for its "
                "page"
            ),
            fits=_can_be_typed,
            needs_reach=True,
            by_technician=True,
            begin=_watch,
        ),
    )
}
"""By name, best first."""


def fitting(device: Device | None, there: IPv4Address | None) -> list[tuple[WayEntry, str]]:
    """Return the ways that fit a device, best first, each with the reason."""
    found = ((entry, entry.fits(device, there)) for entry in WAYS.values())
    return [(entry, reason) for entry, reason in found if reason]


def entry_of(name: str | None) -> WayEntry | None:
    """Return the entry of a way, or None where there is none of that name."""
    return WAYS.get(name or "")
