"""Cells of tables, which a spreadsheet neither runs nor spoils, and moments as text."""

import unicodedata
from datetime import UTC, datetime

from askport.core.text import display_text

_FORMULA_STARTS = ("=", "+", "-", "@")
"""A spreadsheet takes a cell that begins so for a formula, behind spaces and in full width too."""
MAX_CELL = 2000
"""Characters of one cell; a spreadsheet takes 32,767, and no honest value is this long."""


def cell(value: object) -> str:
    """Return a cell that a spreadsheet neither runs nor is steered by, whatever stands in a job file."""
    text = "" if value is None else display_text(str(value), MAX_CELL)
    starts = unicodedata.normalize("NFKC", text).lstrip()[:1]
    return f"'{text}" if starts in _FORMULA_STARTS and starts else text


def as_meant(text: str) -> str:
    """Return what a cell means that was written by :func:`cell`."""
    return text[1:] if text.startswith("'") and cell(text[1:]) == text else text


def local(moment: datetime | None) -> str:
    """Return a moment as people write it, in the zone of this laptop; an empty text for none."""
    return f"{moment.astimezone():%-d %b %Y, %H:%M}" if moment else ""


def iso(moment: datetime | None) -> str | None:
    """Return ISO 8601 in UTC with milliseconds."""
    return moment.astimezone(UTC).isoformat(timespec="milliseconds").replace("+00:00", "Z") if moment else None
