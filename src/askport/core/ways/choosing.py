"""Which ways fit a device, with the reason, what they lack, and what they leave untold."""

from collections.abc import Collection
from ipaddress import IPv4Address, IPv6Address
from typing import NamedTuple

from askport.core import errors
from askport.core.finding.device import Device
from askport.core.kinds.model import ConsoleWay, Kind
from askport.core.phrases import listed, phrase
from askport.core.ways import console_way, page_way, table, way_entry
from askport.core.ways.start import Start


class WayChoice(NamedTuple):
    """A way for one device."""

    entry: way_entry.WayEntry
    reason: str
    lacks: str = ""
    """What it still needs, as the end of a sentence."""
    usable: bool = True
    """Whether it can be chosen once it has that; a way without its kind cannot."""
    offers: str = ""
    """The kind that it is a way of, where only the maker speaks for that: whoever chooses the way takes the kind."""


_CONSOLE_PORTS, _PAGE_PORTS = (23, 22), (80, 443)


def fitting(
    device: Device | None,
    there: IPv4Address | None,
    kind: Kind | None = None,
    *,
    door: IPv6Address | None = None,
    ports: Collection[int] = (),
    has: Collection[errors.Wants] = (),
) -> list[WayChoice]:
    """Return the ways that fit a device, best first; behind them those that would with a kind.

    Args:
        there: where it is.
        door: its link-local address, where it is talked to by that.
    """
    found = []
    for entry in table.WAYS.values():
        over = door if entry.over_ipv6 else None
        if reason := entry.fits(device, over or there, kind):
            reason = phrase("{reason} Over IPv6, at {over}.", reason=reason, over=over) if over else reason
            found.append(WayChoice(entry, reason, _lacks(entry, kind, has)))
    names = {each.entry.name for each in found}
    for name, wanted in ((console_way.Console.name, _CONSOLE_PORTS), (page_way.Page.name, _PAGE_PORTS)):
        opens = [port for port in wanted if port in ports]
        if opens and name not in names and (there or door):
            answers = phrase("It answers on port {opens}.", opens=listed(opens))
            found.append(WayChoice(table.WAYS[name], answers, phrase("a kind that says how"), usable=False))
    return found


def _lacks(entry: way_entry.WayEntry, kind: Kind | None, has: Collection[errors.Wants]) -> str:
    way = kind.way_by(entry.name) if kind else None
    lacks = []
    if isinstance(way, ConsoleWay) and way.over == "serial" and errors.Wants.LINE not in has:
        lacks.append(phrase("its serial line"))
    if kind and way and kind.is_entered_with(way) and errors.Wants.LOG_IN not in has:
        lacks.append(phrase("its community") if kind.asks_community_only else phrase("its log-in"))
    return listed(lacks)


def untold(entry: way_entry.WayEntry, start: Start) -> list[str]:
    """Return what is planned and not told to the device by this way: the record will not know it."""
    tells, target = entry.tells(start), start.target
    planned = {"mask": True, "gateway": target.gateway is not None, "dns": bool(target.dns)}
    names = {"mask": "mask", "gateway": "gateway", "dns": "DNS"}
    return [
        names[each] for each, is_planned in planned.items() if is_planned and tells is not None and each not in tells
    ]
