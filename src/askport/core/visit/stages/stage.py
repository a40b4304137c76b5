"""What every stage of the way has in common."""

from collections.abc import Sequence
from dataclasses import dataclass
from ipaddress import IPv4Address
from typing import Protocol

from askport.core.machine import Machine
from askport.core.phrases import phrase
from askport.core.visit.stages.access import Access
from askport.core.visit.stages.own_word_before import OwnWord
from askport.core.visit.steps import Step
from askport.core.visit.visit import Visit

POWER = phrase("Power-cycle the device: most send something when they start.")


@dataclass(frozen=True, slots=True)
class Next:
    """What to do next, in three kinds of line that stand in places of their own."""

    said: str = ""
    """What has happened, what is waited for, and which other keys help."""
    action: str = ""
    """What Enter does, and nothing else; without it Enter does nothing."""
    hands: str = ""
    """What somebody has to do at the device."""

    @property
    def enter(self) -> bool:
        """Whether Enter does anything."""
        return bool(self.action)

    @property
    def sentence(self) -> str:
        """All of it, one behind the other."""
        return " ".join(filter(None, (self.said, self.hands, self.action)))


class Sets(Protocol):
    """What other stages want of Set."""

    own_word: OwnWord

    def prepare(self, now: float) -> None:
        """Find out whether the planned values can be set."""


class Reaches(Protocol):
    """What other stages want of Reach."""

    def begin(self, address: IPv4Address, prefix: int | None, now: float) -> None:
        """Get the laptop an address that reaches the device."""

    def over_ipv6(self, now: float) -> None:
        """Go on over IPv6, with nothing borrowed."""


class Proves(Protocol):
    """What other stages want of Prove."""

    def begin(self, now: float) -> None:
        """Prove the device at its new address."""


class Siblings(Protocol):
    """What a stage knows of the others: each leads on to the next, and back."""

    access: Access

    @property
    def setting(self) -> Sets:
        """The stage Set."""

    @property
    def reach(self) -> Reaches:
        """The stage Reach."""

    @property
    def prove(self) -> Proves:
        """The stage Prove."""

    def look_again(self) -> None:
        """Find anew."""


class Stage:
    """One step of the job: its decisions, what becomes of what ran, and its sentence."""

    step: Step

    def __init__(self, visit: Visit, stages: Siblings) -> None:
        self._visit, self._stages = visit, stages

    def enter(self, now: float) -> None:
        """Do the sensible next thing, if there is one."""

    def ended(self, ran: Sequence[Machine], now: float) -> None:
        """Go on from what ran here and has come to its end."""

    def follow(self, now: float) -> None:
        """See, after every frame and moment, whether something has happened that changes the way."""

    def borrowed(self, now: float) -> None:
        """Go on with the address that the laptop has borrowed for this step."""

    def offer_another(self, now: float) -> None:
        """Look for another laptop address, where the one that was offered is not to be had after all."""

    def next(self, now: float) -> Next:
        """Say what to do next."""
        raise NotImplementedError

    def result(self) -> str:
        """Say in a few words what the step has come to."""
        return ""
