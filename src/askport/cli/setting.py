"""``askport assign`` and ``askport prove``."""

import asyncio
import secrets
from collections.abc import Iterable
from dataclasses import asdict
from ipaddress import IPv4Address
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

if TYPE_CHECKING:
    from askport.core.register.entries import Entry
    from askport.edges.jobfile import JobFile

from askport.cli.cable import choose, laptop_within, open_cable, run
from askport.cli.talk import Status, put_json, say
from askport.core.addresses import MacAddress, parse_address, parse_interface
from askport.core.errors import BadInput, Refused
from askport.core.plan.target import Target, require_sound
from askport.core.proofs.answering import Echo, PortOpens
from askport.core.proofs.holding import OldGone, SameMac
from askport.core.proofs.power_cycle import PowerCycle
from askport.core.proofs.proof import Proof, Proving, Subject
from askport.core.ways.answering import Answering
from askport.core.ways.by_hand import ByHand
from askport.core.ways.way import Result, Way
from askport.edges.keeper_client import Keeper
from askport.edges.makers import maker
from askport.reports.times import iso

_WAYS = {
    "dhcp": "answers its BOOTP or DHCP requests; gone at the next power cut until the device is told to keep it",
    "hand": "you type the values into the device's own page or keypad; Ask Port sees it move",
}
_ASSIGN_S = 120.0
"""How long a way may take unless said otherwise: a device has to be power-cycled by hand meanwhile."""

Job = Annotated[Path | None, typer.Option("--job", help="The job file to record it in.")]
Tag = Annotated[str, typer.Option("--tag", help="The device's tag in the job.")]
Json = Annotated[bool, typer.Option("--json", help="Print one JSON document.")]


def assign(
    adapter: Annotated[str | None, typer.Argument(help="The adapter that the cable is in.")] = None,
    mac: Annotated[str | None, typer.Option(help="The device's MAC address.")] = None,
    to: Annotated[str | None, typer.Option(metavar="ADDRESS/PREFIX", help="Its final address.")] = None,
    gateway: Annotated[str | None, typer.Option(help="Its gateway.")] = None,
    dns: Annotated[list[str] | None, typer.Option(help="A DNS server.")] = None,
    by: Annotated[str | None, typer.Option(metavar="WAY", help="The way; --ways lists them.")] = None,
    seconds: Annotated[float, typer.Option(help="How long at the most.")] = _ASSIGN_S,
    others_are_fine: Annotated[
        bool, typer.Option("--others-are-fine", help="Answer this MAC though other devices are on the wire.")
    ] = False,
    ways: Annotated[bool, typer.Option("--ways", help="List the ways and end.")] = False,
    job: Job = None,
    tag: Tag = "",
    json: Json = False,
) -> None:
    """Set a device's address by one way."""
    if ways:
        for name, text in _WAYS.items():
            print(f"{name}  {text}")
        return
    if not (adapter and mac and to and by):
        raise BadInput("Name the adapter, --mac, --to and --by: 'askport assign --help' shows how.")
    if by not in _WAYS:
        raise BadInput(f"'{by}' is no way of setting an address: choose {' or '.join(_WAYS)}.")
    target = Target(
        interface=parse_interface(to),
        gateway=parse_address(gateway, "gateway") if gateway else None,
        dns=tuple(parse_address(each, "DNS server") for each in dns or []),
    )
    require_sound(target)
    device = MacAddress.parse(mac)
    journal = _journal(job)
    with open_cable(adapter) as keeper:
        way = asyncio.run(_assign(keeper, device, target, by, seconds, others_are_fine))
        wall = keeper.wire.wall
        if journal:
            _record(journal, keeper, _entries_of(way, tag, journal.units + 1))
    if json:
        put_json(
            {
                "schema": "askport.assign/1",
                "mac": str(device),
                "way": by,
                "to": str(target.interface),
                "result": str(way.result),
                "permanent": way.permanent,
                "steps": [{"at": iso(wall(step.at)), "text": step.text} for step in way.steps],
                "because": way.because,
            }
        )
    else:
        print(way.because)
        if way.result is Result.TAKEN and way.permanent is False:
            print("It is gone at the next power cut: tell the device to keep it, then prove it with --power-cycle.")
    if way.result is not Result.TAKEN:
        raise typer.Exit(Status.NO)


async def _assign(
    keeper: Keeper, mac: MacAddress, target: Target, by: str, seconds: float, others_are_fine: bool
) -> Way:
    vacancy = await choose(keeper, [target.interface])
    holder = vacancy.taken.get(target.interface.ip)
    if holder and holder != mac:
        raise Refused(f"{target.interface.ip} is in use by {holder}: choose another final address.")
    avoid = {*filter(None, [target.gateway]), *target.dns}
    laptop = await laptop_within(keeper, target.interface, avoid)
    now = keeper.wire.now()
    way: Way
    if by == Answering.name:
        way = Answering(
            mac,
            target,
            laptop_mac=keeper.mac,
            laptop=laptop,
            xid=lambda: secrets.randbits(32),
            now=now,
            allow_others=others_are_fine,
        )
    else:
        way = ByHand(mac, target, laptop_mac=keeper.mac, laptop=laptop, old=None, now=now)
        for field, value in target.typed():
            say(f"    {field}: {value}")
    say(way.waits_for)
    await run(way, keeper, seconds)
    way.close(keeper.wire.now())
    return way


def prove(
    adapter: Annotated[str, typer.Argument(help="The adapter that the cable is in.")],
    mac: Annotated[str, typer.Option(help="The device's MAC address.")],
    at: Annotated[str, typer.Option(metavar="ADDRESS/PREFIX", help="Where it must be.")],
    gateway: Annotated[str | None, typer.Option(help="Its gateway, which the laptop does not borrow.")] = None,
    was: Annotated[str | None, typer.Option(metavar="OLD", help="The address that it must have left.")] = None,
    open_: Annotated[list[int] | None, typer.Option("--open", metavar="PORT", help="A port that must open.")] = None,
    no_ping: Annotated[bool, typer.Option("--no-ping", help="Leave ping out: the device answers none.")] = False,
    power_cycle: Annotated[
        bool, typer.Option("--power-cycle", help="Also prove that it survives a power cut.")
    ] = False,
    job: Job = None,
    json: Json = False,
) -> None:
    """Prove a device's final state."""
    interface, device = parse_interface(at), MacAddress.parse(mac)
    target = Target(interface=interface, gateway=parse_address(gateway, "gateway") if gateway else None)
    require_sound(target)
    old = parse_address(was) if was else None
    ports = open_ or []
    for port in ports:
        if not 0 < port < 65_536:
            raise BadInput(f"{port} is no TCP port: name one from 1 to 65535.")
    journal = _journal(job)
    with open_cable(adapter) as keeper:
        proofs = asyncio.run(_prove(keeper, device, target, old, ports, ping=not no_ping, power_cycle=power_cycle))
        if journal:
            from askport.core.register.writing import proved

            unit = next((line.entry.unit for line in reversed(journal.lines) if _is_about(line.entry, device)), 0)
            _record(journal, keeper, (proved(proof.finding, unit=unit, mac=device) for proof in proofs))
    passed = all(proof.passed for proof in proofs)
    if json:
        put_json(
            {
                "schema": "askport.prove/1",
                "mac": str(device),
                "at": str(interface),
                "passed": passed,
                "proofs": [asdict(proof.finding) for proof in proofs],
            }
        )
    else:
        for proof in proofs:
            print(f"{'passed' if proof.passed else 'FAILED'}  {proof.expected}: {proof.because}")
    if not passed:
        raise typer.Exit(Status.NO)


async def _prove(
    keeper: Keeper,
    mac: MacAddress,
    target: Target,
    old: IPv4Address | None,
    ports: Iterable[int],
    *,
    ping: bool,
    power_cycle: bool,
) -> list[Proof]:
    avoid = {each for each in (target.gateway, old) if each}
    laptop = await laptop_within(keeper, target.interface, avoid)
    now = keeper.wire.now()
    subject = Subject(mac=mac, at=target.interface, laptop_mac=keeper.mac, laptop=laptop)
    proofs: list[Proof] = [SameMac(subject, now=now)]
    if old and old != target.interface.ip:
        proofs.append(OldGone(subject, old, now=now))
    if ping:
        proofs.append(Echo(subject, now=now))
    proofs += [PortOpens(subject, port, now=now) for port in dict.fromkeys(ports)]
    proving = Proving(proofs)
    await run(proving, keeper, None)
    if power_cycle and proving.passed:
        cycle = PowerCycle(subject, now=keeper.wire.now())
        say("Pull its power, wait three seconds and put it back.")
        await run(cycle, keeper, None)
        proofs.append(cycle)
    return proofs


def _journal(job: Path | None) -> "JobFile | None":
    """Open the job file, if one was named; what stores it is loaded only then."""
    if job is None:
        return None
    from askport.edges.jobfile import JobFile

    return JobFile(job, create=True)


def _is_about(entry: "Entry", mac: MacAddress) -> bool:
    return getattr(entry, "mac", None) == mac


def _entries_of(way: Way, tag: str, unit: int) -> "list[Entry]":
    from askport.core.register.entries import Found
    from askport.core.register.writing import was_set

    found = Found(
        unit=unit, tag=tag, mac=way.mac, maker=maker(way.mac), address=None, belief="named by hand", because=()
    )
    return [found, was_set(way, unit=unit)]


def _record(journal: "JobFile", keeper: Keeper, entries: "Iterable[Entry]") -> None:
    for entry in entries:
        journal.append(entry, keeper.wire.wall(keeper.wire.now()))
