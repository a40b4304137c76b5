"""What a job is called for the customer: it stands on the handover's cover."""

from collections.abc import Iterable

from askport.core.errors import BadInput
from askport.core.phrases import phrase
from askport.core.register.entries import About, Entry
from askport.core.text import display_text

HEADS = {
    "site": "Site", "customer": "Customer", "order": phrase("Order number"), "company": phrase("Commissioned by"),
    "technician": "Technician",
}  # fmt: skip
"""What can be told of a job for its cover, with the words for people."""
SET = ("language", "paper")
"""What can be told of how its documents are set."""
PAPERS = ("A4", "Letter")
_LONGEST = 120


def about_of(entries: Iterable[Entry]) -> dict[str, str]:
    """Return what was told of a job, by the names in HEADS and SET; the last counts, and empty is none."""
    told: dict[str, str] = {}
    for entry in entries:
        if isinstance(entry, About):
            told |= {name: text for name in (*HEADS, *SET) if (text := getattr(entry, name)) is not None}
    return {name: text for name, text in told.items() if text}


def was_asked(entries: Iterable[Entry]) -> bool:
    """Whether somebody was asked for what stands on the cover, though all of it was left empty."""
    return any(isinstance(entry, About) for entry in entries)


def told_line(name: str, text: str) -> str:
    """Return what was told under a name as it is kept.

    Raises:
        BadInput: it is too long, or has characters that cannot be printed.
    """
    line = " ".join(text.split())
    if len(line) > _LONGEST or not line.isprintable():
        shown = display_text(line, 30)
        raise BadInput(
            "{heads}: '{shown}' is not a line of at most {longest} printable characters.",
            heads=HEADS[name],
            shown=shown,
            longest=_LONGEST,
        )
    return line
