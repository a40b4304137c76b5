"""What a job leaves open, the worst first: what a customer has to read before anything else."""

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from textwrap import wrap

from askport.core.plan.site_plan import Plan
from askport.core.proofs.power_cycle import PowerCycle
from askport.core.register.visits import Otherwise, Row
from askport.core.text import listed
from askport.core.visit.narrate import proof_words

VALUES = {"address": "address", "mask": "mask", "gateway": "gateway", "dns": "DNS servers"}
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


def open_points(rows: Sequence[Row], plan: Plan, conflicts: Sequence[str] = ()) -> list[OpenPoints]:
    """Return all of them.

    Args:
        rows: the register.
        plan: the site's plan.
        conflicts: what joined records say differently and nobody has settled.
    """
    done = {row.tag for row in rows if row.last.recorded_at}
    begun = {row.tag for row in rows}
    failed = [row for row in rows if row.failed]
    waiting = [each.tag for each in plan.devices if each.tag not in done | begun]
    groups = (
        ("Not as planned", [
            f"{_name(row)}: {listed(map(_otherwise, row.otherwise))}" for row in rows if row.otherwise
        ]),
        ("Failed", [f"{_name(row)}: {listed(map(proof_words, row.failed))}" for row in failed]),
        ("Not proven", [
            f"{_name(row)}: {_why(row)}" for row in rows if not row.last.is_proven and row not in failed
        ]),
        ("Begun again and not finished", [_name(row) for row in rows if row.unfinished]),
        ("Planned and not done", waiting),
        ("Lost at the next power cut", [f"{_name(row)}: the setting is temporary" for row in rows if row.is_fleeting]),
        ("Records that differ", [*conflicts]),
        ("Proven except for", [
            f"{_name(row)}: {listed(map(proof_words, row.open_points))}"
            for row in rows if row.is_proven and row.open_points
        ]),
    )  # fmt: skip
    return [
        OpenPoints(heading, len(lines), tuple(wrap(", ".join(lines), _ROW)) if lines is waiting else tuple(lines))
        for heading, lines in groups
        if lines
    ]


def proven_words(proven: int, everyone: int, open_among: int) -> str:
    """Say how many devices are proven, and of how many of them something is missing all the same."""
    but = f", {open_among} of them with open points" if open_among else ""
    return f"{proven} of {everyone} proven{but}"


def counted(rows: Iterable[Row]) -> tuple[int, int, int]:
    """Return how many are proven, how many there are, and how many of the proven have open points."""
    found = list(rows)
    proven = [row for row in found if row.is_proven]
    return len(proven), len(found), sum(bool(row.open_points) for row in proven)


def _name(row: Row) -> str:
    return row.tag or str(row.mac)


def _otherwise(value: Otherwise) -> str:
    left = f"left with {value.left}" if value.left else "not shown"
    return f"{VALUES[value.name]} {value.planned} planned, {left}"


def _why(row: Row) -> str:
    visit = row.last
    if not visit.recorded_at:
        return "set, and not recorded" if visit.result == "taken" else "found, and not set"
    if PowerCycle.name in row.open_points:
        others = [each for each in row.open_points if each != PowerCycle.name]
        told = f"; {listed(map(proof_words, others))} not shown" if others else ""
        return f"no power cut{told}"
    return f"{listed(map(proof_words, row.open_points))} not shown" if row.open_points else "nothing was proven"
