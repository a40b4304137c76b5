"""``askport settings``: what the device itself says that its settings are."""

import asyncio
from ipaddress import IPv4Address, IPv4Interface
from typing import Annotated

import typer

from askport.cli.cable import finder_on, giving_back, laptop_beside, open_cable, run
from askport.cli.passwords import read_password
from askport.cli.talk import JsonOption, Status, put_json
from askport.core.addresses import MacAddress, parse_address
from askport.core.errors import BadInput
from askport.core.kinds.model import ConsoleWay, Kind
from askport.core.kinds.read_back import ReadBack, contradictions, read_back
from askport.core.plan.target import Target
from askport.core.ways.console import far_end
from askport.core.ways.conversation import Ended, Said
from askport.core.ways.dialogue import Dialogue, shown_lines
from askport.core.ways.log_in import LogIn
from askport.core.ways.start import Start
from askport.edges.keeper_client import Keeper
from askport.edges.kinds import kind_named

_LONGEST_S = 120.0


def settings(
    adapter: Annotated[str, typer.Argument(help="The adapter that the cable is in.")],
    mac: Annotated[str, typer.Option(help="The device's MAC address.")],
    at: Annotated[str, typer.Option(metavar="ADDRESS", help="Where the device is.")],
    kind: Annotated[str, typer.Option(metavar="FILE|NAME", help="Its kind; 'askport kinds list' shows them.")],
    by: Annotated[str, typer.Option(metavar="WAY", help="By which way it is asked.")] = "console",
    port: Annotated[int | None, typer.Option(help="The TCP port of its console.")] = None,
    user: Annotated[str, typer.Option(help="Its log-in name.")] = "",
    password_from: Annotated[
        str | None,
        typer.Option("--password-from", metavar="FILE", help="Where its password stands; - is standard input"),
    ] = None,
    json: JsonOption = False,
) -> None:
    """Read what the device itself says that its settings are."""
    device, address = MacAddress.parse(mac), parse_address(at)
    chosen = kind_named(kind).kind
    console = _readable(chosen, by)
    log_in = LogIn(user, read_password(password_from, wanted=chosen.asks_password(by)))
    shown_lines([*console.login, *console.read], log_in.values)  # what is missing is said before anything is touched
    with open_cable(adapter) as keeper, giving_back(keeper):
        said = asyncio.run(_read(keeper, device, address, console, port, log_in))
    told = read_back(said.found)
    well = said.ended is Ended.WELL
    notes = [*contradictions(told, device, address), *(f"{each[0].upper()}{each[1:]}." for each in told.unread)]
    because = " ".join(notes) or "It said so on its console." if well else f"Its console: {said.because}."
    if json:
        put_json(_document(device, by, told, because, lasts={"yes": True, "no": False}.get(console.permanent or "")))
    else:
        for name, value in _rows(told):
            print(f"{name}: {value}")
        print(because)
    if not well or told.address is None:
        raise typer.Exit(Status.NO)


def _readable(kind: Kind, by: str) -> ConsoleWay:
    if by != "console":
        raise BadInput(f"'{by}' reads nothing back: choose console.")
    console = kind.way_by("console")
    if not isinstance(console, ConsoleWay) or not console.read:
        raise BadInput(f"The kind '{kind.name}' has no lines that read its settings: give its console read = [...].")
    return console


async def _read(
    keeper: Keeper, mac: MacAddress, at: IPv4Address, console: ConsoleWay, port: int | None, log_in: LogIn
) -> Said:
    finder = finder_on(keeper, measures=False)
    await laptop_beside(keeper, at, finder)
    await keeper.pin(at, mac)
    start = Start(
        mac=mac, target=Target(interface=IPv4Interface(at)), laptop_mac=keeper.mac, laptop=None, old=at,
        now=keeper.wire.now(), xid=lambda: 0, log_in=log_in, port=port,
    )  # fmt: skip
    far = far_end(console, at, start)
    lines = [*console.login, *console.read]
    dialogue = Dialogue(far, lines, log_in.values, refused=console.refused, now=keeper.wire.now())
    await run(dialogue, keeper, _LONGEST_S)
    return dialogue.said or Said(Ended.SILENT, "it did not come to an end")


def _rows(told: ReadBack) -> list[tuple[str, object]]:
    rows: list[tuple[str, object | None]] = [
        ("address", told.address),
        ("prefix", told.prefix),
        ("gateway", told.gateway),
        ("DNS", ", ".join(map(str, told.dns)) or None),
        ("origin", told.origin),
        ("name", told.name),
    ]
    return [(name, value) for name, value in rows if value is not None]


def _document(mac: MacAddress, way: str, told: ReadBack, because: str, *, lasts: bool | None) -> dict[str, object]:
    return {
        "schema": "askport.settings/1",
        "mac": str(mac),
        "way": way,
        "address": str(told.address) if told.address else None,
        "prefix": told.prefix,
        "gateway": str(told.gateway) if told.gateway else None,
        "dns": [str(each) for each in told.dns],
        "origin": told.origin,
        "permanent": lasts,
        "because": because,
    }
