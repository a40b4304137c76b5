"""``askport settings``: what the device itself says that its settings are."""

import asyncio
from typing import Annotated

import typer

from askport.cli import ask_own_word, errand_run, link_local_option, on_cable, passwords, saying
from askport.core.addresses import MacAddress, parse_address
from askport.core.kinds.model import ConsoleWay, PageWay
from askport.core.kinds.own_word import ReadBack, contradictions, read_back
from askport.core.phrases import begun, phrase
from askport.core.protocols import words_of
from askport.core.visit import errand, steps
from askport.core.ways import conversation, own_word_talk
from askport.core.ways.start import Start
from askport.edges import footing, kind_files

_LONGEST_S = 120.0


def settings(
    adapter: Annotated[str, typer.Argument(help="The adapter that the cable is in.")],
    mac: Annotated[str, typer.Option(help="The device's MAC address.")],
    at: Annotated[str, typer.Option(metavar="ADDRESS", help="Where the device is; dcp needs none.")] = "",
    kind: Annotated[str, typer.Option(metavar="FILE|NAME", help="Its kind, for a console or a page.")] = "",
    by: Annotated[str, typer.Option(metavar="WAY", help="By which way it is asked.")] = "console",
    port: Annotated[
        str, typer.Option(metavar="PORT|PATH", help="Its TCP port, or the serial line of its console.")
    ] = "",
    user: Annotated[str, typer.Option(help="Its log-in name.")] = "",
    password_from: passwords.PasswordOption = None,
    on_adapter: on_cable.OnAdapterOption = False,
    over_ipv6: link_local_option.OverIpv6Option = False,
    json: saying.JsonOption = False,
) -> None:
    """Read back a device's own settings.

    In a field protocol, or by its kind. Exit status 1: it could not be read.

    Example: askport settings enp3s0 --mac 00:00:5e:00:53:61 --by dcp
    """
    device, address = MacAddress.parse(mac), parse_address(at) if at else None
    chosen = kind_files.kind_named(kind).kind if kind else None
    start = ask_own_word.reading_start(device, address, chosen, by, port=port, user=user, password_from=password_from,
                          over_ipv6=over_ipv6)  # fmt: skip
    way = chosen.way_by(by) if chosen else None
    by_kind = way.permanent if isinstance(way, ConsoleWay | PageWay) else None
    with on_cable.open_cable(adapter, on_adapter=on_adapter) as cable, on_cable.giving_back(cable):
        said = asyncio.run(_read(cable, start, by))
    lasts = {"yes": True, "no": False}.get(said.found.get("lasts") or by_kind or "")
    told = read_back(said.found)
    well = said.ended is conversation.Ended.WELL
    against = contradictions(told, device, address) if address else []
    beside = [*([said.because] if well and said.because else []), *told.unread]
    notes = [*against, *(f"{begun(each).rstrip('.')}." for each in beside)]
    asked = by in own_word_talk.READERS
    source = (
        phrase("It said so by {words_of}.", words_of=words_of(by))
        if asked
        else phrase("It said so on its {by}.", by=by)
    )
    failed = f"{'By' if asked else 'Its'} {words_of(by)}: {said.because}."
    because = " ".join(notes) or source if well else failed
    if json:
        saying.put_json(_document(device, by, told, because, lasts=lasts))
    else:
        for name, value in _rows(told):
            print(f"{name}: {value}")
        print(because)
    if not well or told.address is None:
        raise typer.Exit(saying.Status.NO)


async def _read(cable: footing.Footing, start: Start, by: str) -> conversation.Said:
    reached = await errand_run.ErrandRun(cable, errand.Errand(start=start, ends=steps.Step.REACH)).reach()
    talk = own_word_talk.reading(reached, by)
    if talk is None:
        raise ValueError(phrase("its kind was seen to read by this way"))
    await on_cable.run(talk, cable, _LONGEST_S)
    return talk.said or conversation.Said(conversation.Ended.SILENT, phrase("it did not come to an end"))


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
