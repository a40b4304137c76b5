"""The rest of a crate like the unit that was done first: what goes by itself, and where a person must look."""

import re
from collections.abc import Iterable
from dataclasses import dataclass, replace
from ipaddress import IPv4Address

from askport.core.errors import BadInput
from askport.core.finding.device import Device
from askport.core.kinds import model, recognising
from askport.core.phrases import phrase, together
from askport.core.plan.working_order import WorkItem
from askport.core.text import display_text, whole_number
from askport.core.visit.narrate import next_line
from askport.core.visit.session import Session
from askport.core.visit.stages.stage import Next
from askport.core.visit.steps import Phase

_BY_ITSELF = frozenset({Phase.MAY_BORROW, Phase.MAY_SET, Phase.MAY_KEEP, Phase.MAY_PROVE, Phase.MAY_RECORD})
"""Where Enter only goes on with what was decided at the first unit."""


@dataclass(frozen=True, slots=True)
class PowerCuts:
    """Of which units the power is cut by hand: of every so many, and always of the last; 0 for the last only."""

    every: int

    @classmethod
    def parse(cls, text: str) -> "PowerCuts":
        """Read ``each``, ``last``, or a number for every so many.

        Raises:
            BadInput: it is none of these.
        """
        plain = re.sub(r"^every\s+", "", text.strip().casefold())
        if plain in ("each", "all"):
            return cls(1)
        if plain in ("last", "the last"):
            return cls(0)
        if number := whole_number(plain, 1, 999):
            return cls(number)
        raise BadInput(
            "'{text}' is not a choice: enter each, last, or a number such as 3.", text=display_text(text, 30)
        )

    @property
    def words(self) -> str:
        """Of which, in a few words."""
        if self.every == 1:
            return phrase("of each unit")
        if self.every == 0:
            return phrase("of the last unit only")
        return phrase("of one unit in {every}, and of the last", every=self.every)

    def wanted(self, number: int, *, is_last: bool) -> bool:
        """Whether the power of a unit is cut, counted from 1."""
        return is_last or (self.every > 0 and number % self.every == 0)


class Crate:
    """A run of devices of one kind, one after another on the cable."""

    def __init__(self, session: Session, power_cuts: PowerCuts, learned: model.Kind | None = None) -> None:
        """Begin with the unit that was just done.

        Args:
            learned: the kind that was learned from it, where it was set by hand.

        Raises:
            BadInput: it is of no kind that is known, or was set by hand and nothing was learned.
        """
        device = session.device
        way, kind = device.way, learned or device.kind
        if kind is None or way is None or not (way.gives or learned):
            raise BadInput("The rest can be set automatically only if this unit's kind says how.")
        self.like, self.kind, self.power_cuts = device.work.tag, kind.name, power_cuts
        self._before_it_speaks = recognising.before_it_speaks(kind)
        self.way = learned.way[0].by if learned else way.name
        self._found_at: IPv4Address | None = device.old_address
        self._alike = _sort(device.work)
        self.number = 1
        """How many units were begun."""

    def rest(self, work: Iterable[WorkItem], recorded: Iterable[str]) -> list[WorkItem]:
        """Return the planned devices of the same sort that are not recorded yet, in working order."""
        done = set(recorded)
        return [item for item in work if item.tag not in done and _sort(item) == self._alike]

    def says(self, session: Session, said: Next, now: float) -> Next:
        """Return what the bottom line says: which unit is taken, or why it is not like the first."""
        candidate = session.cable.search.candidate
        if session.phase is not Phase.FINDING or candidate is None or not said.enter or session.visit.trouble:
            return said
        if not session.visit.may_be_taken(candidate):
            return said
        known = session.cable.around.known.get(candidate.mac)
        if known and known.tag != session.device.work.tag and known.is_recorded:
            again = phrase("This is {words}. To do this one again, end the crate with g.", words=known.words)
            return Next(again, hands=phrase("Plug in {tag}.", tag=session.device.work.tag))
        if why := self._unlike(session):
            return replace(said, said=together(why, said.said))
        return Next(
            action=phrase(
                "Take {mac} as {tag}, like {like}.", mac=candidate.mac, tag=session.device.work.tag, like=self.like
            )
        )

    def _unlike(self, session: Session) -> str:
        """Say in what the device that is heard is not like the first unit."""
        candidate = session.device.chosen or session.cable.search.candidate
        if candidate is None:
            return ""
        kinds = [fit.kind.name for fit in session.visit.kinds_of(candidate)]
        if self.kind not in kinds and not (self._may_be_one(candidate) and not kinds):
            return phrase(
                "This is not like {like} ({kind}): its kind is {kinds}.",
                like=self.like,
                kind=self.kind,
                kinds=kinds[0] if kinds else "not known",
            )
        at = candidate.best.address if candidate.best and not candidate.request else None
        if self._found_at and at and at != self._found_at and session.cable.around.known.get(candidate.mac) is None:
            return phrase(
                "{like} was found at {found_at}, and this one is at {at}.",
                like=self.like,
                found_at=self._found_at,
                at=at,
            )
        return ""

    def _may_be_one(self, candidate: Device) -> bool:
        """Whether it is like the first as far as is known before its page or console has said anything."""
        kind = self._before_it_speaks
        return bool(recognising.fitting_kinds([kind], candidate)) or kind.recognise == model.Recognise()

    def goes_on(self, session: Session, now: float) -> bool:
        """Whether the step at hand is done without a key."""
        device = session.device
        if session.phase not in _BY_ITSELF or session.visit.trouble or device.chosen is None:
            return False
        if self._unlike(session) or any(each.passed is False for each in (*device.all_proofs, *device.again)):
            return False
        if session.phase is Phase.MAY_SET and device.way_name != self.way:
            if not any(each.entry.name == self.way and each.offers == self.kind for each in session.visit.ways()):
                return False
            session.stages.setting.choose_way(self.way, now)  # whoever began the crate has said that they are alike
            return False
        return next_line(session, now).enter

    def leaves_out(self, session: Session, *, is_last: bool) -> bool:
        """Whether the power cycle of the unit at hand is left out, as it was chosen at the beginning."""
        cycle = session.device.power_cycle
        waits = session.phase is Phase.POWER_CYCLE and cycle is not None and cycle.lane.off_at is None
        return waits and not self.power_cuts.wanted(self.number, is_last=is_last)


def _sort(item: WorkItem) -> str:
    """Return what makes devices of the plan alike: their kind, or else the letters of their tags."""
    if item.planned and item.planned.kind:
        return item.planned.kind.casefold()
    return item.description.casefold() or re.sub(r"\d+", "#", item.tag)
