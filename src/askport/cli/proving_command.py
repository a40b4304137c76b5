"""``askport prove``."""

import asyncio
from collections.abc import Collection
from dataclasses import asdict, replace
from ipaddress import IPv4Address
from typing import Annotated

import typer

from askport.cli import errand_run, passwords, recording, target_options
from askport.cli.ask_own_word import named, reading_start
from askport.cli.on_cable import LINK_S, OnAdapterOption, giving_back, open_cable
from askport.cli.saying import JsonOption, Status, put_json, say, was_pulled
from askport.core import addresses, errors, text
from askport.core.kinds.model import Kind
from askport.core.phrases import listed, phrase
from askport.core.proofs.course import Course
from askport.core.proofs.page_answers import PAGE_PORTS
from askport.core.proofs.power_cycle import PowerCycle
from askport.core.proofs.proof import Expected
from askport.core.proofs.verdict import Verdict, verdict_of
from askport.core.proofs.who_holds import SameMac
from askport.core.visit.errand import Errand
from askport.core.visit.session import Session
from askport.core.visit.steps import Phase, Step
from askport.core.ways.own_word_talk import reads_with
from askport.core.ways.start import Start
from askport.edges.kind_files import kind_named

_CUT_WITHIN_S = 600.0
"""How long somebody may take to pull the power."""
_OVER = (Phase.NOT_PROVEN, Phase.FORGOTTEN, Phase.MAY_RECORD)
_SAYS = {
    Phase.POWER_CYCLE: phrase(
        "Pull its power, wait three seconds and put it back, within {cut_within_s:.0f} minutes.",
        cut_within_s=_CUT_WITHIN_S / 60,
    ),
    Phase.PROVING_AGAIN: phrase("Proving everything once more, and listening for the servers that it calls."),
}


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
        bool, typer.Option("--power-cycle", help="Also prove that it survives a power cycle.")
    ] = False,
    kind: Annotated[
        str | None, typer.Option(metavar="FILE|NAME", help="Its kind: what it says of itself is read and compared.")
    ] = None,
    user: Annotated[str, typer.Option(help="Its log-in name, where its kind asks for one.")] = "",
    password_from: passwords.PasswordOption = None,
    on_adapter: OnAdapterOption = False,
    job: recording.JobOption = None,
    tag: recording.TagOption = "",
    json: JsonOption = False,
) -> None:
    """Prove that a device has its final settings.

    Exit status 1: a check failed, or what an option asks for was not shown.

    Example: askport prove enp3s0 --mac 00:00:5e:00:53:20 --at 10.84.16.21/22 --gateway 10.84.19.254 --power-cycle
    """
    target, device = target_options.target_of(at, gateway), addresses.MacAddress.parse(mac)
    interface = target.interface
    old, servers = (
        addresses.parse_address(was) if was else None,
        tuple(addresses.parse_list(dns or [], phrase("DNS server"))),
    )
    for port in open_ or []:
        if not 0 < port < 65_536:
            raise errors.BadInput("{port} is not a TCP port: give one from 1 to 65535.", port=port)
    record = recording.Record(job, tag)
    expected = Expected(
        gateway=target.gateway, plans_gateway=target.gateway is not None, dns=servers or None,
        left=[old] if old else [], ports=open_ or [], echo=not no_ping,
        page=next((port for port in open_ or [] if port in PAGE_PORTS), None), columns=record.planned_columns(),
    )  # fmt: skip
    its = kind_named(kind, job).kind if kind else None
    own = _own(device, interface.ip, its, user, password_from) if its else None
    asked = [
        SameMac.name, *(["gateway"] if gateway else []), *(["dns"] if servers else []), *(["old-gone"] if old else []),
        *(f"port-{port}" for port in open_ or []), *([PowerCycle.name] if power_cycle else []),
    ]  # fmt: skip
    with open_cable(adapter, on_adapter=on_adapter, waits_s=LINK_S, first=record.open) as cable, giving_back(cable):
        record.take(device, goes_on=True)
        errand = Errand(
            # Where it is now is what is to be proven; where it was tells where else it may be after a power cycle.
            start=replace(own or named(device, None), old=old), ends=Step.PROVE, expected=expected,
            boot_s=its.needs.boot_s if its else None,
            cuts_power=power_cycle, cut_within_s=_CUT_WITHIN_S,
        )  # fmt: skip
        run = errand_run.ErrandRun(cable, errand, target, record, tag)
        with run.keeping():
            course, verdict = asyncio.run(_prove(run, asked))
    missing = verdict.missing(asked)
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
        words = {True: "passed", False: "FAILED", None: phrase("not made")}
        for proof in (*course.all_proofs, *course.again):
            said = "after the power cycle, {expected}: {because}" if proof in course.again else "{expected}: {because}"
            print(f"{words[proof.outcome.passed]}  {phrase(said, expected=proof.expected, because=proof.because)}")
        if missing:
            print(phrase("Not proven: {missing} was asked for and not shown.", missing=listed(missing)))
    if not passed:
        raise typer.Exit(Status.NO)


def _own(mac: addresses.MacAddress, at: IPv4Address, kind: Kind, user: str, password_from: str | None) -> Start | None:
    """Return what its own word is read with, or None where its kind does not say how."""
    own = reading_start(mac, at, kind, None, port="", user=user, password_from=password_from, must_read=False)
    if reads_with(own) is None:
        say(
            "The kind '{name}' does not say how its settings are read: that is left out.",
            name=text.display_text(kind.name, 60),
        )
        return None
    return own


async def _prove(errand: errand_run.ErrandRun, asked: Collection[str]) -> tuple[Course, Verdict]:
    """Go through the course, with somebody's word where nothing shows a power cycle, and close the visit."""
    session, device, now = errand.session, errand.session.device, errand.cable.wire.now
    errand.begin()
    asked_for: set[Phase] = set()
    while session.phase not in _OVER:
        await errand.go_on(lambda: session.phase in _OVER or _waits_for_word(session) or _is_news(session, asked_for))
        if _is_news(session, asked_for):
            asked_for.add(session.phase)
            say(_SAYS[session.phase])
        if (cycle := device.power_cycle) and _waits_for_word(session):
            _ask(cycle, now())
    course = device.course
    if course is None or device.chosen is None:
        raise ValueError(phrase("it is over only once it was begun"))
    if course.watch and not course.is_settled:
        say("Watching for {left_s:.0f} s more: some devices fall back later.", left_s=course.watch.left_s(now()))
        await errand.go_on(lambda: course.is_settled)
    course.settle()
    verdict = verdict_of((*course.all_proofs, *course.again))
    device.left_out = [
        *dict.fromkeys(([] if errand.errand.cuts_power else [PowerCycle.name]) + [*verdict.missing(asked)])
    ]
    session.stages.record.write_down(device.chosen)
    await errand.flush()
    return course, verdict


def _is_news(session: Session, said: set[Phase]) -> bool:
    return session.phase in _SAYS and session.phase not in said


def _waits_for_word(session: Session) -> bool:
    """Whether nothing shows a power cycle, so that somebody has to say whether there was one."""
    cycle = session.device.power_cycle
    return session.phase is Phase.POWER_CYCLE and cycle is not None and cycle.may_be_confirmed


def _ask(cycle: PowerCycle, now: float) -> None:
    """Ask whoever is there whether the power was cut."""
    if was_pulled(phrase("{unsure} Have you pulled it?", unsure=cycle.unsure)):
        cycle.confirm(now)
    else:
        cycle.not_shown(phrase("{unsure} Nobody has confirmed it.", unsure=cycle.unsure))
