"""One power cut for a whole switch: each of its units is proven to keep its settings, in the same minutes."""

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, field
from ipaddress import IPv4Address, IPv4Interface

from askport.core.channels import ChannelEvent
from askport.core.errors import AskPortError
from askport.core.machine import Borrow, Borrower, Effect, GiveBack, Machine, WriteEntry, earliest
from askport.core.proofs.final import final_proofs
from askport.core.proofs.power_cycle import Power, PowerCycle
from askport.core.proofs.proof import Expected, Proof, Proving, Subject
from askport.core.proofs.services import Services
from askport.core.reach.free_address import FreeAddressSearch
from askport.core.register import writing
from askport.core.register.entries import Recorded
from askport.core.wire import Heard, Link

_LONGEST_S = 300.0
"""How long the power is waited for to be pulled."""


_POWER = {
    Power.ON: "has power",
    Power.OFF: "power off",
    Power.STARTING: "starts",
    Power.UNSURE: "was silent: was its power cut?",
}


@dataclass(slots=True)
class Kept:
    """One unit that was recorded without its power cut, and what becomes of it."""

    unit: int
    tag: str
    subject: Subject
    expected: Expected
    boot_s: float
    landings: Sequence[IPv4Address] = ()
    left_out: Sequence[str] = ()
    cycle: PowerCycle | None = None
    services: Services | None = None
    proving: Proving | None = None
    was_cut: bool = False
    """Whether it came through the power cut, or did not, and that is written down."""
    because: str = ""
    """Why it was not proven; empty where it was, or while it is not known."""
    ended: bool = False
    running: list[Machine] = field(default_factory=list)

    @property
    def is_uncut(self) -> bool:
        """Whether nothing has shown yet that its power was cut."""
        waits = self.cycle is not None and self.cycle.power in (Power.ON, Power.UNSURE)
        return self.cycle is None or (waits and not self.cycle.done)

    @property
    def words(self) -> str:
        """Where it stands in the power cut, in a few words."""
        if self.cycle is None or self.ended:
            return ""
        if self.proving:
            return "being proven once more"
        if self.cycle.done:
            return "holds its address again" if self.cycle.passed else self.cycle.measured
        return _POWER[self.cycle.power]

    def end(self, because: str = "") -> None:
        """Have no more to prove."""
        self.ended, self.because, self.running = True, because, []


class CutTogether(Borrower):
    """Waits until the power of all was cut and is back, and makes all proofs of each once more, one after the other."""

    def __init__(
        self, units: Iterable[Kept], candidates: Iterable[IPv4Interface], *, borrowed: IPv4Interface | None, now: float,
        asked_from: set[IPv4Address] | None = None, wait_s: float = _LONGEST_S,
    ) -> None:  # fmt: skip
        """Begin to look for a laptop address.

        Args:
            units: those that are in the subnet of the candidates.
            candidates: laptop addresses that reach them all.
            borrowed: an address that the laptop has there already.
            now: the wire's time.
            asked_from: where the addresses are put that they are asked from, for those who listen.
            wait_s: how long the cut is waited for, in seconds.
        """
        super().__init__()
        self.units = list(units)
        self._gives_back = self._over = False
        self._asked_from = asked_from
        self._until = now + wait_s
        self._search: FreeAddressSearch | None = None
        if borrowed:
            self._begin(borrowed, now)
        else:
            self._search = FreeAddressSearch(self.units[0].subject.laptop_mac, candidates, now=now)

    @property
    def done(self) -> bool:
        """Whether everything was written, and the laptop given back."""
        return self._over

    @property
    def _uncut(self) -> list[Kept]:
        return [each for each in self.units if not each.ended and each.is_uncut]

    @property
    def waits_for_power(self) -> bool:
        """Whether nobody has pulled the power yet."""
        return self._search is None and len(self._uncut) == len(self.units)

    @property
    def is_unsure(self) -> bool:
        """Whether some were silent and are back, and only whoever pulled the power knows whether it was cut."""
        return any(each.cycle and each.cycle.power is Power.UNSURE for each in self._uncut)

    @property
    def sentence(self) -> str:
        """Say what it waits for."""
        count = len(self.units)
        if self._search:
            return "Looking for a laptop address that reaches them all."
        if self.waits_for_power:
            return f"Pull the power of the switch and of all {count} units, wait three seconds, and put it back."
        back = sum(each.cycle.passed is True for each in self.units if each.cycle)
        ended = sum(each.ended for each in self.units)
        unsure = (
            " Some were silent, and nothing shows that their power was cut: Enter if it was." if self.is_unsure else ""
        )
        return f"{back} of {count} are back with their addresses; {ended} are done.{unsure}"

    # The laptop's address

    def borrow_done(self, interface: IPv4Interface, now: float) -> None:
        """Wait for the cut from now on."""
        self._begin(interface, now)

    def borrow_failed(self, error: AskPortError) -> None:
        """End without a cut."""
        self._end_all(error.message)

    def gave_back(self) -> None:
        """Be over."""
        self._over = True

    def _begin(self, laptop: IPv4Interface, now: float) -> None:
        self._search = None
        if self._asked_from is not None:
            self._asked_from.add(laptop.ip)
        for each in self.units:
            old = each.subject
            each.subject = Subject(mac=old.mac, at=old.at, laptop_mac=old.laptop_mac, laptop=laptop)
            each.cycle = PowerCycle(each.subject, now=now, boot_s=each.boot_s, landings=each.landings)
            services = Services(each.subject, each.cycle, ports=each.expected.ports, echo=each.expected.echo)
            each.services = services if services.is_wanted else None
            each.running = [each.cycle, *([services] if services.is_wanted else [])]

    # All of them, side by side

    @property
    def _running(self) -> list[Machine]:
        """What runs now: the cuts of all, and the proofs of one."""
        if self._search:
            return [self._search]
        proving = next((each.proving for each in self.units if each.proving and not each.ended), None)
        return [*(machine for each in self.units for machine in each.running), *([proving] if proving else [])]

    def _each(self, act: Callable[[Machine], None], now: float) -> None:
        for machine in self._running:
            if not machine.done:
                act(machine)
            self._effects += machine.poll()
        self._go_on(now)

    def receive(self, heard: Heard) -> None:
        """Let each hear it."""
        self._each(lambda machine: machine.receive(heard), heard.at)

    def link_changed(self, link: Link, now: float) -> None:
        """Let each know."""
        self._each(lambda machine: machine.link_changed(link, now), now)

    def channel_event(self, event: ChannelEvent, now: float) -> None:
        """Let each know."""
        self._each(lambda machine: machine.channel_event(event, now), now)

    def handle_timer(self, now: float) -> None:
        """Let each do what is due; give up where nobody pulls the power."""
        self._each(lambda machine: machine.handle_timer(now), now)
        if now >= self._until:
            self.leave_out()
            self._go_on(now)

    def next_deadline(self) -> float | None:
        """Return the first of their deadlines."""
        until = self._until if self._uncut else None
        return (
            None if self.done else earliest(until, *(each.next_deadline() for each in self._running if not each.done))
        )

    def poll(self) -> list[Effect]:
        """Return what is to be done now."""
        for machine in self._running:
            self._effects += machine.poll()
        return super().poll()

    def confirm(self, now: float) -> None:
        """Take in, from whoever pulled it, that the power of those was cut of which nothing shows it."""
        for each in self._uncut:
            if each.cycle:
                each.cycle.confirm(now)

    def leave_out(self) -> None:
        """Wait no longer for those whose power was not seen to be cut; their record says that it was left out."""
        for each in self._uncut:
            each.end("Nothing has shown that its power was cut.")

    def _go_on(self, now: float) -> None:
        if self._search and self._search.done:
            chosen, self._search = self._search.chosen, None
            if chosen is None:
                self._end_all("No free laptop address was found that reaches them.")
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

    def _go_on_with(self, unit: Kept, now: float) -> None:
        cycle, services = unit.cycle, unit.services
        if cycle is None or unit.ended:
            return
        if not unit.was_cut and cycle.done and (services is None or services.done):
            unit.running, unit.was_cut = [], True
            self._write(unit, cycle, *([services] if services and cycle.passed else []))
            if cut := writing.power_cut(cycle, services, unit=unit.unit, mac=unit.subject.mac):
                self._effects.append(WriteEntry(cut))
            failed = next((each for each in (cycle, services) if each and each.passed is False), None)
            if failed:
                unit.end(failed.because)
                self._record(unit)
                return
        busy = any(each.proving and not each.ended for each in self.units)
        if unit.was_cut and unit.proving is None and not busy:
            unit.proving = final_proofs(unit.subject, unit.expected, now=now, asked_from=self._asked_from)
        if unit.proving and unit.proving.done:
            self._effects += unit.proving.poll()
            self._write(unit, *unit.proving.proofs, after_cut=True)
            self._effects.append(WriteEntry(writing.left(unit.proving.proofs, unit=unit.unit, mac=unit.subject.mac)))
            wrong = next((each for each in unit.proving.proofs if each.passed is False), None)
            unit.end(wrong.because if wrong else "")
            self._record(unit)

    def _write(self, unit: Kept, *proofs: Proof, after_cut: bool = False) -> None:
        for each in proofs:
            self._effects.append(
                WriteEntry(writing.proved(each.outcome, unit=unit.unit, mac=unit.subject.mac, after_cut=after_cut))
            )

    def _record(self, unit: Kept) -> None:
        left_out = tuple(each for each in unit.left_out if each != PowerCycle.name)
        self._effects.append(WriteEntry(Recorded(unit=unit.unit, mac=unit.subject.mac, left_out=left_out)))
