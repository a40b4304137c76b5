"""What is known about one MAC address on the wire, at one moment."""

from dataclasses import dataclass

from askport.core.addresses import MacAddress
from askport.core.finding.beliefs import AddressBelief, Asking, Belief, Evidence, Reason, Service
from askport.core.finding.clues import Clue, Tells


@dataclass(frozen=True, slots=True, kw_only=True)
class Device:
    """One MAC address, seen from all that was heard of it."""

    mac: MacAddress
    addresses: tuple[AddressBelief, ...]
    asking: Asking | None
    names: tuple[tuple[str, str], ...]
    """What it calls itself, and the protocol that says so."""
    services: tuple[Service, ...]
    others: tuple[Reason, ...]
    """What it tells beside addresses."""
    frames: int
    first_at: float
    last_at: float
    vlans: tuple[int, ...]
    answers_for_all: bool
    moments: tuple[tuple[float, Clue], ...]
    said: frozenset[Tells]

    @property
    def best(self) -> AddressBelief | None:
        """Its surest address."""
        return self.addresses[0] if self.addresses else None

    @property
    def is_found(self) -> bool:
        """Whether its address is certain, or it asks for one: nothing more is needed to go on."""
        return self.asking is not None or (self.best is not None and self.best.belief is Belief.CERTAIN)

    @property
    def sureness(self) -> int:
        """How much is known, for putting devices in order."""
        if self.best and self.best.belief is Belief.CERTAIN:
            return 4
        return 3 if self.asking else int(self.best.belief) if self.best else 0

    def reasons(self) -> list[Reason]:
        """Return every sentence about it, addresses first."""
        asked = self.asking.because if self.asking else ()
        return [*(each for belief in self.addresses for each in belief.because), *asked, *self.others]

    def tells(self, kind: Tells) -> bool:
        """Whether it gave a clue of this kind."""
        return kind in self.said


def view(evidence: Evidence) -> Device:
    """Return what a device's evidence adds up to now."""
    return Device(
        mac=evidence.mac,
        addresses=tuple(evidence.beliefs()),
        asking=evidence.asking(),
        names=evidence.names,
        services=evidence.services,
        others=tuple(evidence.others()),
        frames=evidence.frames,
        first_at=evidence.first_at,
        last_at=evidence.last_at,
        vlans=tuple(sorted(evidence.vlans)),
        answers_for_all=bool(evidence.answers_for_all),
        moments=tuple(evidence.moments),
        said=frozenset(clue.tells for clue in evidence.tallies),
    )
