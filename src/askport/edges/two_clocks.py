"""The wall clock beside the monotonic one: which moment of the one is which of the other, however often it is set."""

from bisect import bisect_right
from dataclasses import dataclass
from datetime import UTC, datetime

_SAME_S = 0.5
"""What the wall clock may drift before it counts as set."""


@dataclass(slots=True)
class _Era:
    """A time in which nobody set the wall clock."""

    ahead: float
    """How far it was ahead of the monotonic clock, in seconds."""
    earliest: float
    """When it may have begun: the last look that saw the one before."""
    begins: float
    """The look that saw it first."""
    seen: float
    """The last look that saw it."""


class TwoClocks:
    """Looked at again and again, it knows when the wall clock was set; it also goes on while the laptop sleeps."""

    def __init__(self, monotonic: float, wall: float) -> None:
        self._eras = [_Era(wall - monotonic, float("-inf"), float("-inf"), monotonic)]

    def see(self, monotonic: float, wall: float) -> None:
        """Look at both."""
        last = self._eras[-1]
        if abs(wall - monotonic - last.ahead) > _SAME_S:
            self._eras.append(_Era(wall - monotonic, last.seen, monotonic, monotonic))
        else:
            last.seen = monotonic

    def wall(self, at: float) -> datetime:
        """Return a monotonic moment as aware UTC."""
        place = bisect_right(self._eras, at, key=lambda each: each.begins)
        return datetime.fromtimestamp(at + self._eras[place - 1].ahead, UTC)

    def monotonic(self, wall: float, *, after: float, now: float) -> float:
        """Return the monotonic moment that the wall clock stamped so: after the stamp before it, not after now.

        The clock may have been set between stamp and look. It is the latest of its eras in which the moment fits; one
        that fits in none was stamped while the clock was set twice, and may be as early as the one before it.
        """
        until = now
        for era in reversed(self._eras):
            at = wall - era.ahead
            if max(era.earliest, after) - _SAME_S <= at <= until + _SAME_S:
                return min(max(at, after), now)
            until = min(until, era.begins)
        return after
