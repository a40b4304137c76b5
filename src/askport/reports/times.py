"""Moments as text."""

from datetime import UTC, datetime


def iso(moment: datetime | None) -> str | None:
    """Return ISO 8601 in UTC with milliseconds."""
    return moment.astimezone(UTC).isoformat(timespec="milliseconds").replace("+00:00", "Z") if moment else None
