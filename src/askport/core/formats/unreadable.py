"""The answer of a decoder to bytes that do not say what the protocol asks."""

from typing import NamedTuple


class Unreadable(NamedTuple):
    """Bytes that could not be read, with the reason as a sentence part for people."""

    protocol: str
    offset: int
    """Where in the given data the fault stands, in bytes."""
    reason: str

    def __str__(self) -> str:
        return f"{self.protocol} could not be read at byte {self.offset}: {self.reason}"
