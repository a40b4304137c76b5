"""``askport console``: a device's console over the cable, in the technician's own terminal."""

import asyncio
from dataclasses import replace
from datetime import UTC, datetime
from pathlib import Path
from typing import Annotated, Any

import typer

from askport.cli import on_cable, passwords, saying, target_options
from askport.cli.link_local_option import OverIpv6Option, link_local_of, who_has
from askport.core import channels, text
from askport.core.addresses import MacAddress, parse_address
from askport.core.errors import BadInput, MachineRefused, Refused
from askport.core.phrases import phrase
from askport.core.plan.target import Target
from askport.edges.files import write_file
from askport.edges.footing import Footing
from askport.edges.transports.tcp_socket import Sockets, why

_PORTS = {"telnet": 23, "ssh": 22}


def console(
    adapter: Annotated[str, typer.Argument(help="The adapter that the cable is in.")] = "",
    device: Annotated[str, typer.Argument(metavar="ADDRESS", help="Where the device is.")] = "",
    over: Annotated[str, typer.Option(metavar="telnet|ssh", help="What the console speaks.")] = "",
    port: Annotated[int, typer.Option(help="Its TCP port, where it is another than usual.")] = 0,
    serial: Annotated[str, typer.Option(metavar="PATH", help="A serial line of the laptop's instead.")] = "",
    baud: Annotated[int, typer.Option(help="With --serial.")] = 9600,
    pin: Annotated[str, typer.Option(metavar="MAC", help="Reach this one of several with one address.")] = "",
    user: Annotated[str, typer.Option(help="With ssh: the log-in name.")] = "",
    password_from: passwords.PasswordOption = None,
    learn: Annotated[Path | None, typer.Option(metavar="FILE.toml", help="What is typed becomes a kind file.")] = None,
    to: Annotated[str, typer.Option(metavar="ADDRESS/PREFIX", help="What the device is set to, if it is known.")] = "",
    gateway: Annotated[str, typer.Option(help="With --to: its gateway.")] = "",
    dns: Annotated[list[str] | None, typer.Option(help="With --to: its DNS servers.")] = None,
    name: Annotated[str, typer.Option(help="With --learn: what the kind is called.")] = "",
    on_adapter: on_cable.OnAdapterOption = False,
    over_ipv6: OverIpv6Option = False,
) -> None:
    """Open a device's console: Telnet, SSH or serial line.

    Until Ctrl-]. With --learn, what is typed becomes a kind file.

    Example: askport console enp3s0 192.168.77.20 --over telnet
    """
    from askport.core.lessons.console_lesson import Listening

    target = target_options.target_of(to, gateway, dns) if to else None
    mac = MacAddress.parse(pin) if pin else None
    listening = Listening()
    if serial:
        asyncio.run(_talk(None, channels.SerialLine(serial, baud), listening))
        way: dict[str, Any] = {"by": "console", "over": "serial", "baud": baud}
    else:
        if over not in _PORTS:
            raise BadInput("Say what the console speaks: --over telnet, --over ssh, or --serial PATH.")
        if not adapter or not device:
            raise BadInput("Give the adapter and the device's address: askport console ADAPTER ADDRESS --over telnet.")
        at, number = parse_address(device), port or _PORTS[over]
        far: Any = channels.TelnetPort(at, number)
        if over == "ssh":
            far = channels.SshPort(at, number, user, passwords.read_password(password_from, wanted=True))
        with on_cable.open_cable(adapter, on_adapter=on_adapter) as cable, on_cable.giving_back(cable):
            asyncio.run(_on_cable(cable, far, mac, listening, over_ipv6=over_ipv6))
        way = {"by": "console", "over": over} | ({"port": port} if port else {})
    if learn:
        _learned(learn, listening, way, target, name, mac)


async def _on_cable(cable: Footing, far: Any, mac: MacAddress | None, listening: Any, *, over_ipv6: bool) -> None:
    if over_ipv6:
        far = replace(far, address=await link_local_of(cable, mac or await who_has(cable, far.address)))
    else:
        await on_cable.laptop_beside(cable, far.address, device=mac)
        if mac:
            await cable.pin(far.address, mac)
    await _talk(cable, far, listening)


async def _talk(over: Sockets | None, far: Any, listening: Any) -> None:
    from askport.edges.streams import TRANSPORTS
    from askport.edges.terminal_line import raw, talk

    try:
        reader, writer = await TRANSPORTS[type(far)](over, far)
    except (OSError, TimeoutError) as error:
        raise MachineRefused(
            "{far} does not open: {why}.", far=far, why=why(error) if isinstance(error, OSError) else error
        ) from None
    saying.say("Connected to {far}. Ctrl-] ends it.", far=far)
    with raw():
        ended = await talk(reader, writer, listening.said, listening.heard)
    saying.say("\r\nClosed: {ended}.", ended=ended)


def _learned(
    path: Path, listening: Any, way: dict[str, Any], target: Target | None, name: str, mac: MacAddress | None
) -> None:
    from askport.core.lessons.console_lesson import learn_lines
    from askport.core.lessons.drafting import add_keep, draft_console
    from askport.core.lessons.marks import Marks
    from askport.edges.kind_files import load_kind

    lesson = learn_lines([listening], target)
    if path.exists() and not lesson.stood and lesson.keep:
        load_kind(path)
        write_file(path, add_keep(path.read_text(encoding="utf-8"), lesson).encode())
        saying.say(
            "What keeps it was added to {path}: {keep}.",
            path=path,
            keep=", ".join(each["send"] for each in lesson.keep),
        )
        return
    if lesson.why_not or lesson.target is None:
        raise Refused(lesson.why_not or phrase("No line told the device an address: nothing can be learned from it."))
    today = datetime.now(UTC).astimezone().date()
    called = text.display_text(name or path.stem.replace("-", " "), 60)
    write_file(
        path,
        draft_console(
            lesson, way, name=called, marks=Marks(mac), learned=phrase("Learned on {today}", today=today)
        ).encode(),
    )
    saying.say(
        "{words}, of what made it {interface}: written to {path}.",
        words=lesson.words,
        interface=lesson.target.interface,
        path=path,
    )
    for stood in lesson.stood:
        said = phrase(
            "{placeholder}, which stood for {value} in “{field}”",
            placeholder=stood.placeholder,
            value=stood.value,
            field=text.display_text(stood.field, 60),
        )
        saying.say(f"    {said}")
