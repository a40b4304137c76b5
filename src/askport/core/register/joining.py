"""Joining the journals of two technicians at one site: the same in either order, and nothing settled silently."""

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from datetime import datetime

from askport.core.register.entries import DevicePlanned, Entry, Line, SubnetPlanned
from askport.core.register.fold import Row, fold
from askport.core.words import listed

_Key = tuple[str, str]
"""What an entry is known by in any journal: its time and its text."""


@dataclass(slots=True)
class Joined:
    """Two journals as one."""

    entries: list[tuple[Entry, datetime]] = field(default_factory=list)
    """In the order of their times."""
    units: list[dict[int, int]] = field(default_factory=list)
    """For each journal the numbers that its units have now."""
    conflicts: list[str] = field(default_factory=list)
    """What the two say differently, each as a sentence."""


def join(journals: Sequence[Sequence[Line]]) -> Joined:
    """Return the entries of all, each once; units are counted anew in the order in which they were begun."""
    begun: dict[_Key, None] = {}
    first_of: list[dict[int, _Key]] = []
    for lines in journals:
        firsts: dict[int, _Key] = {}
        for line in lines:
            if unit := line.entry.unit:
                firsts.setdefault(unit, _key(line))
        first_of.append(firsts)
        begun |= dict.fromkeys(firsts.values())
    number_of = {key: number for number, key in enumerate(sorted(begun), 1)}
    units = [{unit: number_of[key] for unit, key in firsts.items()} for firsts in first_of]
    found: dict[_Key, tuple[Entry, datetime]] = {}
    for lines, numbers in zip(journals, units, strict=True):
        for line in lines:
            entry = line.entry
            numbered = entry.model_copy(update={"unit": numbers[entry.unit]}) if entry.unit else entry
            found.setdefault(_key(line), (numbered, line.at))
    joined = Joined(entries=[found[key] for key in sorted(found)], units=units)
    joined.conflicts = list(_conflicts(journals))
    return joined


def _key(line: Line) -> _Key:
    return line.at.isoformat(), line.body


def _conflicts(journals: Sequence[Sequence[Line]]) -> Iterable[str]:
    """Say what the registers and the plans of two journals have differently."""
    registers = [fold(lines) for lines in journals]
    rows: dict[object, list[Row]] = {}
    for register in registers:
        for row in register:
            rows.setdefault(row.mac, []).append(row)
    for mac, same in rows.items():
        tags = sorted({row.tag for row in same})
        if len(tags) > 1:
            yield f"{mac} is called {listed(tags)}: name it in the joined job."
        left = sorted({str(row.left) for row in same if row.left})
        if len(left) > 1:
            yield f"{mac} was left at {listed(left)}: see which is true, and prove it again."
    everyone = [row for register in registers for row in register]
    for what, texts in (("address", [str(row.left or "") for row in everyone]), ("tag", [row.tag for row in everyone])):
        by_value: dict[str, set[str]] = {}
        for row, text in zip(everyone, texts, strict=True):
            if text:
                by_value.setdefault(text, set()).add(str(row.mac))
        for value, macs in by_value.items():
            if len(macs) > 1:
                yield f"The {what} {value} is given to {listed(sorted(macs))}: one of them has to get another."
    planned: dict[str, set[str]] = {}
    for lines in journals:
        last: dict[str, str] = {}
        for line in lines:
            if isinstance(entry := line.entry, DevicePlanned):
                last[f"The device {entry.device.tag}"] = entry.model_dump_json()
            elif isinstance(entry, SubnetPlanned):
                last[f"The subnet {entry.subnet.network}"] = entry.model_dump_json()
        for name, body in last.items():
            planned.setdefault(name, set()).add(body)
    for name, bodies in planned.items():
        if len(bodies) > 1:
            yield f"{name} is planned differently: the later plan is taken; import the right one to settle it."
