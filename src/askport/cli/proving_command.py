"""``askport prove``."""

import asyncio
import secrets
import sys
from collections.abc import Iterable
from dataclasses import asdict
from ipaddress import IPv4Address
from typing import Annotated

import typer

from askport.cli.ask_own_word import reading_start
from askport.cli.on_cable import LINK_S, OnAdapterOption, finder_on, giving_back, laptop_within, open_cable, run
from askport.cli.passwords import PasswordOption
from askport.cli.recording import JobOption, Record, TagOption
from askport.cli.saying import JsonOption, Status, put_json, say
from askport.core.addresses import MacAddress, parse_address, parse_interface, parse_list
from askport.core.errors import BadInput
from askport.core.finding.device import Device
from askport.core.finding.finder import Finder
from askport.core.kinds.model import Kind
from askport.core.machine import Machine, Together
from askport.core.plan.landings import landings
from askport.core.plan.target import Target, require_sound
from askport.core.proofs.course import Course, Part, Terms
from askport.core.proofs.page_answers import PAGE_PORTS
from askport.core.proofs.power_cycle import Boot, PowerCycle
from askport.core.proofs.proof import Expected, Subject
from askport.core.proofs.verdict import verdict_of
from askport.core.text import display_text, listed
from askport.core.ways.own_word_talk import reads_with
from askport.core.ways.start import Start
from askport.edges.adapters import forwards
from askport.edges.footing import Footing
from askport.edges.kind_files import kind_named

_CUT_WITHIN_S = 600.0
"""How long somebody may take to pull the power."""


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
    on_adapter: OnAdapterOption = False,
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
    record = Record(job, tag)
    expected = Expected(
        gateway=target.gateway, plans_gateway=target.gateway is not None, dns=servers or None,
        left=[old] if old else [], ports=open_ or [], echo=not no_ping,
        page=next((port for port in open_ or [] if port in PAGE_PORTS), None), columns=record.planned_columns(),
    )  # fmt: skip
    its = kind_named(kind, job).kind if kind else None
    own = _own(device, interface.ip, its, user, password_from) if its else None
    asked = [
        *(["gateway"] if gateway else []), *(["dns"] if servers else []), *(["old-gone"] if old else []),
        *(f"port-{port}" for port in open_ or []), *([PowerCycle.name] if power_cycle else []),
    ]  # fmt: skip
    with open_cable(adapter, on_adapter=on_adapter, waits_s=LINK_S, first=record.open) as cable, giving_back(cable):
        finder = finder_on(cable, measures=False)
        finder.laptop_addresses |= {each.ip for each in cable.own}
        start_s = record.start_s(device)
        boot = Boot(earlier_s=start_s, kind_s=its.needs.boot_s if its else None)
        course, seen = asyncio.run(_prove(cable, device, target, expected, finder, own, boot, cuts_power=power_cycle))
        wall, now = cable.wire.wall, cable.wire.now()
        from askport.core.register.entries import Recorded

        course.settle()
        verdict = verdict_of((*course.all_proofs, *course.again))
        missing = verdict.missing(asked)
        record.visit(device, seen, wall, now, goes_on=True)
        left_out = dict.fromkeys((*([] if power_cycle else [PowerCycle.name]), *missing))
        record.write(
            wall(now), *course.all_entries(record.unit), *course.last_words(record.unit),
            Recorded(unit=record.unit, mac=device, left_out=tuple(left_out)),
        )  # fmt: skip
    passed = verdict.is_pass(asked)
    if json:
        from askport.reports.register_document import as_left_json

        put_json(
            {
                "schema": "askport.prove/1",
                "mac": str(device),
                "at": str(interface),
                "passed": passed,
                "proofs": [asdict(proof.outcome) for proof in course.all_proofs],
                "after_power_cut": [asdict(proof.outcome) for proof in course.again],
                "as_left": as_left_json(course.left(0).as_left),
            }
        )
    else:
        words = {True: "passed", False: "FAILED", None: "not made"}
        for proof in (*course.all_proofs, *course.again):
            again = "after the power cut, " if proof in course.again else ""
            print(f"{words[proof.outcome.passed]}  {again}{proof.expected}: {proof.because}")
        if missing:
            print(f"Not proven: {listed(missing)} was asked for and not shown.")
    if not passed:
        raise typer.Exit(Status.NO)


def _heard_gateway(finder: Finder, mac: MacAddress, at: IPv4Address) -> IPv4Address | None:
    device = finder.device(mac)
    return device.gateway_heard_from(at) if device else None


def _own(mac: MacAddress, at: IPv4Address, kind: Kind, user: str, password_from: str | None) -> Start | None:
    """Return what its own word is read with, or None where its kind does not say how."""
    own = reading_start(mac, at, kind, None, port="", user=user, password_from=password_from, must_read=False)
    if reads_with(own) is None:
        say(f"The kind '{display_text(kind.name, 60)}' does not say how its settings are read: that is left out.")
        return None
    return own


async def _prove(
    cable: Footing,
    mac: MacAddress,
    target: Target,
    expected: Expected,
    finder: Finder,
    own: Start | None,
    boot: Boot,
    *,
    cuts_power: bool,
) -> tuple[Course, Device | None]:
    """Go through the course; return it, with the device as it was heard."""
    avoid: Iterable[IPv4Address | None] = (target.gateway, *expected.left)
    laptop = await laptop_within(cable, target.interface, [each for each in avoid if each], finder, device=mac)
    finder.laptop_addresses.add(laptop.ip)
    at = target.interface
    terms = Terms(
        subject=Subject(mac=mac, at=at, laptop_mac=cable.mac, laptop=laptop), expected=expected,
        is_alone=lambda: _is_alone(finder, mac), stands_in=cable.beside is not None or not forwards(cable.adapter),
        heard_gateway=lambda: _heard_gateway(finder, mac, at.ip), reads=lambda _: reads_with(own) if own else None,
        asked_from=finder.laptop_addresses, boot=boot,
        landings=tuple(landings(at.ip, next(iter(expected.left), None))), seed=secrets.randbits(16),
    )  # fmt: skip
    course = Course(terms, cuts_power=cuts_power, wait_s=_CUT_WITHIN_S)
    if own:
        await cable.pin(at.ip, mac)
    running = course.begin(cable.wire.now())
    while running:
        await _run(course, running, finder, cable)
        running = course.go_on(cable.wire.now())
    return course, finder.device(mac)


async def _run(course: Course, running: list[Machine], finder: Finder, cable: Footing) -> None:
    """Run a part of the course, with somebody's word where nothing shows a power cut."""
    cycle = course.cycle
    if course.part is Part.CUT:
        say(f"Pull its power, wait three seconds and put it back, within {_CUT_WITHIN_S / 60:.0f} minutes.")
    elif course.part is Part.AGAIN:
        say("Proving everything once more, and listening for the servers that it calls.")

    def asks() -> bool:
        return course.part is Part.CUT and cycle is not None and cycle.may_be_confirmed

    while not all(each.done for each in running):
        beside = Together(*running, finder)
        await run(beside, cable, None, lambda: all(each.done for each in running) or asks())
        if cycle and asks():
            _ask(cycle, cable.wire.now())


def _ask(cycle: PowerCycle, now: float) -> None:
    """Ask whoever is there whether the power was cut."""
    if not sys.stdin.isatty():
        cycle.not_shown(f"{cycle.unsure} Nobody was there to confirm it.")
    elif typer.confirm(f"{cycle.unsure} Have you pulled it?", err=True):
        cycle.confirm(now)
    else:
        cycle.wait_on(now)


def _is_alone(finder: Finder, mac: MacAddress) -> bool:
    return {each.mac for each in finder.devices()} <= {mac}
