"""A crate on a small switch: which MAC address gets which tag, and what is done without anybody."""

import re
from collections.abc import Collection, Iterable, Sequence
from dataclasses import dataclass, field, replace
from enum import Enum, StrEnum, auto
from ipaddress import IPv4Address

from askport.core import addresses, errors
from askport.core.finding import device, label
from askport.core.finding.loudness import Loudness
from askport.core.phrases import phrase
from askport.core.plan.working_order import WorkItem
from askport.core.text import display_text
from askport.core.visit.narrate import next_line
from askport.core.visit.session import Session
from askport.core.visit.steps import Phase, Step

_GREETS_S = 3.0
"""How long answers to questions to everybody are waited for before addresses are called."""
_FINDS_S = 30.0
"""How long a unit is looked for: its switch is on, and nobody waits for it to start."""
_RESTS_S = 5.0
"""How long a step that only hands could go on with is looked at, before the unit is left."""
_LONGEST_S = 240.0
"""How long one step may take: the longest start of a device, and its following."""
_MAC_DIGITS = 12
BY_ORDER = phrase("the order alone")
"""What ties a tag to a MAC address where no label was read."""


class Turn(StrEnum):
    """How far a unit is."""

    WAITS = "waits"
    AT_HAND = "at hand"
    RECORDED = "recorded"
    PROVEN = "proven"
    """Recorded, and once more after the power cycle of all."""
    LEFT = "left"
    """It was gone on from; why is said beside it."""


class Doing(StrEnum):
    """What is done about a unit, from one moment to the next."""

    ASKED = "asked"
    REACHING = "reaching"
    SETTING = "setting"
    PROVING = "moved, proving"
    RECORDED = "recorded"
    LEFT = "not done"


DOING = {
    Step.PLUG: Doing.ASKED, Step.FIND: Doing.ASKED, Step.REACH: Doing.REACHING, Step.SET: Doing.SETTING,
    Step.PROVE: Doing.PROVING, Step.RECORD: Doing.PROVING,
}  # fmt: skip
"""What each step is for a unit; it is recorded only once that is written."""


@dataclass(slots=True)
class Unit:
    """One device of the switch that has a tag."""

    item: WorkItem
    mac: addresses.MacAddress
    by: str
    """What ties the tag to this MAC address: the plan, its label, or the order alone."""
    turn: Turn = Turn.WAITS
    because: str = ""
    unmeasured: str = ""
    """Why its mask or its planned gateway was not measured, where it is recorded."""
    moments: list[tuple[float, Doing]] = field(default_factory=list)
    """What was done about it, each from when on, in the wire's time."""

    def note(self, doing: Doing, now: float) -> None:
        """Take in what is done about it now."""
        if not self.moments or self.moments[-1][1] is not doing:
            self.moments.append((now, doing))


class SwitchCrate:
    """Who is who on the switch. Nothing is set on a MAC address that has no tag."""

    def __init__(self, work: Iterable[WorkItem], done: Collection[str] = ()) -> None:
        """Begin with the devices of the work list that are not done, by their tags."""
        self._work = [item for item in work if item.tag not in done]
        self._done = {tag.casefold(): tag for tag in done}
        self.done_before: list[str] = []
        """Tags that were scanned of units that are done; they are passed over."""
        self.units: list[Unit] = []
        self.heard: dict[addresses.MacAddress, tuple[IPv4Address, ...]] = {}
        """Where those on the switch were heard, their surest addresses first."""
        self.half: addresses.MacAddress | None = None
        """A MAC address that was scanned, whose tag is awaited."""
        self._once: tuple[addresses.MacAddress, str] | None = None
        """What was scanned though something else was said before; scanned again, it counts."""

    def unit_of(self, mac: addresses.MacAddress) -> Unit | None:
        """Return the unit that has this MAC address."""
        return next((each for each in self.units if each.mac == mac), None)

    @property
    def next_tag(self) -> str:
        """The tag of the first planned device that has no MAC address yet, or nothing."""
        tagged = {each.item.tag for each in self.units}
        return next((item.tag for item in self._work if item.tag not in tagged), "")

    @property
    def knows_macs(self) -> bool:
        """Whether the plan has MAC addresses, so that who is heard may have a tag already."""
        return any(item.mac for item in self._work)

    def hears(self, devices: Iterable[device.Device]) -> None:
        """Take in who is on this switch: those that the plan has by their MAC addresses have their tags."""
        for mac in self.sees(devices):
            item = next((each for each in self._work if each.mac == mac), None)
            if item and self.unit_of(mac) is None and all(each.item.tag != item.tag for each in self.units):
                self._add(item, mac, phrase("its plan"))

    def sees(self, devices: Iterable[device.Device]) -> list[addresses.MacAddress]:
        """Take in where they are; return who of them is present."""
        present = [each for each in devices if each.is_present]
        self.heard |= {each.mac: tuple(at.address for at in each.addresses) for each in present if each.addresses}
        return [each.mac for each in present]

    def scan(self, text: str) -> str:
        """Take in what was scanned or typed: a MAC address, then its tag, on two lines or on one.

        Returns:
            What was understood.

        Raises:
            BadInput: it is neither; or something else was said before, and it was scanned only once.
        """
        head, _, tail = re.sub(r"[\s,;]+", " ", text.strip()).partition(" ")
        if tail and _is_mac(head):
            self.half = None
            return self._tagged(_mac(head), tail)
        if self.half is None or (_is_mac(text) and self.unit_of(self.half)):
            self.half = _mac(text)
            known = self.unit_of(self.half)
            if known:
                return phrase(
                    "{half} is {tag} already, by {by}: scan the next label, or its right tag.",
                    half=self.half,
                    tag=known.item.tag,
                    by=known.by,
                )
            return phrase("{half}: now scan its tag.", half=self.half)
        if _is_mac(text):
            raise errors.BadInput("{half} has no tag yet: scan its tag, and then the next label.", half=self.half)
        return self._tagged(self.half, text)

    def _against(self, item: WorkItem, mac: addresses.MacAddress) -> str:
        """Say what was said before against a tag for a MAC address, by a label or by the plan; nothing where none."""
        for unit in self.units:
            if (unit.mac == mac) is not (unit.item.tag == item.tag):
                who, is_what = (mac, unit.item.tag) if unit.mac == mac else (item.tag, unit.mac)
                return phrase("{who} is {is_what} already, by {by}", who=who, is_what=is_what, by=unit.by)
        other = next((each for each in self._work if each.mac == mac and each.tag != item.tag), None)
        if other or item.mac not in (None, mac):
            has = (
                phrase("{mac} for {tag}", mac=mac, tag=other.tag)
                if other
                else phrase("{mac} for {tag}", mac=item.mac, tag=item.tag)
            )
            return phrase("{mac} cannot be {tag}: the plan has {has}", mac=mac, tag=item.tag, has=has)
        return ""

    def _tagged(self, mac: addresses.MacAddress, text: str) -> str:
        """Give a MAC address a tag; where something was said against it, only once the same is scanned again."""
        tag = " ".join(text.split())
        item = next((each for each in self._work if each.tag.casefold() == tag.casefold()), None)
        if item is None and (done := self._done.get(tag.casefold())):
            self.half = None
            self.done_before.append(done)
            return phrase("{done} is done already: it is passed over.", done=done)
        if item is None:
            raise errors.BadInput(
                "No device with the tag '{tag}' is planned and still to be done.", tag=display_text(tag, 40)
            )
        against, self.half = self._against(item, mac), None
        wrong = [each for each in self.units if mac == each.mac or each.item.tag == item.tag]
        if any(each.turn is not Turn.WAITS for each in wrong) and against:
            raise errors.BadInput("{against}, and its turn has come.", against=against)
        if against and self._once != (mac, item.tag):
            self._once = mac, item.tag
            raise errors.BadInput(
                "{against}. If that is wrong, scan {mac} and {tag} once more.", against=against, mac=mac, tag=item.tag
            )
        self._once = None
        if against or not wrong:
            self.units = [each for each in self.units if each not in wrong]
            self._work = [replace(each, mac=None) if each.mac == mac else each for each in self._work]
            self._add(item, mac, phrase("its label"))
        return phrase("{mac} is {tag}.", mac=mac, tag=item.tag)

    def _add(self, item: WorkItem, mac: addresses.MacAddress, by: str) -> None:
        self.units.append(Unit(replace(item, mac=mac), mac, by))

    def in_order(self, macs: Iterable[addresses.MacAddress]) -> list[Unit]:
        """Give those that have no tag the next tags, by their MAC addresses; which of them hangs where is not known."""
        added = []
        for mac in sorted(macs):
            item = next((each for each in self._work if each.tag == self.next_tag), None)
            if item and self.unit_of(mac) is None:
                self._add(item, mac, BY_ORDER)
                added.append(self.units[-1])
        self.half = None
        return added

    @property
    def waiting(self) -> list[Unit]:
        """The units that are still to be done, in working order."""
        order = {item.tag: place for place, item in enumerate(self._work)}
        waiting = (each for each in self.units if each.turn is Turn.WAITS)
        return sorted(waiting, key=lambda each: order[each.item.tag])

    @property
    def count_words(self) -> str:
        """How many are recorded, and how many were left, in a few words."""
        recorded = sum(each.turn in (Turn.RECORDED, Turn.PROVEN) for each in self.units)
        left = sum(each.turn is Turn.LEFT for each in self.units)
        values = {"recorded": recorded, "count": len(self.units), "left": left}
        if left:
            return phrase("{recorded} of {count} recorded, {left} not done", **values)
        return phrase("{recorded} of {count} recorded", **values)

    @property
    def sentence(self) -> str:
        """Say what came of all of them."""
        proven = [each for each in self.units if each.turn is Turn.PROVEN]
        recorded = [each for each in self.units if each.turn is Turn.RECORDED]
        left = [each for each in self.units if each.turn is Turn.LEFT]
        count = phrase("{count} of {count_2} proven.", count=len(proven), count_2=len(self.units))
        said = [count] if proven else []
        unmeasured = ", ".join(each.item.tag for each in (*proven, *recorded) if each.unmeasured)
        said += [phrase("Mask and gateway not measured: {unmeasured}.", unmeasured=unmeasured)] if unmeasured else []
        said += (
            [
                phrase(
                    "{count} recorded without their power cycle: {named}.", count=len(recorded), named=_named(recorded)
                )
            ]
            if recorded
            else []
        )
        said += [phrase("Not done: {named}", named=_named(left))] if left else []
        before = (
            phrase("All {count} that have a label are done already.", count=len(self.done_before))
            if self.done_before
            else ""
        )
        return " ".join(said) or before or phrase("None is done yet.")


def _named(units: list[Unit]) -> str:
    return "; ".join(f"{each.item.tag} ({each.because})" if each.because else each.item.tag for each in units)


def _is_mac(text: str) -> bool:
    try:
        return len(label.label_digits(text)) == _MAC_DIGITS
    except errors.BadInput:
        return False


def _mac(text: str) -> addresses.MacAddress:
    if not _is_mac(text):
        shown = display_text(text.strip(), 40)
        raise errors.BadInput(
            "'{shown}' is not a whole MAC address: scan or type the one on a label, and then its tag.", shown=shown
        )
    return addresses.MacAddress.parse(label.label_digits(text))


def live_network(session: Session) -> str:
    """Say what shows that this is a live network and no switch of one's own, or nothing."""
    found = (each for each in session.cable.finder.hazards() if each.code in ("address-server", "router"))
    return next((each.text for each in found), "")


class Do(Enum):
    """What is done about a unit now."""

    NOTHING = auto()
    ENTER = auto()
    LOUDER = auto()
    LEAVE_OUT = auto()
    """The power cycle: on a switch nobody pulls one unit's power."""
    LEAVE = auto()
    """The unit, and go on to the next."""


class Unattended:
    """Goes through one unit of a switch by rule, where nobody is asked."""

    def __init__(self, session: Session, unit: Unit, now: float, *, heard: Sequence[IPv4Address] = ()) -> None:
        """Begin with a unit, which was heard at some addresses before."""
        self._session, self._unit, self._heard = session, unit, heard
        self._seen: tuple[Phase, object] = session.phase, session.cable.finder.loudness
        self._since = self._began = now
        self.because = ""
        """Why the unit is left."""

    def does(self, now: float) -> Do:
        """Return what is done now."""
        session, seen = self._session, (self._session.phase, self._session.cable.finder.loudness)
        if seen != self._seen:
            self._seen, self._since = seen, now
        if session.visit.trouble:
            return self._leave(session.visit.trouble.message)
        match session.phase:
            case Phase.RECORDED:
                return Do.NOTHING
            case Phase.PLUGGING | Phase.FINDING:
                return self._finds(now)
            case Phase.POWER_CYCLE:
                return Do.LEAVE_OUT
            case Phase.NOT_SET | Phase.NOT_PROVEN | Phase.FORGOTTEN:
                said = next_line(session, now)
                return self._leave(said.said)
        said = next_line(session, now)
        if said.enter:
            return Do.ENTER
        longest = _RESTS_S if self._waits_for_hands else _LONGEST_S
        return self._leave(said.sentence) if now - self._since > longest else Do.NOTHING

    @property
    def _waits_for_hands(self) -> bool:
        """Whether only somebody at the screen or at the device could go on."""
        entry, way, phase = self._session.visit.way, self._session.device.way, self._session.phase
        if phase is Phase.SETTING and way:
            return way.wants_power or (entry is not None and entry.by_technician)
        return phase in (Phase.MAY_BORROW, Phase.MAY_SET, Phase.MAY_KEEP, Phase.MAY_PROVE)

    def _finds(self, now: float) -> Do:
        session, mac = self._session, self._unit.mac
        found, search = session.cable.finder.device(mac), session.cable.search
        if live := live_network(session):
            return self._leave(live)
        if found and found.is_present and session.visit.may_be_taken(found) and session.cable.link.up:
            search.point_at(mac)
            if session.stages.find.undecided:
                return self._leave(next_line(session, now).sentence)
            return self._leave(search.obstacle) if search.obstacle else Do.ENTER
        loudness = session.cable.finder.loudness
        if loudness is Loudness.LISTEN and session.cable.link.up:
            search.ask_one(mac, self._heard, now)  # its twins, if it has any, do not hear that
        elif (loudness is Loudness.LISTEN) or (loudness is Loudness.GREET and now - self._since > _GREETS_S):
            return Do.LOUDER
        # However long it took: what was not asked yet, or is waited for, is no silence.
        has_asked = session.cable.finder.has_settled and all(each.done for each in session.cable.finder.asking)
        if now - self._began > (_FINDS_S if has_asked else _LONGEST_S):
            return self._leave(
                phrase("It was not found on this switch.") if session.cable.link.up else phrase("The link is down.")
            )
        return Do.NOTHING

    def _leave(self, because: str) -> Do:
        self.because = because
        return Do.LEAVE
