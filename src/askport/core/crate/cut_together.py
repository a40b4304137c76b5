"""One power cycle for a whole switch: each of its units is proven to keep its settings, in the same minutes."""

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, field, replace
from ipaddress import IPv4Address, IPv4Interface

from askport.core import channels, errors, wire
from askport.core.addresses import MacAddress
from askport.core.crate.concerning import concerns
from askport.core.machine import Borrow, Borrower, GiveBack, Machine, WriteEntry, earliest
from askport.core.phrases import listed, phrase, together
from askport.core.proofs.course import Course, Part, Terms
from askport.core.proofs.power_cycle import Power, PowerCycle
from askport.core.reach.free_address import FreeAddressSearch
from askport.core.register.entries import Recorded
from askport.core.ways.own_word_talk import reads_with
from askport.core.ways.start import Start

_LONGEST_S = 300.0
"""How long the power is waited for to be pulled."""


_POWER = {
    Power.ON: phrase("has power"),
    Power.OFF: phrase("power off"),
    Power.STARTING: "starts",
    Power.UNSURE: phrase("was silent: was its power off?"),
}


@dataclass(slots=True)
class KeptUnit:
    """One unit that was recorded without its power cycle, and what becomes of it."""

    unit: int
    tag: str
    terms: Terms
    start: Start | None
    """With what its own word is read, where it can be."""
    left_out: Sequence[str] = ()
    course: Course | None = None
    because: str = ""
    """Why it was not proven; empty where it was, or while it is not known."""
    ended: bool = False
    running: list[Machine] = field(default_factory=list)

    @property
    def at(self) -> IPv4Interface:
        """Where it is proven to be."""
        return self.terms.subject.at

    @property
    def cycle(self) -> PowerCycle | None:
        """Its power cycle."""
        return self.course.cycle if self.course else None

    @property
    def is_uncut(self) -> bool:
        """Whether nothing has shown yet that its power was cut."""
        cycle = self.cycle
        waits = cycle is not None and cycle.power in (Power.ON, Power.UNSURE)
        return cycle is None or (waits and not cycle.done)

    @property
    def mac(self) -> MacAddress:
        """Its MAC address."""
        return self.terms.subject.mac

    @property
    def addresses(self) -> tuple[IPv4Address, ...]:
        """Its address, and the laptop's that reaches it."""
        subject = self.course.terms.subject if self.course else self.terms.subject
        return subject.at.ip, subject.laptop.ip

    @property
    def words(self) -> str:
        """Where it stands in the power cycle, in a few words."""
        cycle = self.cycle
        if cycle is None or self.ended:
            return ""
        if self.course and self.course.part in (Part.AGAIN, Part.OVER):
            return (
                phrase("being proven once more")
                if self.course.part is Part.AGAIN
                else phrase("watched after its start")
            )
        if cycle.done:
            return phrase("holds its address again") if cycle.passed else cycle.measured
        return _POWER[cycle.power]

    def begin(self, laptop: IPv4Interface, mac: MacAddress, now: float) -> None:
        """Wait for its power to be cut, from this laptop address and MAC address."""
        start = replace(self.start, laptop=laptop, laptop_mac=mac, ours=[laptop]) if self.start else None
        terms = replace(
            self.terms, subject=replace(self.terms.subject, laptop=laptop, laptop_mac=mac),
            asked_from=None, stands_in=False,
            # what its session heard is another unit's by now
            is_alone=lambda: False, heard_gateway=lambda: None, reads=lambda _: reads_with(start) if start else None,
        )  # fmt: skip
        self.course = Course(terms, begins_with=Part.CUT)
        self.running = self.course.begin(now)

    def end(self, because: str = "") -> None:
        """Have no more to prove."""
        self.ended, self.because, self.running = True, because, []


class CutTogether(Borrower):
    """Waits until the power of all was cut and is back, and makes all proofs of each once more, one after the other."""

    def __init__(
        self,
        units: Iterable[KeptUnit],
        candidates: Iterable[IPv4Interface],
        *,
        laptop_mac: MacAddress,
        borrowed: IPv4Interface | None,
        now: float,
        wait_s: float = _LONGEST_S,
    ) -> None:
        """Begin to look for a laptop address.

        Args:
            units: those that are in the subnet of the candidates.
            wait_s: how long the cut is waited for, in seconds.
        """
        super().__init__()
        self.units = list(units)
        self._gives_back = self._over = False
        self._laptop_mac = laptop_mac
        self._now, self._until = now, now + wait_s
        self._patient_until = now + wait_s / 2
        """Until when nobody is asked while some are still to come back; one may never do so."""
        self._search: FreeAddressSearch | None = None
        if borrowed:
            self._begin(borrowed, now)
        else:
            self._search = FreeAddressSearch(laptop_mac, candidates, now=now)

    @property
    def done(self) -> bool:
        """Whether everything was written, and the laptop given back."""
        return self._over

    @property
    def _uncut(self) -> list[KeptUnit]:
        return [each for each in self.units if not each.ended and each.is_uncut]

    @property
    def waits_for_power(self) -> bool:
        """Whether nobody has pulled the power yet."""
        return self._search is None and len(self._uncut) == len(self.units) and not self.is_unsure

    @property
    def is_unsure(self) -> bool:
        """Whether all are back that come, and only whoever pulled the power knows whether that of some was cut."""
        cycles = [each.cycle for each in self.units if each.cycle and not each.ended and not each.cycle.done]
        is_coming = any(each.power in (Power.OFF, Power.STARTING) for each in cycles)
        return bool(self.unsure) and not (is_coming and self._now < self._patient_until)

    @property
    def unsure(self) -> list[str]:
        """The tags of those that are back without having shown a start of their own."""
        return [each.tag for each in self._uncut if each.cycle and each.cycle.may_be_confirmed]

    @property
    def sentence(self) -> str:
        """Say what it waits for."""
        count = len(self.units)
        if self._search:
            return phrase("Looking for a laptop address that reaches them all.")
        if self.waits_for_power:
            return phrase(
                "Switch off the switch and all {count} units, wait three seconds, then switch them on.", count=count
            )
        back = sum(each.cycle.passed is True for each in self.units if each.cycle)
        ended = sum(each.ended for each in self.units)
        unsure = phrase(
            "{unsure} showed no restart. Press l if one of them kept its power.", unsure=listed(self.unsure)
        )
        said = phrase(
            "{back} of {count} are back with their addresses; {ended} done.", back=back, count=count, ended=ended
        )
        return together(said, unsure if self.is_unsure else "")

    # The laptop's address

    def borrow_done(self, interface: IPv4Interface, now: float, why_on_adapter: str = "") -> None:
        """Wait for the cut from now on."""
        self._begin(interface, now)

    def borrow_failed(self, error: errors.AskPortError, now: float) -> None:
        """End without a cut."""
        self._end_all(error.message)

    def gave_back(self) -> None:
        """Be over."""
        self._over = True

    def _begin(self, laptop: IPv4Interface, now: float) -> None:
        self._search = None
        for each in self.units:
            each.begin(laptop, self._laptop_mac, now)

    # All of them, side by side

    @property
    def children(self) -> list[Machine]:
        """What runs now: the cuts of all, and the proofs of one."""
        if self._search:
            return [self._search]
        return [machine for each in self.units for machine in each.running]

    def _each(self, act: Callable[[Machine], None], now: float) -> None:
        for machine in self.children:
            if not machine.done:
                act(machine)
            self._effects += machine.poll()
        self._go_on(now)

    def receive(self, heard: wire.Heard) -> None:
        others = frozenset(bytes(each.mac) for each in self.units)
        for each in self.units:
            if not concerns(heard.data, others - {bytes(each.mac)}, (), each.addresses):
                continue
            for machine in each.running:
                if not machine.done:
                    machine.receive(heard)
        if self._search:
            self._search.receive(heard)
        self._each(lambda _: None, heard.at)

    def link_changed(self, link: wire.Link, now: float) -> None:
        self._each(lambda machine: machine.link_changed(link, now), now)

    def channel_event(self, event: channels.ChannelEvent, now: float) -> None:
        self._each(lambda machine: machine.channel_event(event, now), now)

    def handle_timer(self, now: float) -> None:
        """Let each do what is due; give up where nobody pulls the power."""
        self._now = now
        self._each(lambda machine: machine.handle_timer(now), now)
        if now >= self._until:
            self.leave_out()
            self._go_on(now)

    def next_deadline(self) -> float | None:
        until = self._until if self._uncut else None
        return (
            None if self.done else earliest(until, *(each.next_deadline() for each in self.children if not each.done))
        )

    def confirm(self, now: float) -> None:
        """Take in, from whoever pulled it, that the power of those was cut of which nothing shows it."""
        for each in self._uncut:
            if each.cycle:
                each.cycle.confirm(now)

    def leave_out(self) -> None:
        """Wait no longer for those whose power was not seen to be cut; their record says that it was left out."""
        for each in self._uncut:
            each.end(phrase("Nothing has shown that its power was cut."))

    def _go_on(self, now: float) -> None:
        if self._search and self._search.done:
            chosen, self._search = self._search.chosen, None
            if chosen is None:
                self._end_all(phrase("No free laptop address was found that reaches them."))
            else:
                self._effects.append(Borrow(chosen))
            return
        for each in self.units:
            self._go_on_with(each, now)
        if all(each.ended for each in self.units) and not self._gives_back:
            self._gives_back = True
            self._effects.append(GiveBack())

    def _end_all(self, why: str) -> None:
        for each in self.units:
            if not each.ended:
                each.end(why)

    def _go_on_with(self, unit: KeptUnit, now: float) -> None:
        course = unit.course
        if course is None or unit.ended or not all(each.done for each in unit.running if not each.is_aside):
            return
        if course.is_over:  # all is proven, and what it does after its start is watched
            if all(each.done for each in unit.running):
                self._finish(unit, course)
            return
        is_proven_now = any(each.course and each.course.part is Part.AGAIN and not each.ended for each in self.units)
        if course.part is Part.CUT and is_proven_now and unit.running and course.cycle and course.cycle.passed:
            course.begin_watch(now)
            return  # one after the other
        for machine in unit.running:
            self._effects += machine.poll()
        self._effects += [WriteEntry(each) for each in course.entries(unit.unit)]
        unit.running = course.go_on(now)
        if course.is_over:
            unit.running = course.asides
            self._go_on_with(unit, now)

    def _finish(self, unit: KeptUnit, course: Course) -> None:
        """Close the record of one unit."""
        self._effects += [WriteEntry(each) for each in course.last_words(unit.unit)]
        unit.end(course.wrong.because if course.wrong else "")
        left_out = tuple(each for each in unit.left_out if each != PowerCycle.name)
        self._effects.append(WriteEntry(Recorded(unit=unit.unit, mac=course.terms.subject.mac, left_out=left_out)))
