"""What the commands that use the cable share: running machines on it, and a laptop address in a subnet."""

import contextlib
import time
from collections.abc import Callable, Collection, Iterable, Iterator
from ipaddress import IPv4Address, IPv4Interface
from pathlib import Path
from typing import Any

from askport.cli.saying import Status, say
from askport.core.errors import Refused
from askport.core.finding.finder import Finder
from askport.core.machine import Machine, Together, earliest
from askport.core.reach.free_address import FreeAddressSearch, from_the_top, near
from askport.core.reach.in_the_way import cable_hazards
from askport.core.text import listed
from askport.edges import log
from askport.edges.driver import Driver
from askport.edges.keeper_client import Keeper, drop_to_invoker, require_link, require_switched_on
from askport.edges.streams import Streams
from askport.edges.terminal import end_with_terminal
from askport.edges.transports import hush

_SLICE_S = 0.2
NO_LINK = "{adapter} has no link yet: plug the cable in at both ends and give the device power."


LINK_S = 60.0
"""How long the link is waited for where no time is given."""


def open_cable(
    adapter: str, *, needs_link: bool = True, waits_s: float = 0.0, first: Callable[[], object] = lambda: None
) -> Keeper:
    """Take an adapter.

    Args:
        adapter: its name.
        needs_link: whether there is nothing to do where it has no link.
        waits_s: how long that is waited for.
        first: what has to work, as the user who called, before anything is touched: the job file is opened, say.

    Raises:
        MachineRefused: no permission, no such adapter, in use, or without link.
    """
    end_with_terminal(Status.INTERRUPTED)
    hush("asyncio")  # Ctrl-C may come while its loop carries something, of which it would cry out
    keeper = Keeper()
    drop_to_invoker()
    try:
        first()
        keeper.take(adapter)
        for address in keeper.restored:
            say(f"{adapter}: gave back {address}, which an interrupted run had left.")
        for what in keeper.left:
            say(f"{adapter}: not given back: {what}. 'askport restore' tries again.")
        require_switched_on(keeper)
        if needs_link:
            _await_link(keeper, waits_s)
            require_link(keeper)
    except BaseException:
        keeper.close()
        raise
    from askport.edges.adapters import list_adapters

    for hazard in cable_hazards(list_adapters(), adapter):
        say(hazard.text)
    return keeper


def _await_link(keeper: Keeper, longest_s: float) -> None:
    wire = keeper.wire
    if longest_s and not wire.link().up:
        say(NO_LINK.format(adapter=keeper.adapter))
        until = wire.now() + longest_s
        while not wire.link().up and wire.now() < until:
            time.sleep(_SLICE_S)


def finder_on(keeper: Keeper, **options: Any) -> Finder:
    """Return a finder on the cable; what it drops goes to the log."""
    finder = Finder([keeper.mac], now=keeper.wire.now(), **options)
    finder.on_drop = log.dropped
    return finder


@contextlib.contextmanager
def giving_back(keeper: Keeper) -> Iterator[None]:
    """Give back what was borrowed meanwhile, however it ends, and say what the keeper confirms.

    Raises:
        MachineRefused: the keeper does not confirm it.
    """
    try:
        yield
    finally:
        with contextlib.suppress(KeyboardInterrupt):  # a second Ctrl-C does not leave anything behind
            if given := keeper.give_back_now():
                say(f"Gave {listed(given)} on {keeper.adapter} back.")


@contextlib.contextmanager
def saving(path: Path | None, keeper: Keeper) -> Iterator[None]:
    """Keep what passes in a pcapng file meanwhile, where one is named.

    Raises:
        MachineRefused: it cannot be written.
    """
    if path is None:
        yield
        return
    from askport.edges.capture_file import CaptureWriter

    with CaptureWriter(path, keeper.wire.wall) as writer:
        keeper.wire.tap = writer.put
        yield


async def run(machine: Machine, keeper: Keeper, seconds: float | None, until: Callable[[], bool] | None = None) -> None:
    """Run a machine on the cable until it is done, ``until`` holds or the seconds have passed."""
    wire, over = keeper.wire, until or (lambda: machine.done)
    longest = None if seconds is None else wire.now() + seconds
    streams = Streams(keeper.adapter, wire.wake)
    driver = Driver(machine, wire, channels=streams)
    while not over() and (longest is None or wire.now() < longest):
        # In slices, because what ``over`` looks at may be time alone.
        await driver.run(until=over, longest_until=earliest(longest, wire.now() + _SLICE_S))
    streams.close_channels()


async def choose(keeper: Keeper, candidates: Iterable[IPv4Interface], *beside: Machine) -> FreeAddressSearch:
    """Ask for candidates until one is free; others may listen meanwhile."""
    choosing = FreeAddressSearch(keeper.mac, candidates, now=keeper.wire.now())
    await run(Together(choosing, *beside), keeper, None)
    return choosing


async def laptop_within(
    keeper: Keeper, target: IPv4Interface, avoid: Collection[IPv4Address], *beside: Machine
) -> IPv4Interface:
    """Return a laptop address in the target's subnet: its own, or a free one that is borrowed now.

    Raises:
        Refused: no free address was found.
        MachineRefused: it could not be borrowed.
    """
    for own in keeper.own:
        if target.ip in own.network and own.ip in target.network:
            return own
    candidates = from_the_top(target.network, {target.ip, *avoid})
    return await _borrow_first(keeper, candidates, f"in {target.network}", beside)


async def free_within(
    keeper: Keeper, target: IPv4Interface, avoid: Collection[IPv4Address], *beside: Machine
) -> IPv4Interface:
    """Return an address in the target's subnet that may be asked from: the laptop's own, or one that nobody holds.

    Raises:
        Refused: no free address was found.
    """
    for own in keeper.own:
        if target.ip in own.network and own.ip in target.network:
            return own
    search = await choose(keeper, from_the_top(target.network, {target.ip, *avoid}), *beside)
    if search.chosen is None:
        raise Refused(f"No free laptop address was found in {target.network}: something answers for all of them.")
    return search.chosen


async def laptop_beside(keeper: Keeper, address: IPv4Address, *beside: Machine) -> IPv4Interface:
    """Return a laptop address that reaches a device whose mask is not known: its own, or one that is borrowed now.

    Raises:
        Refused: no free address was found.
        MachineRefused: it could not be borrowed.
    """
    present = [IPv4Interface(each) for each in await keeper.addresses()]
    for own in present:
        if address in own.network:
            return own
    return await _borrow_first(keeper, near(address, None, {each.ip for each in present}), f"beside {address}", beside)


async def _borrow_first(
    keeper: Keeper, candidates: Iterable[IPv4Interface], where: str, beside: Iterable[Machine]
) -> IPv4Interface:
    choosing = await choose(keeper, candidates, *beside)
    if choosing.chosen is None:
        raise Refused(f"No free laptop address was found {where}: something answers for all of them.")
    await keeper.borrow(choosing.chosen)
    say(f"Borrowed {choosing.chosen} on {keeper.adapter}.")
    return choosing.chosen
