"""What somebody wants of one device that they name: a command, which looks for nobody and goes no further."""

from dataclasses import dataclass, replace

from askport.core.finding.beliefs import AddressBelief, Gathered, Origin
from askport.core.finding.clues import Belief
from askport.core.finding.device import Device, view
from askport.core.proofs.proof import Expected
from askport.core.visit.steps import Step
from askport.core.ways.start import Start


@dataclass(frozen=True, slots=True, kw_only=True)
class Errand:
    """One device, what is said of it beforehand, and how far to go with it."""

    start: Start
    """Who it is, where it is said to be, and with what it is talked to; what the laptop has is filled in later."""
    ends: Step
    """The last step that is done: it is reached, it is set, or it is proven."""
    way: str | None = None
    """The way that was named, whatever fits."""
    expected: Expected | None = None
    """What is to be proven."""
    boot_s: float | None = None
    cuts_power: bool = False
    cut_within_s: float | None = None
    """How long the cut is waited for; None without limit."""

    def device(self, now: float) -> Device:
        """Return the device as it was named: where it is was only said, so nothing makes that more than possible."""
        named = view(Gathered(mac=self.start.mac, first_at=now, last_at=now))
        if self.start.door:
            named = replace(named, ipv6=(self.start.door,))
        if self.start.old is None:
            return named
        said = AddressBelief(
            address=self.start.old, belief=Belief.POSSIBLE, origin=Origin.UNKNOWN, prefix=None, prefix_basis=None,
            prefix_range=None, gateway=None, gateway_basis=None, because=(), last_at=now,
        )  # fmt: skip
        return replace(named, addresses=(said,))
