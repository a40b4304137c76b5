"""The register as JSON and CSV."""

import csv
import io
from collections.abc import Iterable, Sequence
from typing import Any

from askport.core.phrases import ENGLISH, Phrase, phrase
from askport.core.plan.site_plan import Plan
from askport.core.register.as_left import AsLeft
from askport.core.register.visits import Row
from askport.core.visit.narrate import proof_words
from askport.reports import open_points, planned
from askport.reports.cells import LANGUAGE, cell, iso, local

COLUMNS = (
    "tag", "mac", "maker", "as_found", "found_gateway", "found_at", "as_left", "left_gateway", "left_dns", "left_basis",
    "way", "state", "proofs_passed", "proofs_failed", "proofs_not_made", "proofs_left_out", "recorded_at", "visits",
)  # fmt: skip


def register_json(rows: Iterable[Row]) -> dict[str, Any]:
    """Return the register as a document."""
    return {"schema": "askport.register/1", "devices": [device_json(row) for row in rows]}


def _text(value: object) -> str | None:
    return None if value is None else str(value)


def as_left_json(as_left: AsLeft) -> dict[str, Any]:
    """Return the values that a device was left with, each with its basis."""
    return as_left.model_dump(mode="json")


def device_json(row: Row) -> dict[str, Any]:
    """Return one device with all that is known of it."""
    first, last, said = row.first, row.last, row.first.found_said
    return {
        "tag": row.tag,
        "mac": str(row.mac),
        "macs": [str(each) for each in row.macs],
        "maker": row.maker,
        "as_found": {
            "address": _text(first.found_address),
            "prefix": first.found_prefix,
            "gateway": _text(first.found_gateway),
            "ipv6": [str(each) for each in first.found_ipv6],
            "asked_by": first.found_asking,
            "said": said.model_dump(mode="json", exclude={"kind", "unit", "mac"}) if said else None,
            "at": iso(first.found_at),
        },
        "identities": [each.model_dump() for each in row.identities],
        "as_left": as_left_json(last.as_left),
        "ipv6_as_left": [str(each) for each in last.left_ipv6],
        "way": last.way,
        "result": last.result,
        "state": row.state,
        "open_points": row.open_points,
        "proofs": [
            {
                "name": proof.name,
                "expected": proof.expected,
                "measured": proof.measured,
                "passed": proof.passed,
                "because": proof.because,
                "after_power_cut": proof.after_cut,
                "at": iso(proof.at),
            }
            for proof in last.proofs.values()
        ],
        "power_cut_s": dict(last.cut.moments) if last.cut else None,
        "proofs_left_out": list(last.left_out),
        "recorded_at": iso(last.recorded_at),
        "notes": [{"at": iso(each.at), "code": "note", "text": each.text,
                   "photo": each.photo or None} for each in row.notes],
        "visits": [
            {"found_at": iso(each.found_at), "as_found": each.as_found, "as_left": as_left_json(each.as_left),
             "way": each.way, "state": each.state, "recorded_at": iso(each.recorded_at)}
            for each in row.visits
        ],
    }  # fmt: skip


def register_rows(rows: Iterable[Row], plan: Plan | None = None) -> list[list[str]]:
    """Return the register as a table with its heads, every cell a text; what the plan has beside stands behind it."""
    plan = plan or Plan()
    beside = planned.planned_heads(plan)
    table = [[*COLUMNS, *(Phrase("plan: {each}", {"each": each}, language=ENGLISH) for each in beside)]]
    for row in rows:
        first, last, left = row.first, row.last, row.last.as_left
        by_outcome = {
            outcome: " ".join(proof.name for proof in last.proofs.values() if proof.passed is outcome)
            for outcome in (True, False, None)
        }
        bases = [f"{name} {value['basis']}" for name, value in as_left_json(left).items() if value["basis"]]
        cells = (
            row.tag, row.mac, row.maker, first.as_found, first.found_gateway, iso(first.found_at),
            left.words() if left.address.basis else "", left.gateway.value, " ".join(map(str, left.dns.value or ())),
            ", ".join(bases), last.way, row.state, by_outcome[True], by_outcome[False], by_outcome[None],
            " ".join(last.left_out), iso(last.recorded_at), len(row.visits),
        )  # fmt: skip
        told = planned.planned_values(plan.by_tag.get(row.tag))
        table.append([*("" if each is None else str(each) for each in cells), *(told.get(each, "") for each in beside)])
    return table


_HEADS = {
    "tag": "Tag", "mac": phrase("MAC address"), "maker": "Maker", "as_found": phrase("As found"),
    "found_gateway": phrase("Gateway as found"),
    "found_at": phrase("Found at"), "as_left": phrase("As left"),
    "left_gateway": phrase("Gateway as left"), "left_dns": phrase("DNS servers as left"),
    "left_basis": "Evidence", "way": phrase("Set by"), "state": "State", "proofs_passed": phrase("Proofs passed"),
    "proofs_failed": phrase("Proofs failed"), "proofs_not_made": phrase("Proofs not made"),
    "proofs_left_out": phrase("Proofs left out"),
    "recorded_at": phrase("Recorded at"), "visits": "Visits",
}  # fmt: skip
_MOMENTS, _PROOFS = (
    ("found_at", "recorded_at"),
    ("proofs_passed", "proofs_failed", "proofs_not_made", "proofs_left_out"),
)


def register_for_people(rows: Sequence[Row], plan: Plan, language: str = LANGUAGE) -> list[list[str]]:
    """Return the table with heads, proofs and times in words, and behind it what is planned and not started."""
    heads, *table = register_rows(rows, plan)
    for row, cells in zip(rows, table, strict=True):
        at = {"found_at": row.first.found_at, "recorded_at": row.last.recorded_at}
        for place, head in enumerate(heads):
            if head in _MOMENTS:
                cells[place] = local(at[head], language)
            elif head in _PROOFS:
                cells[place] = ", ".join(map(proof_words, cells[place].split()))
    beside = planned.planned_heads(plan)
    for each in open_points.not_started(rows, plan):
        told = planned.planned_values(each)
        known = {"tag": each.tag, "mac": str(each.mac or ""), "state": phrase("not started")}
        table.append([*(known.get(head, "") for head in COLUMNS), *(told.get(head, "") for head in beside)])
    return [[_HEADS.get(head, head) for head in heads], *table]


def register_csv(rows: Iterable[Row], plan: Plan | None = None) -> str:
    """Return the register as CSV (RFC 4180); no cell can be taken for a formula."""
    out = io.StringIO()
    csv.writer(out, lineterminator="\r\n").writerows(
        [[cell(each) for each in row] for row in register_rows(rows, plan)]
    )
    return out.getvalue()
