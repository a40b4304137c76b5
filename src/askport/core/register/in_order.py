"""In which order the lines of several members add up: by what each was made upon, and by the time only between equals.

A line about a device or a row of the plan names the last lines about the same thing that stood when it was written
(``upon``). It comes behind them, whatever the clocks of both laptops said. Between lines that knew nothing of each
other their times decide, as far as they are believable.
"""

from collections.abc import Iterable
from datetime import datetime, timedelta

from askport.core.phrases import phrase
from askport.core.register import chain, entries

SAME = timedelta(minutes=2)
"""Clocks that differ by no more than this are right."""


def planned(line: chain.Line) -> str:
    """Return what row of the plan a line is, an empty text where it is none."""
    match line.entry:
        case entries.DevicePlanned(device=device):
            return phrase("The device {tag}", tag=device.tag)
        case entries.SubnetPlanned(subnet=subnet):
            return phrase("The subnet {network}", network=subnet.network)
        case _:
            return ""


def _behind(lines: Iterable[chain.Line], own: str) -> dict[str, set[str]]:
    """Return behind which lines each comes: those that it was made upon, its visit's, and its device's being found."""
    by_time = sorted(lines, key=lambda line: (chain.believable(line), line.place, line.hash))
    behind: dict[str, set[str]] = {line.hash: set(line.entry.upon) for line in by_time}
    last: dict[tuple[int, str], chain.Line] = {}
    begins: set[str] = set()
    for line in sorted(by_time, key=lambda each: each.place):
        if line.entry.unit:  # a visit is one member's, on one strand
            if before := last.get((line.entry.unit, line.member or own)):
                behind[line.hash].add(before.hash)
            else:
                begins.add(line.hash)
            last[line.entry.unit, line.member or own] = line
    first: dict[bytes, chain.Line] = {}
    for line in by_time:
        if isinstance(line.entry, entries.Found) and line.hash in begins and not line.entry.upon:
            first.setdefault(line.entry.mac, line)
    for line in by_time:
        found = first.get(getattr(line.entry, "mac", b""))
        if found and line.entry.unit != found.entry.unit and not isinstance(line.entry, entries.Found):
            behind[line.hash].add(found.hash)
    return behind


def in_order(lines: Iterable[chain.Line], own: str = "") -> list[chain.Line]:
    """Return lines of several members in the order in which they add up, the same in every file.

    Args:
        lines: in any order.
        own: what the member is called whose file this is: lines that the crew does not have yet are its own.
    """
    every = list(lines)
    return chain.in_line(every, _behind(every, own))


def newest(lines: Iterable[chain.Line], own: str = "") -> list[chain.Line]:
    """Return those lines behind which no other of them comes: upon these the next one is made."""
    every = list(lines)
    behind = _behind(every, own)
    passed = set[str]().union(*behind.values())
    return [line for line in chain.in_line(every, behind) if line.hash not in passed]


def is_ahead(at: datetime, pushed: datetime | None) -> bool:
    """Whether a line's time is later than others had it."""
    return pushed is not None and at > pushed + SAME


def odd_time(line: chain.Line, others: Iterable[chain.Line], own: str = "") -> str:
    """Say what about a line's time cannot be, or nothing.

    Args:
        others: the one before it on its strand, and those that it was made upon.
    """
    who = line.member or own
    of = phrase("The clock of {who}", who=who or "a laptop")
    dated = phrase("line {place}, dated {at:%Y-%m-%d %H:%M}", place=line.place, at=line.at)
    if line.pushed and is_ahead(line.at, line.pushed):
        return phrase(
            "{of} was ahead: {dated}, had reached the crew by {pushed:%Y-%m-%d %H:%M}.",
            of=of,
            dated=dated,
            pushed=line.pushed,
        )
    latest = max(others, key=chain.believable, default=None)
    if latest is None or line.at >= chain.believable(latest) - SAME:
        return ""
    return phrase(
        "{of} was behind, or set back: {dated} comes after one of {believable:%Y-%m-%d %H:%M}.",
        of=of,
        dated=dated,
        believable=chain.believable(latest),
    )
