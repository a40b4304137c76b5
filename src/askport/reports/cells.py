"""Cells of tables, which a spreadsheet neither runs nor spoils, and moments as text."""

import unicodedata
from datetime import UTC, datetime

from askport.core.errors import BadInput
from askport.core.text import display_text

_FORMULA_STARTS = ("=", "+", "-", "@")
"""A spreadsheet takes a cell that begins so for a formula, behind spaces and in full width too."""
LANGUAGE = "en-GB"
"""In which dates are written where a job does not say."""
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


def local(moment: datetime | None, language: str = LANGUAGE) -> str:
    """Return a moment as people write it in a language, in the zone of this laptop; an empty text for none."""
    from babel.dates import format_date, format_time

    if moment is None:
        return ""
    at, locale = moment.astimezone(), language.replace("-", "_")
    return f"{format_date(at, locale=locale, format='medium')}, {format_time(at, locale=locale, format='short')}"


def iso(moment: datetime | None) -> str | None:
    """Return ISO 8601 in UTC with milliseconds."""
    return moment.astimezone(UTC).isoformat(timespec="milliseconds").replace("+00:00", "Z") if moment else None


def known_language(text: str) -> str:
    """Return a language as it is kept, however it is written.

    Raises:
        BadInput: it is none, or the documents' typeface has no letters for its dates.
    """
    from babel import Locale, UnknownLocaleError

    from askport.reports.fonts import in_font

    try:
        known = str(Locale.parse(text.strip().replace("-", "_"))).replace("_", "-")
    except (UnknownLocaleError, ValueError):
        raise BadInput(
            "--language: '{text}' is not a language; de, en-GB and fr-CA are.", text=display_text(text, 30)
        ) from None
    shown = local(datetime(2026, 9, 30, tzinfo=UTC), known)
    if in_font(shown) != shown:
        raise BadInput(
            "--language: the documents have no typeface for the dates of '{text}'.", text=display_text(text, 30)
        )
    return known
