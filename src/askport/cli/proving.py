"""``askport prove``."""

import asyncio
import sys
from collections.abc import Iterable
from dataclasses import asdict, dataclass, field, replace
from ipaddress import IPv4Address
from typing import Annotated

import typer

from askport.cli.cable import finder_on, giving_back, laptop_within, open_cable, run
from askport.cli.own_word import reading_start
from askport.cli.passwords import PasswordOption
from askport.cli.record import JobOption, Record, TagOption
from askport.cli.talk import JsonOption, Status, put_json, say
from askport.core.addresses import MacAddress, parse_address, parse_interface, parse_list
from askport.core.errors import BadInput
from askport.core.finding.device import Device
from askport.core.finding.finder import Finder
from askport.core.machine import Machine, Together
from askport.core.plan.landings import landings
from askport.core.plan.target import Target, require_sound
from askport.core.proofs.calls import Calls
from askport.core.proofs.final import final_proofs
from askport.core.proofs.page import PAGE_PORTS
from askport.core.proofs.power_cycle import Power, PowerCycle
from askport.core.proofs.proof import Expected, Proof, Proving, Subject
from askport.core.proofs.read_back import Reads
from askport.core.proofs.services import Services
from askport.core.ways.conversation import Conversation
from askport.core.ways.reading import reading
from askport.core.ways.start import Start
from askport.edges.adapters import forwards
from askport.edges.keeper_client import Keeper
from askport.edges.kinds import kind_named

_UNSHOWN = "It was silent and is there again, and nothing on the wire shows that its power was cut."


def prove(
    adapter: Annotated[str, typer.Argument(help="The adapter that the cable is in.")],
    mac: Annotated[str, typer.Option(help="The device's MAC address.")],
    at: Annotated[str, typer.Option(metavar="ADDRESS/PREFIX", help="Where it must be.")],
    gateway: Annotated[str | None, typer.Option(help="The gateway that it must have.")] = None,
    dns: Annotated[list[str] | None, typer.Option(help="The DNS servers that it must have.")] = None,
    was: Annotated[str | None, typer.Option(metavar="OLD", help="The address that it must have left.")] = None,
    open_: Annotated[list[int] | None, typer.Option("--open", metavar="PORT", help="A port that must open.")] = None,
    no_ping: Annotated[bool, typer.Option("--no-ping", help="Leave ping out: the device answers none.")] = False,
    power_cycle: Annotated[
        bool, typer.Option("--power-cycle", help="Also prove that it survives a power cut.")
    ] = False,
    kind: Annotated[
        str | None, typer.Option(metavar="FILE|NAME", help="Its kind: what it says of itself is read and compared.")
    ] = None,
    user: Annotated[str, typer.Option(help="Its log-in name, where its kind asks for one.")] = "",
    password_from: PasswordOption = None,
    job: JobOption = None,
    tag: TagOption = "",
    json: JsonOption = False,
) -> None:
    """Prove a device's final state."""
    interface, device = parse_interface(at), MacAddress.parse(mac)
    target = Target(interface=interface, gateway=parse_address(gateway, "gateway") if gateway else None)
    require_sound(target)
    old, servers = parse_address(was) if was else None, tuple(parse_list(dns or [], "DNS server"))
    for port in open_ or []:
        if not 0 < port < 65_536:
            raise BadInput(f"{port} is no TCP port: name one from 1 to 65535.")
    expected = Expected(
        gateway=target.gateway, plans_gateway=target.gateway is not None, dns=servers or None,
        left=[old] if old else [], ports=open_ or [], echo=not no_ping,
        page=next((port for port in open_ or [] if port in PAGE_PORTS), None),
    )  # fmt: skip
    its = kind_named(kind, job).kind if kind else None
    own = (
        reading_start(device, interface.ip, its, None, port="", user=user, password_from=password_from) if its else None
    )
    record = Record(job, tag)
    with open_cable(adapter, first=record.open) as keeper, giving_back(keeper):
        finder = finder_on(keeper, measures=False)
        finder.laptop_addresses |= {each.ip for each in keeper.own}
        made = asyncio.run(_prove(keeper, device, target, expected, finder, own, power_cycle=power_cycle))
        proofs = made.proofs
        wall, now = keeper.wire.wall, keeper.wire.now()
        from askport.core.register.entries import Recorded
        from askport.core.register.writing import left, power_cut, proved

        record.visit(device, made.seen, wall, now, goes_on=True)
        as_left = left(
            [*proofs, *made.again],
            unit=record.unit,
            mac=device,
            heard_gateway=_heard_gateway(finder, device, interface.ip),
        )
        left_out = () if power_cycle else (PowerCycle.name,)
        record.write(
            wall(now),
            *(proved(proof.outcome, unit=record.unit, mac=device) for proof in proofs),
            *(proved(proof.outcome, unit=record.unit, mac=device, after_cut=True) for proof in made.again),
            *(
                cut
                for each in proofs
                if isinstance(each, PowerCycle)
                and (cut := power_cut(each, made.services, unit=record.unit, mac=device))
            ),
            as_left,
            Recorded(unit=record.unit, mac=device, left_out=left_out),
        )
    everything = [*proofs, *made.again]
    passed = all(proof.passed or proof.not_made for proof in everything) and any(proof.passed for proof in proofs)
    if json:
        from askport.reports.register import as_left_json

        put_json(
            {
                "schema": "askport.prove/1",
                "mac": str(device),
                "at": str(interface),
                "passed": passed,
                "proofs": [asdict(proof.outcome) for proof in proofs],
                "after_power_cut": [asdict(proof.outcome) for proof in made.again],
                "as_left": as_left_json(as_left.as_left),
            }
        )
    else:
        words = {True: "passed", False: "FAILED", None: "not made"}
        for proof in everything:
            again = "after the power cut, " if proof in made.again else ""
            print(f"{words[proof.outcome.passed]}  {again}{proof.expected}: {proof.because}")
    if not passed:
        raise typer.Exit(Status.NO)


def _heard_gateway(finder: Finder, mac: MacAddress, at: IPv4Address) -> IPv4Address | None:
    device = finder.device(mac)
    return next((each.gateway for each in device.addresses if each.address == at), None) if device else None


@dataclass(frozen=True, slots=True)
class _Made:
    """What was made of a device."""

    proofs: list[Proof]
    seen: Device | None
    """The device as it was heard."""
    again: list[Proof] = field(default_factory=list)
    """The same proofs once more after a power cut."""

    @property
    def services(self) -> Services | None:
        """When what it serves was back."""
        return next((each for each in self.proofs if isinstance(each, Services)), None)


async def _prove(
    keeper: Keeper,
    mac: MacAddress,
    target: Target,
    expected: Expected,
    finder: Finder,
    own: Start | None,
    *,
    power_cycle: bool,
) -> _Made:
    """Make the proofs; with a power cut, once more after it."""
    avoid: Iterable[IPv4Address | None] = (target.gateway, *expected.left)
    laptop = await laptop_within(keeper, target.interface, [each for each in avoid if each], finder)
    finder.laptop_addresses.add(laptop.ip)
    at = target.interface
    subject = Subject(mac=mac, at=at, laptop_mac=keeper.mac, laptop=laptop)

    def begin() -> Proving:
        return final_proofs(
            subject,
            expected,
            now=keeper.wire.now(),
            heard_gateway=lambda: _heard_gateway(finder, mac, at.ip),
            reads=_reads(own) if own else None,
            asked_from=finder.laptop_addresses,
        )

    proving = begin()
    if own:
        await keeper.pin(at.ip, mac)
    await run(Together(proving, finder), keeper, None)
    proofs = proving.proofs
    if not (power_cycle and proving.passed):
        return _Made(proofs, finder.device(mac))
    may_be = landings(at.ip, next(iter(expected.left), None))
    cycle = PowerCycle(subject, now=keeper.wire.now(), landings=may_be)
    services = Services(subject, cycle, ports=expected.ports, echo=expected.echo)
    calls = Calls(subject, expected.gateway, expected.dns or (), cycle, lambda: _is_alone(finder, mac))
    aside = [] if forwards(keeper.adapter) else [calls]
    await _cut(cycle, Together(cycle, finder, *aside), keeper)
    again: list[Proof] = []
    if cycle.passed:
        calls.listen_on(keeper.wire.now())
        if services.is_wanted:
            say("Waiting for what it serves.")
            await run(Together(services, finder, *aside), keeper, None, lambda: services.done)
        say("Proving everything else once more, and listening to whom it calls.")
        once_more = begin()
        again = once_more.proofs
        await run(
            Together(once_more, *aside, finder), keeper, None, lambda: all(each.done for each in (once_more, *aside))
        )
    after = [each for each in (cycle, services) if each is cycle or (cycle.passed and services.is_wanted)]
    return _Made([*proofs, *after, *([calls] if calls.called else [])], finder.device(mac), again)


def _reads(own: Start) -> Reads:
    def read(now: float) -> Conversation:
        talk = reading(replace(own, now=now))
        if talk is None:
            raise ValueError("its kind was seen to read")
        return talk

    return read


def _is_alone(finder: Finder, mac: MacAddress) -> bool:
    return {each.mac for each in finder.devices()} <= {mac}


async def _cut(cycle: PowerCycle, beside: Machine, keeper: Keeper) -> PowerCycle:
    say("Pull its power, wait three seconds and put it back.")
    while not cycle.done:
        await run(beside, keeper, None, lambda: cycle.done or cycle.power is Power.UNSURE)
        if cycle.power is Power.UNSURE and not cycle.done:
            if not sys.stdin.isatty():
                cycle.cannot_be_made(f"{_UNSHOWN} Nobody was there to say so.")
            elif typer.confirm(f"{_UNSHOWN} Have you pulled it?", err=True):
                cycle.confirm(keeper.wire.now())
            else:
                cycle.wait_on(keeper.wire.now())
    return cycle
