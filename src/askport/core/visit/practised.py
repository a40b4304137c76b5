"""What a practised technician decides: when to go on, and when hands are wanted at the device.

Whoever goes through many devices by one rule asks here: the headless example, and a crate of the same kind.
"""

from enum import Enum, auto

from askport.core.finding.loudness import Loudness
from askport.core.proofs.power_cycle import Power
from askport.core.visit import narrate, steps
from askport.core.visit.session import Session

_LISTEN_S = 8.0
"""How long is listened on each rung of the ladder before asking louder."""


class Wanted(Enum):
    """What is to be done at the device by somebody's hands."""

    VALUES = auto()
    """The planned values are to be typed in and saved, and what the device needs to use them is to be done."""
    POWER_OFF = auto()
    """Its power is to be pulled, after it was told to keep what it has."""
    POWER_ON = auto()
    """Its power is to be put back."""


class Practised:
    """Goes through one device by rule."""

    def __init__(self, session: Session, now: float) -> None:
        self._session = session
        self._rung, self._rung_at = session.cable.finder.loudness, now

    def goes_on(self, now: float) -> bool:
        """Whether Enter is pressed now."""
        return narrate.next_line(self._session, now).enter and not self._listens(now)

    def wanted(self) -> Wanted | None:
        """Return what hands are wanted for now, or None where they are not."""
        session = self._session
        way, cycle = session.visit.way, session.device.power_cycle
        if session.phase is steps.Phase.SETTING and way and way.by_technician:
            return Wanted.VALUES
        if session.phase is steps.Phase.SETTING and session.device.way and session.device.way.wants_power:
            return Wanted.POWER_OFF if session.cable.link.up else Wanted.POWER_ON
        if session.phase is steps.Phase.POWER_CYCLE and cycle:
            return {Power.ON: Wanted.POWER_OFF, Power.OFF: Wanted.POWER_ON}.get(cycle.power)
        return None

    def _listens(self, now: float) -> bool:
        """Whether to go on listening: nothing is found yet, and not long enough was listened on this rung."""
        search, finder = self._session.cable.search, self._session.cable.finder
        if self._session.phase is not steps.Phase.FINDING or (
            search.candidate and self._session.visit.may_be_taken(search.candidate)
        ):
            return False
        if finder.loudness is not self._rung:
            self._rung, self._rung_at = finder.loudness, now
        # Above calling there are hours of sweeping, while the slowest device takes two minutes to start.
        return finder.loudness is Loudness.CALL or now < self._rung_at + _LISTEN_S
