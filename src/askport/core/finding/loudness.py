"""The loudness ladder: how much the laptop may send, quietest first."""

from enum import StrEnum

from askport.core.phrases import phrase


class Loudness(StrEnum):
    """A rung; every rung may do what the quieter ones do."""

    LISTEN = "listen"
    GREET = "greet"
    CALL = "call"
    SWEEP = "sweep"

    @property
    def says(self) -> str:
        """What the laptop sends, in a few words."""
        return _SAYS[self]

    def allows(self, other: "Loudness") -> bool:
        """Whether what ``other`` sends may be sent."""
        order = list(Loudness)
        return order.index(self) >= order.index(other)


_SAYS = {
    Loudness.LISTEN: phrase("sends nothing"),
    Loudness.GREET: phrase("discovery requests (multicast and broadcast)"),
    Loudness.CALL: phrase("ARP requests for common addresses"),
    Loudness.SWEEP: phrase("ARP through whole ranges"),
}
