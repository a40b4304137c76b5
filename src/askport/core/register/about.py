"""What a job is called for the customer: it stands on the handover's cover."""

from collections.abc import Iterable

from askport.core.register.entries import About, Entry

HEADS = {
    "site": "Site", "customer": "Customer", "order": "Order number", "company": "Commissioned by",
    "technician": "Technician",
}  # fmt: skip
"""What can be told of a job, with the words for people."""


def about_of(entries: Iterable[Entry]) -> dict[str, str]:
    """Return what was told of a job, by the names in :data:`HEADS`; the last one counts; empty, it is none."""
    told: dict[str, str] = {}
    for entry in entries:
        if isinstance(entry, About):
            told |= {name: text for name in HEADS if (text := getattr(entry, name)) is not None}
    return {name: told[name] for name in HEADS if told.get(name)}
