"""What decoders make: a layer's value, or the answer to bytes that do not say what the protocol asks."""

from typing import NamedTuple


class Unreadable(NamedTuple):
    """Bytes that could not be read, with the reason as a sentence part for people."""

    protocol: str
    offset: int
    """Where in the given data the fault stands, in bytes."""
    reason: str

    def __str__(self) -> str:
        return f"{self.protocol} could not be read at byte {self.offset}: {self.reason}"


made = tuple.__new__
"""Makes a NamedTuple of all its values in order. Naming them takes half of the time that reading a frame may take."""
