"""Joining the journals of two technicians at one site: the same in either order, and nothing settled silently."""

from collections.abc import Iterable, Iterator, Sequence
from datetime import datetime

from askport.core.phrases import listed, phrase
from askport.core.register import chain, in_order, visits
from askport.core.register.entries import DevicePlanned, Joined, SubnetPlanned
from askport.core.register.fold import fold


def join(journals: Sequence[Sequence[chain.Line]], at: datetime) -> tuple[list[chain.Line], Joined]:
    """Return the lines of all, each once, and the entry that joins them at a time, with what they say differently."""
    heads = sorted({lines[-1].hash for lines in journals if lines})
    lines = chain.order(line for journal in journals for line in journal)
    return lines, Joined(heads=tuple(heads), conflicts=tuple(sorted({*_conflicts(journals), *_ahead(journals, at)})))


def _ahead(journals: Iterable[Iterable[chain.Line]], now: datetime) -> Iterator[str]:
    """Say which lines have a time that has not come yet: the first of each journal."""
    for lines in journals:
        if first := next((line for line in lines if in_order.is_ahead(line.at, now)), None):
            yield phrase(
                "A clock was ahead: line {place}, dated {at:%Y-%m-%d %H:%M}, is later than now.",
                place=first.place,
                at=first.at,
            )


def _conflicts(journals: Sequence[Sequence[chain.Line]]) -> Iterable[str]:
    """Say what the registers and the plans of two journals have differently."""
    registers = [fold(lines) for lines in journals]
    rows: dict[object, list[visits.Row]] = {}
    for register in registers:
        for row in register:
            rows.setdefault(row.mac, []).append(row)
    for mac, same in rows.items():
        tags = sorted({row.tag for row in same})
        if len(tags) > 1:
            yield phrase("{mac} is called {tags}: choose its tag in the joined job.", mac=mac, tags=listed(tags))
        left = sorted({str(row.left) for row in same if row.left})
        if len(left) > 1:
            yield phrase("{mac} was left at {left}: see which is true, and prove it again.", mac=mac, left=listed(left))
        failed = sorted({name for row in same for name in row.failed})
        if failed and any(row.is_proven for row in same):
            yield phrase(
                "{mac} is proven in one file, and failed in another ({failed}): prove it again.",
                mac=mac,
                failed=listed(failed),
            )
    everyone = [row for register in registers for row in register]
    for what, texts in (("address", [str(row.left or "") for row in everyone]), ("tag", [row.tag for row in everyone])):
        by_value: dict[str, set[str]] = {}
        for row, text in zip(everyone, texts, strict=True):
            if text:
                by_value.setdefault(text, set()).add(str(row.mac))
        for value, macs in by_value.items():
            if len(macs) > 1:
                yield phrase(
                    "The {what} {value} is given to {macs}: one of them has to get another.",
                    what=what,
                    value=value,
                    macs=listed(sorted(macs)),
                )
    planned: dict[str, set[str]] = {}
    for lines in journals:
        last: dict[str, str] = {}
        for line in lines:
            if isinstance(entry := line.entry, DevicePlanned):
                last[phrase("The device {tag}", tag=entry.device.tag)] = entry.model_dump_json()
            elif isinstance(entry, SubnetPlanned):
                last[phrase("The subnet {network}", network=entry.subnet.network)] = entry.model_dump_json()
        for name, body in last.items():
            planned.setdefault(name, set()).add(body)
    for name, bodies in planned.items():
        if len(bodies) > 1:
            yield phrase(
                "{name} is planned differently: the later plan is taken; import the right one to settle it.", name=name
            )
