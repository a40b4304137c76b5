"""``askport assign``."""

import asyncio
import sys
from dataclasses import dataclass, replace
from ipaddress import IPv4Address
from typing import Annotated

import typer

from askport.cli import link_local_option, passwords, ports, recording, saying, target_options, walled
from askport.cli.errand_run import ErrandRun
from askport.cli.on_cable import LINK_S, OnAdapterOption, giving_back, open_cable
from askport.core import addresses, channels
from askport.core.errors import BadInput
from askport.core.formats.ipv6 import link_local
from askport.core.kinds import model, typing_in
from askport.core.phrases import phrase
from askport.core.plan.landings import aligned
from askport.core.plan.target import Target
from askport.core.visit.errand import Errand
from askport.core.visit.steps import Step
from askport.core.ways import own_word_talk, ping_way, table
from askport.core.ways.log_in import LogIn
from askport.core.ways.start import Start
from askport.core.ways.way import Result, Way
from askport.edges.door import FIREWALL, Door, is_dropped
from askport.edges.kind_files import kind_named
from askport.reports.cells import iso

_ASSIGN_S = 120.0
"""How long a way may take unless said otherwise: a device has to be power-cycled by hand meanwhile."""
_PAGE = 80


def assign(
    adapter: Annotated[str | None, typer.Argument(help="The adapter that the cable is in.")] = None,
    mac: Annotated[str | None, typer.Option(help="The device's MAC address.")] = None,
    to: Annotated[str | None, typer.Option(metavar="ADDRESS/PREFIX", help="Its final address.")] = None,
    gateway: Annotated[str | None, typer.Option(help="Its gateway.")] = None,
    dns: Annotated[list[str] | None, typer.Option(help="A DNS server.")] = None,
    by: Annotated[str | None, typer.Option(metavar="WAY", help="The way; --ways lists them.")] = None,
    at: Annotated[str | None, typer.Option(metavar="ADDRESS", help="Where the device is now.")] = None,
    seconds: Annotated[float, typer.Option(help="How long at the most.")] = _ASSIGN_S,
    others_are_fine: Annotated[
        bool, typer.Option("--others-are-fine", help="Answer this device even if others are on the wire.")
    ] = False,
    kind: Annotated[
        str | None, typer.Option(metavar="FILE|NAME", help="Its kind; 'askport kinds list' shows them.")
    ] = None,
    over: Annotated[str | None, typer.Option(help="How its console is reached: telnet, ssh or serial.")] = None,
    port: Annotated[
        str, typer.Option(metavar="PORT|PATH", help="The TCP port of its console, or the path of its serial line.")
    ] = "",
    user: Annotated[str, typer.Option(help="Its log-in name.")] = "",
    password_from: passwords.PasswordOption = None,
    payload: Annotated[
        int | None,
        typer.Option(metavar="BYTES", help="With --by ping and no kind: the payload length its manual gives."),
    ] = None,
    temporary: Annotated[
        bool, typer.Option("--temporary", help="Temporary: lost at the next power cycle. PROFINET DCP only.")
    ] = False,
    dry_run: Annotated[
        bool, typer.Option("--dry-run", help="Show what would be said to it, and send nothing.")
    ] = False,
    on_adapter: OnAdapterOption = False,
    over_ipv6: link_local_option.OverIpv6Option = False,
    ways: Annotated[bool, typer.Option("--ways", help="List the ways and end.")] = False,
    job: recording.JobOption = None,
    tag: recording.TagOption = "",
    json: saying.JsonOption = False,
) -> None:
    """Set a device's IP settings in one way.

    The device is followed to its new address. Exit status 1: it refused, or it did not come there.

    Example: askport assign enp3s0 --mac 00:00:5e:00:53:20 --to 10.84.16.21/22 --gateway 10.84.19.254 --by dhcp
    """
    if ways:
        for entry in table.WAYS.values():
            print(f"{entry.name}  {entry.says}")
        return
    if not (adapter and mac and to and by):
        raise BadInput("Give the adapter, --mac, --to and --by: 'askport assign --help' shows how.")
    if by not in table.WAYS:
        raise BadInput("'{by}' is not a way of setting an address: choose {WAYS}.", by=by, WAYS=" or ".join(table.WAYS))
    target = target_options.target_of(to, gateway, dns)
    device, old = addresses.MacAddress.parse(mac), addresses.parse_address(at) if at else None
    if over not in (None, "telnet", "ssh", "serial"):
        raise BadInput("'{over}' is not a way to a console: write telnet, ssh or serial.", over=over)
    its_kind = kind_named(kind, job).kind if kind else _by_manual(payload) if by == ping_way.Ping.name else None
    asks = its_kind is not None and its_kind.asks_password(by, over)
    wanted = asks or bool(user) or by in own_word_talk.WITH_PASSWORD
    record = recording.Record(job, tag)
    plan = _Plan(
        target=target,
        by=by,
        old=old,
        kind=its_kind,
        log_in=LogIn(user, passwords.read_password(password_from, wanted=wanted)),
        over=over,
        port=ports.tcp_port(port) if port and "/" not in port else None,
        line=port if "/" in port else "",
        name=tag,
        temporary=temporary,
        over_ipv6=over_ipv6,
        columns=record.planned_columns(),
    )
    plan.require_whole(device)
    if dry_run:
        for line in plan.lines(device):
            print(line)
        return
    with open_cable(adapter, on_adapter=on_adapter, waits_s=LINK_S, first=record.open) as cable, giving_back(cable):
        record.take(device, goes_on=False)
        start = replace(plan.start(device), known_key=record.known_key(device), allow_others=others_are_fine)
        errand = ErrandRun(cable, Errand(start=start, ends=Step.SET, way=by), target, record, tag)
        with errand.keeping():
            way = asyncio.run(_assign(errand, plan, seconds))
        wall = cable.wire.wall
    if json:
        saying.put_json(
            {
                "schema": "askport.assign/1",
                "mac": str(device),
                "way": by,
                "to": str(target.interface),
                "result": str(way.result),
                "permanent": way.permanent if way.result is Result.TAKEN else None,
                "steps": [{"at": iso(wall(step.at)), "text": step.text} for step in way.steps],
                "because": way.because,
            }
        )
    else:
        print(way.because)
        if way.moved_to and way.result is not Result.TAKEN:
            for row in aligned(target.interface.ip, way.moved_to):
                print(f"    {row}")
        if way.result is Result.TAKEN and way.permanent is False:
            print(
                phrase(
                    "A power cycle loses this address: make it static on the device, then prove it with --power-cycle."
                )
            )
    if way.result is not Result.TAKEN:
        raise typer.Exit(saying.Status.NO)


async def _assign(errand: ErrandRun, plan: "_Plan", seconds: float) -> Way:
    """Return the way that was gone."""
    cable, session, entry = errand.cable, errand.session, table.WAYS[plan.by]
    errand.begin()
    await errand.go_on(lambda: session.phase.step is Step.SET)
    is_there = session.visit.trouble is None
    if session.visit.trouble:
        saying.say("{message} It is watched for all the same.", message=session.visit.trouble.message)
    door = await _door_to(errand) if entry.by_technician and entry.needs_reach and is_there else None
    try:
        await errand.go_on(lambda: session.device.way is not None)
        way = session.device.way
        if way is None:
            raise ValueError(phrase("it goes on until there is one"))
        if entry.by_technician:
            for field, value in typing_in.typed(plan.target, plan.kind):
                saying.say(f"    {field}: {value}")
        until, said = cable.wire.now() + seconds, ""

        def over() -> bool:
            nonlocal said
            if not way.done and way.waits_for != said:
                said = way.waits_for
                saying.say(said)
            return way.done or cable.wire.now() >= until

        await errand.go_on(over)
        way.close(cable.wire.now())
        await errand.flush()
    finally:
        if door:
            await door.close()
    far = door.far if door and door.dropped else plan.far if way.result is not Result.TAKEN else None
    if far and not cable.beside and await is_dropped(cable, far) and await walled.is_walled(cable, far):
        saying.say(FIREWALL, far=far, adapter=cable.adapter)
    return way


def _by_manual(payload: int | None) -> model.Kind:
    """Return what is known of a device that takes its address from an echo, where only its manual says of which.

    Raises:
        BadInput: nobody says how long.
    """
    if payload is None and sys.stdin.isatty():
        payload = typer.prompt(phrase("How many bytes of echo data does its manual ask for"), type=int, err=True)
    try:
        way = model.PingWay(by="ping", payload=-1 if payload is None else payload)
    except ValueError:
        asked = "--by ping needs the length of its echo: {payload} is none: give --kind, or --payload 0 to 1472."
        if payload is None:
            asked = "--by ping needs the length of its echo: give --kind, or --payload 0 to 1472."
        raise BadInput(asked, payload=payload) from None
    return model.Kind.model_validate({"schema": model.SCHEMA, "name": phrase("by its manual"), "way": (way,)})


@dataclass(frozen=True, slots=True, kw_only=True)
class _Plan:
    """What was asked for on the command line."""

    target: Target
    by: str
    old: IPv4Address | None
    kind: model.Kind | None
    log_in: LogIn
    over: str | None
    port: int | None
    line: str
    name: str
    temporary: bool
    over_ipv6: bool
    columns: dict[str, str]
    """What else the job's plan says of it."""

    def start(self, mac: addresses.MacAddress) -> Start:
        """Return what the way is started with, without the laptop's part."""
        return Start(
            mac=mac,
            target=self.target,
            laptop_mac=addresses.NO_MAC,
            laptop=None,
            old=self.old,
            now=0.0,
            xid=lambda: 0,
            kind=self.kind,
            log_in=self.log_in,
            over=self.over,
            port=self.port,
            line=self.line,
            name=self.name,
            temporary=self.temporary,
            door=link_local(mac) if self.over_ipv6 else None,
            columns=self.columns,
        )

    def require_whole(self, mac: addresses.MacAddress) -> None:
        """See that nothing is missing, before anything is touched.

        Raises:
            BadInput: something is; the message says what to give.
        """
        entry = table.WAYS[self.by]
        if entry.needs_kind and self.kind is None:
            raise BadInput(
                "--by {by} needs its kind: give one with --kind ('askport kinds list' shows them).", by=self.by
            )
        if self.over_ipv6 and not entry.over_ipv6:
            them = " or ".join(name for name, each in table.WAYS.items() if each.over_ipv6)
            raise BadInput(
                "--by {by} does not go over IPv6: leave --over-ipv6 out, or choose {them}.", by=self.by, them=them
            )
        if entry.needs_reach and not entry.by_technician and not (self.old or self.line or self.over_ipv6):
            raise BadInput("--by {by} talks to it where it is: name that with --at.", by=self.by)
        self.lines(mac)

    @property
    def far(self) -> channels.TcpPort | None:
        """The port that the way connects to, or None where it connects to none."""
        way = self.kind.way_by(self.by) if self.kind else None
        if self.old is None or not isinstance(way, model.PageWay | model.ConsoleWay):
            return None
        usual = {"http": 80, "https": 443, "telnet": 23, "ssh": 22}
        named = way.scheme if isinstance(way, model.PageWay) else way.over
        return channels.TcpPort(self.old, way.port or usual[named]) if named in usual else None

    def lines(self, mac: addresses.MacAddress) -> list[str]:
        """Return what will be said to it.

        Raises:
            BadInput: something that has to be filled in was not given.
        """
        return table.WAYS[self.by].says_lines(self.start(mac))


async def _door_to(errand: ErrandRun) -> Door | None:
    """Open a door to the page of the device where it is."""
    cable, at = errand.cable, errand.session.device.whereabouts
    if at is None:
        saying.say("Where it is now is not known, so its page cannot be reached: give it with --at.")
        return None
    door = Door(cable, channels.TcpPort(at, _PAGE))
    await door.open()
    saying.say("Its page is at {hand_out}, over {adapter} only.", hand_out=door.hand_out(), adapter=cable.adapter)
    return door
