"""The course of proving a device, for the screen, the command line and the crate alike.

First all proofs; then the power cycle, with what it serves and whom it calls; then all proofs once more. Whoever proves
runs the machines that ``begin`` and ``go_on`` return, side by side, until those that are waited for are done, and
writes down what ``entries`` gives.
"""

from collections.abc import Callable
from dataclasses import dataclass
from enum import Enum, auto
from ipaddress import IPv4Address

from askport.core.machine import Machine
from askport.core.proofs import calls, final, name_servers, own_clock, own_word_proof, power_cycle, proof, service_again
from askport.core.proofs.after_start import AfterStart
from askport.core.register import writing
from askport.core.register.entries import Entry, Left


@dataclass(frozen=True, slots=True, kw_only=True)
class Terms:
    """Who is proven, and by what."""

    subject: proof.Subject
    expected: proof.Expected
    is_alone: Callable[[], bool]
    """Whether nobody but the device was heard on this wire."""
    stands_in: bool = True
    """Whether the laptop may stand in for its gateway; not where it forwards what comes to it."""
    heard_gateway: Callable[[], IPv4Address | None] = lambda: None
    """Tells whom the device keeps looking for, where it does."""
    reads: Callable[[float], own_word_proof.Reads | None] = lambda _: None
    """Tells by what its own word is read, where it can be."""
    asked_from: set[IPv4Address] | None = None
    """Where the addresses are put that it is asked from, for those who listen."""
    boot_s: float | None = None
    """The longest from power to first answer, by its kind, in seconds."""
    landings: tuple[IPv4Address, ...] = ()
    """Where it may be after the cut instead."""
    somebodys: Callable[[], set[IPv4Address]] = set
    """Tells whose addresses are planned, recorded or heard: it is asked from none of them."""
    seed: int = 0
    """From which addresses it is asked: from others in each run."""


USUALLY_OPEN = (80, 443, 23, 22)
"""TCP ports that are asked for its own clock where none is known to be open."""


class Part(Enum):
    """How far the course is."""

    PROOFS = auto()
    CUT = auto()
    AGAIN = auto()
    OVER = auto()


class Course:
    """What is proven of one device, and in which order."""

    def __init__(
        self, terms: Terms, *, cuts_power: bool = True, begins_with: Part = Part.PROOFS, wait_s: float | None = None
    ) -> None:
        """Begin.

        Args:
            cuts_power: whether its power is cut as well.
            begins_with: where the course begins; the proofs before that were made elsewhere.
            wait_s: how long the cut is waited for, in seconds; None without limit.
        """
        self.terms, self.part = terms, begins_with
        self._cuts_power, self._wait_s, self._turn = cuts_power, wait_s, 0
        self.proving: proof.Proving | None = None
        self.proofs: list[proof.Proof] = []
        self.again: list[proof.Proof] = []
        """The same proofs, made once more after its power was cut."""
        self.cycle: power_cycle.PowerCycle | None = None
        self.services: service_again.Services | None = None
        self.calls: calls.Calls | None = None
        """Whom it calls by itself after the power cycle."""
        self._clock: own_clock.OwnClock | None = None
        self.watch: AfterStart | None = None
        """Whether it stays where it is after its start."""

    @property
    def all_proofs(self) -> list[proof.Proof]:
        """Its proofs, those by the power cycle last, without those that are made once more."""
        survived = self.cycle is not None and self.cycle.passed
        after = [each for each in (self.cycle, self.services if survived else None) if each]
        return [*self.proofs, *after, *([self.calls] if self.calls and self.calls.called else [])]

    @property
    def wrong(self) -> proof.Proof | None:
        """The first that failed, or None."""
        return next((each for each in (*self.all_proofs, *self.again) if each.passed is False), None)

    @property
    def is_over(self) -> bool:
        """Whether nothing is proven any more."""
        return self.part is Part.OVER

    @property
    def is_settled(self) -> bool:
        """Whether it was watched to the end."""
        return self.watch is None or self.watch.done

    @property
    def asides(self) -> list[Machine]:
        """What goes on beside, without being waited for."""
        return [each for each in (self.calls, self.watch) if each]

    def begin(self, now: float) -> list[Machine]:
        """Return what runs first."""
        if self.part is Part.CUT:
            return self._cut(now)
        # Its clock is known the better the longer it was watched before its power is pulled.
        self._clock = self._own_clock(now) if self._cuts_power else None
        return [*self._prove(now), *([self._clock] if self._clock else [])]

    def _own_clock(self, now: float) -> own_clock.OwnClock:
        return own_clock.OwnClock(self.terms.subject, (*self.terms.expected.ports, *USUALLY_OPEN), now=now)

    def go_on(self, now: float) -> list[Machine]:
        """Return what runs next, once what ran is done; nothing where the course is over."""
        match self.part:
            case Part.PROOFS if self._cuts_power and self.proving and self.proving.passed:
                self.part = Part.CUT
                return self._cut(now)
            case Part.CUT if self.cycle and self.cycle.passed and not (self.services and self.services.passed is False):
                self.part = Part.AGAIN
                if self.calls:
                    self.calls.listen_on(now)
                self.begin_watch(now)
                return self._prove(now)
        self.part = Part.OVER
        return []

    def begin_watch(self, now: float) -> None:
        """Watch from now on whether it stays where it is."""
        if self.watch:
            self.watch.begin(now)

    def _prove(self, now: float) -> list[Machine]:
        terms = self.terms
        self._turn += 1
        self.proving = final.final_proofs(
            final.Making(
                subject=terms.subject, expected=terms.expected, now=now, heard_gateway=terms.heard_gateway,
                reads=terms.reads(now), asked_from=terms.asked_from, seed=terms.seed + self._turn, calls=self.calls,
                somebodys=terms.somebodys(),
            )
        )  # fmt: skip
        if self.part is Part.AGAIN:
            self.again = self.proving.proofs
        else:
            self.proofs = self.proving.proofs
        return [self.proving, *self.asides]

    def _cut(self, now: float) -> list[Machine]:
        terms, expected = self.terms, self.terms.expected
        self.cycle = power_cycle.PowerCycle(
            terms.subject, now=now, boot_s=terms.boot_s, clock=self._clock or self._own_clock(now),
            landings=terms.landings, wait_s=self._wait_s,
        )  # fmt: skip
        self.watch = AfterStart(terms.subject, self.cycle, terms.landings)
        services = service_again.Services(terms.subject, self.cycle, ports=expected.ports, echo=expected.echo)
        self.services = services if services.is_wanted else None
        if terms.stands_in:
            self.calls = calls.Calls(terms.subject, expected.gateway, expected.dns or (), self.cycle, terms.is_alone)
        return [self.cycle, *([self.services] if self.services else []), *self.asides]

    # What is written down

    def entries(self, unit: int) -> list[Entry]:
        """Return what the part that has just come to its end has shown, as entries of the journal."""
        mac, found = self.terms.subject.mac, list[Entry]()
        if self.part is Part.CUT and self.cycle:
            made = [self.cycle, *([self.services] if self.services and self.cycle.passed else [])]
            found += [writing.proved(each.outcome, unit=unit, mac=mac) for each in made]
            cut = writing.power_cut(self.cycle, self.services, unit=unit, mac=mac)
            return [*found, cut] if cut else found
        if self.proving:
            again = self.part is Part.AGAIN
            outcomes = (each.outcome for each in self.proving.proofs)
            found += [writing.proved(each, unit=unit, mac=mac, after_cut=again) for each in outcomes]
            found.append(self.left(unit))
        return found

    def left(self, unit: int) -> Left:
        """Return what all that was proven by now says of what the device is left with."""
        mac, heard = self.terms.subject.mac, self.terms.heard_gateway()
        # What it keeps looking for may be any server of its own; that it is the planned gateway is what counts.
        gateway = heard if heard and heard == self.terms.expected.gateway else None
        return writing.left([*self.all_proofs, *self.again], unit=unit, mac=mac, heard_gateway=gateway)

    def settle(self) -> list[name_servers.DnsAsPlanned]:
        """Let what was heard by now count, at the end of all; return the proofs that it concerns."""
        concerned = [each for each in self.again if isinstance(each, name_servers.DnsAsPlanned)]
        for each in concerned:
            each.settle()
        return concerned

    def last_words(self, unit: int) -> list[Entry]:
        """Return what has come of what went on beside: how long it was watched, and whom it has called."""
        mac, said = self.terms.subject.mac, list[Entry]()
        if self.watch and self.cycle and self.part is Part.OVER and self.cycle.back:
            self.watch.stop()
            said.append(writing.proved(self.cycle.outcome, unit=unit, mac=mac))
        if self.calls is None:
            return said
        self.calls.stop()
        if not self.calls.called:
            return said
        outcomes = [self.calls.outcome, *(each.outcome for each in self.settle())]
        said += [writing.proved(each, unit=unit, mac=mac) for each in outcomes]
        return [*said, writing.called(self.calls, unit=unit, mac=mac)]
