"""The register as JSON and CSV."""

import csv
import io
from collections.abc import Iterable
from typing import Any

from askport.core.register.fold import Row
from askport.reports.times import iso

_FORMULA_STARTS = ("=", "+", "-", "@", "\t", "\r")
"""A spreadsheet takes a cell that begins so for a formula."""

COLUMNS = (
    "tag", "mac", "maker", "as_found", "found_gateway", "found_at", "as_left", "left_gateway", "left_dns", "way",
    "state", "proofs_passed", "proofs_failed", "proofs_left_out", "recorded_at",
)  # fmt: skip


def register_json(rows: Iterable[Row]) -> dict[str, Any]:
    """Return the register as a document."""
    return {"schema": "askport.register/1", "devices": [_device(row) for row in rows]}


def _text(value: object) -> str | None:
    return None if value is None else str(value)


def _device(row: Row) -> dict[str, Any]:
    return {
        "tag": row.tag,
        "mac": str(row.mac),
        "maker": row.maker,
        "as_found": {
            "address": _text(row.found_address),
            "prefix": row.found_prefix,
            "gateway": _text(row.found_gateway),
            "asked_by": row.found_asking,
            "at": iso(row.found_at),
        },
        "as_left": {
            "address": _text(row.left.ip if row.left else None),
            "prefix": row.left.network.prefixlen if row.left else None,
            "gateway": _text(row.left_gateway),
            "dns": [str(each) for each in row.left_dns],
        },
        "way": row.way,
        "result": row.result,
        "state": row.state,
        "proofs": [
            {
                "name": proof.name,
                "expected": proof.expected,
                "measured": proof.measured,
                "passed": proof.passed,
                "because": proof.because,
                "at": iso(proof.at),
            }
            for proof in row.proofs.values()
        ],
        "proofs_left_out": list(row.left_out),
        "recorded_at": iso(row.recorded_at),
    }


def register_csv(rows: Iterable[Row]) -> str:
    """Return the register as CSV (RFC 4180); no cell can be taken for a formula."""
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\r\n")
    writer.writerow(COLUMNS)
    for row in rows:
        passed = [proof.name for proof in row.proofs.values() if proof.passed]
        failed = [proof.name for proof in row.proofs.values() if not proof.passed]
        cells = (
            row.tag, row.mac, row.maker, row.as_found, row.found_gateway, iso(row.found_at), row.left,
            row.left_gateway, " ".join(str(each) for each in row.left_dns), row.way, row.state, " ".join(passed),
            " ".join(failed), " ".join(row.left_out), iso(row.recorded_at),
        )  # fmt: skip
        writer.writerow([_cell(each) for each in cells])
    return out.getvalue()


def _cell(value: object) -> str:
    text = "" if value is None else str(value)
    return f"'{text}" if text.startswith(_FORMULA_STARTS) else text
