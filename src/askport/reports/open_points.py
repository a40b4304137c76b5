"""What a job leaves open, the worst first: what a customer has to read before anything else."""

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from textwrap import wrap

from askport.core.phrases import listed, phrase
from askport.core.plan import planned_device, site_plan
from askport.core.proofs.power_cycle import PowerCycle
from askport.core.register.visits import Otherwise, Row
from askport.core.visit.narrate import proof_words

VALUES = {"address": "address", "mask": "mask", "gateway": "gateway", "dns": phrase("DNS servers")}
"""What the plan has of a device, in words."""
_ROW = 200
"""Characters of names in one row; each piece of a page holds twice that."""


@dataclass(frozen=True, slots=True)
class OpenPoints:
    """Points of one kind."""

    heading: str
    count: int
    lines: tuple[str, ...]
    """A line each; names only stand in rows."""
    contradicts: bool
    """Whether something was shown to be otherwise than it was to be, or was said differently."""


def open_points(rows: Sequence[Row], plan: site_plan.Plan, conflicts: Sequence[str] = ()) -> list[OpenPoints]:
    """Return all of them.

    Args:
        conflicts: what joined records say differently and nobody has settled.
    """
    failed = [row for row in rows if row.failed]
    groups: list[tuple[str, bool, Sequence[tuple[Row | planned_device.PlannedDevice | None, str]]]] = [
        (phrase("Not as planned"), True,
         [(row, listed(map(_otherwise, row.otherwise))) for row in rows if row.otherwise]),
        ("Failed", True, [(row, listed(map(proof_words, row.failed))) for row in failed]),
        (phrase("Not proven"), False,
         [(row, _why(row)) for row in rows if not row.last.is_proven and row not in failed]),
        (phrase("Begun again and not finished"), False, [(row, "") for row in rows if row.unfinished]),
        (phrase("Outstanding (planned, not started)"), False, [(each, "") for each in not_started(rows, plan)]),
        (phrase("Lost at the next power cycle"), False,
         [(row, phrase("address not saved")) for row in rows if row.is_fleeting]),
        (phrase("Records that differ"), True, [(None, each) for each in conflicts]),
        (phrase("Proven, with exceptions"), False, [
            (row, listed(map(proof_words, row.open_points))) for row in rows if row.is_proven and row.open_points
        ]),
    ]  # fmt: skip
    return [
        OpenPoints(heading, len(found), tuple(_lines(found)), contradicts)
        for heading, contradicts, found in groups
        if found
    ]


def _lines(found: Sequence[tuple[Row | planned_device.PlannedDevice | None, str]]) -> Iterator[str]:
    """Yield what is to be said; what is the same of several devices is said once, behind their names."""
    names = dict[str, list[str]]()
    for about, text in found:
        names.setdefault(text, []).extend([_name(about)] if about else [])
    for text, all_of in names.items():
        for rows in wrap(", ".join(all_of), _ROW) if all_of else [""]:
            yield f"{rows.rstrip(',')}: {text}" if rows and text else rows or text


def proven_words(proven: int, everyone: int, open_among: int, not_started: int = 0) -> str:
    """Say how many devices are proven, of how many of them something is missing all the same, and what is to come.

    Args:
        not_started: planned devices that are not in the register.
    """
    said = phrase(
        "{proven} of {everyone} proven, {open} of them with open points"
        if open_among
        else "{proven} of {everyone} proven",
        proven=proven,
        everyone=everyone + not_started,
        open=open_among,
    )
    return phrase("{proven}; {count} not started", proven=said, count=not_started) if not_started else said


def not_started(rows: Iterable[Row], plan: site_plan.Plan) -> list[planned_device.PlannedDevice]:
    """Return the planned devices that nothing was begun of."""
    begun = {row.tag for row in rows}
    return [each for each in plan.devices if each.tag not in begun]


def counted(rows: Iterable[Row]) -> tuple[int, int, int]:
    """Return how many are proven, how many there are, and how many of the proven have open points."""
    found = list(rows)
    proven = [row for row in found if row.is_proven]
    return len(proven), len(found), sum(bool(row.open_points) for row in proven)


def _name(about: Row | planned_device.PlannedDevice) -> str:
    return about.tag or str(about.mac)


def _otherwise(value: Otherwise) -> str:
    left = phrase("left with {left}", left=value.left) if value.left else phrase("not shown")
    return phrase("{values} {planned} planned, {left}", values=VALUES[value.name], planned=value.planned, left=left)


def _why(row: Row) -> str:
    visit = row.last
    if not visit.recorded_at:
        return phrase("set, not recorded") if visit.result == "taken" else phrase("found, address not set")
    if PowerCycle.name in row.open_points:
        others = [each for each in row.open_points if each != PowerCycle.name]
        told = "power cycle not tested; not verified: {others}" if others else "power cycle not tested"
        return phrase(told, others=listed(map(proof_words, others)))
    return (
        phrase("not verified: {checks}", checks=listed(map(proof_words, row.open_points)))
        if row.open_points
        else phrase("nothing was proven")
    )
