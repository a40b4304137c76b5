"""What the commands that use the cable share: running machines on it, and a laptop address in a subnet."""

import contextlib
import os
import sys
import time
from collections.abc import Callable, Iterable, Iterator
from ipaddress import IPv4Address, IPv4Interface
from pathlib import Path
from typing import Annotated, Any

import typer

from askport.cli.saying import Status, say
from askport.core.addresses import MacAddress
from askport.core.errors import TAKEN_ELSEWHERE, MachineRefused, Refused
from askport.core.finding.finder import Finder
from askport.core.machine import Machine, Together, earliest
from askport.core.phrases import listed, phrase
from askport.core.reach import in_the_way, laptop, whom_it_answers
from askport.core.reach.free_address import FreeAddressSearch, near
from askport.edges import invoker, keeper_client, log, terminal
from askport.edges.by_group import ASKS_FOR_A_WORD
from askport.edges.driver import Driver
from askport.edges.footing import Footing
from askport.edges.streams import Streams
from askport.edges.transports import hush

OnAdapterOption = Annotated[bool, typer.Option("--on-adapter", help="Borrow on the adapter itself, and not beside it.")]
_SLICE_S = 0.2
NO_LINK = "{adapter} has no link yet: plug the cable in at both ends and give the device power."


LINK_S = 60.0
"""How long the link is waited for where no time is given."""


def open_cable(
    adapter: str,
    *,
    on_adapter: bool = False,
    needs_link: bool = True,
    waits_s: float = 0.0,
    first: Callable[[], object] = lambda: None,
) -> Footing:
    """Take an adapter.

    Args:
        on_adapter: whether what is borrowed is to be on it, and not beside it.
        needs_link: whether there is nothing to do where it has no link.
        first: what has to work, as the user who called, before anything is touched: the job file is opened, say.

    Raises:
        MachineRefused: no permission, no such adapter, in use, or without link.
    """
    terminal.end_with_terminal(Status.INTERRUPTED)
    hush("asyncio")  # Ctrl-C may come while its loop carries something, of which it would cry out
    keeper = keeper_client.Keeper()
    invoker.drop_to_invoker()
    try:
        first()
        keeper = _taken(keeper, adapter)
        for address in keeper.restored:
            say("{adapter}: gave back {address}, which an interrupted run had left.", adapter=adapter, address=address)
        for what in keeper.left:
            say("{adapter}: not given back: {what}. 'askport restore' tries again.", adapter=adapter, what=what)
        if not keeper.switched_on and _is_told(
            phrase("{adapter} is switched off. Switch it on, and off again at the end?", adapter=adapter)
        ):
            keeper.switch_on()
        keeper_client.require_switched_on(keeper)
        cable = Footing(keeper, on_adapter=on_adapter)
        if needs_link:
            _await_link(cable, waits_s)
            keeper_client.require_link(keeper)
    except BaseException:
        keeper.close()
        raise
    from askport.edges.adapters import list_adapters

    for hazard in in_the_way.cable_hazards(list_adapters(), adapter):
        if on_adapter or hazard.code not in laptop.ON_ADAPTER_ONLY:
            say(hazard.text)
    return cable


def _taken(keeper: keeper_client.Keeper, adapter: str) -> keeper_client.Keeper:
    """Have the keeper take the adapter; where the default route goes over it, its name is asked for once more."""
    try:
        return keeper.take(adapter)
    except MachineRefused as error:
        if error.code != ASKS_FOR_A_WORD:
            raise
        word = os.environ.get("ASKPORT_ALL_THE_SAME", "")
        if not word and sys.stdin.isatty():
            say(error.message)
            word = typer.prompt(phrase("Type its name to use it all the same"), err=True)
        if word != adapter:
            text = phrase(
                "{message} Or set ASKPORT_ALL_THE_SAME={adapter} in the environment.",
                message=error.message,
                adapter=adapter,
            )
            raise MachineRefused(text, code=error.code) from None
        return keeper_client.Keeper().take(adapter, word)


def _is_told(question: str) -> bool:
    return sys.stdin.isatty() and typer.confirm(question, err=True)


def _await_link(cable: Footing, longest_s: float) -> None:
    wire = cable.wire
    if longest_s and not wire.link().up:
        say(NO_LINK, adapter=cable.adapter)
        until = wire.now() + longest_s
        while not wire.link().up and wire.now() < until:
            time.sleep(_SLICE_S)


def finder_on(cable: Footing, **options: Any) -> Finder:
    """Return a finder on the cable; what it drops goes to the log."""
    finder = Finder(cable.wire.macs, now=cable.wire.now(), **options)
    finder.on_drop = log.dropped
    return finder


@contextlib.contextmanager
def giving_back(cable: Footing) -> Iterator[None]:
    """Give back what was borrowed meanwhile, however it ends, and say what the cable confirms.

    Raises:
        MachineRefused: the cable does not confirm it.
    """
    try:
        yield
    finally:
        with contextlib.suppress(KeyboardInterrupt):  # a second Ctrl-C does not leave anything behind
            where = cable.where
            if given := cable.keeper.give_back_now():
                say("Gave {given} {where} back.", given=listed(given), where=where)


@contextlib.contextmanager
def saving(path: Path | None, cable: Footing) -> Iterator[None]:
    """Keep what passes in a pcapng file meanwhile, where one is named.

    Raises:
        MachineRefused: it cannot be written.
    """
    if path is None:
        yield
        return
    from askport.edges.capture_file import CaptureWriter

    with CaptureWriter(path, cable.wire.wall) as writer:
        cable.wire.tap = writer.put
        yield


async def run(machine: Machine, cable: Footing, seconds: float | None, until: Callable[[], bool] | None = None) -> None:
    """Run a machine on the cable until it is done, ``until`` holds or the seconds have passed."""
    wire, over = cable.wire, until or (lambda: machine.done)
    longest = None if seconds is None else wire.now() + seconds
    streams = Streams(cable, wire.wake)
    driver = Driver(machine, wire, channels=streams)
    while not over() and (longest is None or wire.now() < longest):
        cable.wire.require_present()
        # In slices, because what ``over`` looks at may be time alone.
        await driver.run(until=over, longest_until=earliest(longest, wire.now() + _SLICE_S))
    streams.close_channels()


async def choose(cable: Footing, candidates: Iterable[IPv4Interface], *others: Machine) -> FreeAddressSearch:
    """Ask for candidates until one is free; others may listen meanwhile."""
    choosing = FreeAddressSearch(cable.mac, candidates, now=cable.wire.now())
    await run(Together(choosing, *others), cable, None)
    return choosing


async def laptop_beside(
    cable: Footing, address: IPv4Address, *others: Machine, device: MacAddress | None = None
) -> IPv4Interface:
    """Return a laptop address that reaches a device whose mask is not known: its own, or one that is borrowed now.

    Raises:
        Refused: no free address was found.
        MachineRefused: it could not be borrowed.
    """
    present = await cable.addresses()
    for own in present:
        if address in own.network:
            return own
    taken = {each.ip for each in (*present, *cable.own)}
    while True:
        chosen = (await choose(cable, near(address, None, taken), *others)).chosen
        if chosen is None:
            raise Refused(
                "No free laptop address was found beside {address}: something answers for all of them.", address=address
            )
        try:
            await borrow_beside(cable, chosen, device, address)
        except MachineRefused as error:
            if error.code != TAKEN_ELSEWHERE:  # another run of Ask Port has it
                raise
            taken.add(chosen.ip)
        else:
            say("Borrowed {chosen} {where}.", chosen=chosen, where=cable.where)
            return chosen


async def borrow_beside(
    cable: Footing, interface: IPv4Interface, device: MacAddress | None, there: IPv4Address | None
) -> None:
    """Borrow an address; on the adapter where it cannot be beside it, or where the device answers there only.

    Args:
        cable: where it is borrowed.
        device: who is to answer it, or None for whoever is there.
        there: where the device is, or None where nobody is asked.

    Raises:
        MachineRefused: it could not be borrowed.
    """
    if why := await cable.borrow(interface):
        say(why)
    if cable.beside and there:
        asking = whom_it_answers.WhomItAnswers(
            device, there, beside=cable.mac, adapter=cable.wire.mac, laptop=interface.ip, now=cable.wire.now()
        )
        await run(asking, cable, None)
        if asking.adapter_only:
            await cable.borrow(interface, on_adapter=True)
            say(whom_it_answers.answers_adapter_only(cable.adapter))
