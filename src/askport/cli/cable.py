"""What the commands that use the cable share: running machines on it, and a laptop address in a subnet."""

import contextlib
from collections.abc import Callable, Collection, Iterable, Iterator
from ipaddress import IPv4Address, IPv4Interface
from pathlib import Path

from askport.cli.talk import Status, say
from askport.core.errors import Refused
from askport.core.machine import Machine, earliest
from askport.core.reach.adapters import cable_hazards
from askport.core.reach.choosing import Choosing, from_the_top
from askport.edges.driver import Driver
from askport.edges.keeper_client import Keeper, drop_to_invoker, require_link
from askport.edges.terminal import end_with_terminal

_SLICE_S = 0.2


def open_cable(adapter: str) -> Keeper:
    """Take an adapter that has a link.

    Raises:
        MachineRefused: no permission, no such adapter, in use, or without link.
    """
    end_with_terminal(Status.INTERRUPTED)
    keeper = Keeper().take(adapter)
    drop_to_invoker()
    for address in keeper.restored:
        say(f"{adapter}: gave back {address}, which an interrupted run had left.")
    try:
        require_link(keeper)
    except Exception:
        keeper.close()
        raise
    from askport.edges.adapters import list_adapters

    for hazard in cable_hazards(list_adapters(), adapter):
        say(hazard.text)
    return keeper


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
    driver = Driver(machine, wire)
    while not over() and (longest is None or wire.now() < longest):
        # In slices, because what ``over`` looks at may be time alone.
        await driver.run(until=over, longest_until=earliest(longest, wire.now() + _SLICE_S))


async def choose(keeper: Keeper, candidates: Iterable[IPv4Interface]) -> Choosing:
    """Ask for candidates until one is free."""
    choosing = Choosing(keeper.mac, candidates, now=keeper.wire.now())
    await run(choosing, keeper, None)
    return choosing


async def laptop_within(keeper: Keeper, target: IPv4Interface, avoid: Collection[IPv4Address]) -> IPv4Interface:
    """Return a laptop address in the target's subnet: its own, or a free one that is borrowed now.

    Raises:
        Refused: no free address was found.
        MachineRefused: it could not be borrowed.
    """
    for own in keeper.own:
        if target.ip in own.network and own.ip in target.network:
            return own
    choosing = await choose(keeper, from_the_top(target.network, {target.ip, *avoid}))
    if choosing.chosen is None:
        raise Refused(f"No free laptop address was found in {target.network}: something answers for all of them.")
    await keeper.borrow(choosing.chosen)
    say(f"Borrowed {choosing.chosen} on {keeper.adapter}.")
    return choosing.chosen
