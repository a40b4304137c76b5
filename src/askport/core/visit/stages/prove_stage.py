"""Prove: what is expected of the device's final state is measured, and once more after a power cycle."""

from collections.abc import Sequence
from ipaddress import IPv4Address

from askport.core import machine, protocols
from askport.core.kinds.model import PageWay
from askport.core.phrases import begun, listed, phrase, together
from askport.core.proofs import page_answers, power_cycle, proof, reachable, verdict
from askport.core.proofs.course import Course, Part, Terms
from askport.core.reach.free_address import FreeAddressSearch
from askport.core.reach.whom_it_answers import WhomItAnswers
from askport.core.register.entries import Left
from askport.core.visit import steps, transitions
from askport.core.visit.stages.stage import Next, Siblings, Stage
from askport.core.visit.visit import USUAL_PORTS, Visit


class Looking(proof.Proving):
    """Questions that nobody waits for."""

    is_aside = True


class Prove(Stage):
    """Makes the proofs, waits for the power cycle, and writes down what was left."""

    step = steps.Step.PROVE

    def __init__(self, visit: Visit, stages: Siblings) -> None:
        super().__init__(visit, stages)
        self._looks_again = False
        """Whether another laptop address is looked for already, because the one that was offered is taken."""

    def begin(self, now: float) -> None:
        """Prove from now on, or say that the laptop has to reach it first."""
        visit, device = self._visit, self._visit.device
        subject = visit.subject()
        if subject is None:
            visit.go(transitions.Event.MOVED_AWAY)
            if visit.cable.laptop.is_beside:  # that changes nothing, so nobody is asked
                self._stages.access.borrow(transitions.Event.BORROWS_TO_PROVE, now)
            return
        errand, device.left_out = device.errand, []
        device.course = Course(
            self.terms(subject), cuts_power=errand is None or errand.cuts_power,
            wait_s=errand.cut_within_s if errand else None,
        )  # fmt: skip
        if errand:  # what is read from it over the laptop's own stack is read from nobody else
            visit.effects.append(machine.Pin(subject.at.ip, subject.mac))
        visit.go(transitions.Event.PROVES, *device.course.begin(now))

    def terms(self, subject: proof.Subject) -> Terms:
        """Return who is proven now, and by what."""
        cable = self._visit.cable
        return Terms(
            subject=subject, expected=self.expected, is_alone=self._is_alone, stands_in=not cable.laptop.forwards,
            heard_gateway=self._heard_gateway,
            reads=lambda now: self._stages.setting.own_word.reads_at(subject.at.ip, now),
            asked_from=cable.finder.asked_from, somebodys=cable.somebodys, boot_s=self._boot_s,
            landings=tuple(self._visit.landings()),
            seed=cable.xid(),
        )  # fmt: skip

    @property
    def expected(self) -> proof.Expected:
        """What is expected of the device at hand."""
        device = self._visit.device
        if device.errand and device.errand.expected:
            return device.errand.expected
        return proof.Expected(
            gateway=device.target.gateway if device.target else None,
            dns=device.target.dns if device.target else None,
            left=[each for each in (device.old_address, device.landed_at) if each],
            ports=self._ports,
            echo=device.may_echo,
            page=self._page,
            title=device.title,
            name=self._told_name,
            columns=device.work.planned.columns if device.work.planned else {},
        )

    @property
    def _told_name(self) -> str:
        """What it was told to be called by the way that set it, or nothing."""
        device, planned = self._visit.device, self._visit.device.work.planned
        if planned and (name := protocols.told_name(device.way_name or "", planned.columns)):
            return name
        return device.work.tag if device.kind and device.kind.tells_name(device.way_name or "") else ""

    @property
    def _page(self) -> int | None:
        """The port of its page: that of its kind, or the one where a title was heard."""
        kind = self._visit.device.kind
        way = kind.way_by("page") if kind else None
        known = isinstance(way, PageWay) or bool(self._visit.device.title)
        return next((port for port in self._ports if port in page_answers.PAGE_PORTS), None) if known else None

    @property
    def _ports(self) -> tuple[int, ...]:
        device = self._visit.device
        return (*device.work.ports, *device.open_ports)

    @property
    def _boot_s(self) -> float | None:
        """How long it takes to start, by its kind."""
        device = self._visit.device
        if device.errand:
            return device.errand.boot_s
        return device.kind.needs.boot_s if device.kind else None

    def _heard_gateway(self) -> IPv4Address | None:
        device = self._visit.device
        live = self._visit.cable.finder.device(device.chosen.mac) if device.chosen else None
        return live.gateway_heard_from(device.target.interface.ip) if live and device.target else None

    def enter(self, now: float) -> None:
        """Borrow what reaches it, prove it again, say that its power was cut, or go back to setting it."""
        visit, device = self._visit, self._visit.device
        match visit.phase:
            case steps.Phase.MAY_PROVE:
                self._stages.access.borrow(transitions.Event.BORROWS_TO_PROVE, now)
            case steps.Phase.POWER_CYCLE if device.power_cycle:
                device.power_cycle.confirm(now)
            case steps.Phase.NOT_PROVEN:
                self.begin(now)
            case steps.Phase.FORGOTTEN:
                visit.see_again()
                self._stages.setting.prepare(now)

    def borrowed(self, now: float) -> None:
        """Prove with the address that was borrowed for it."""
        visit = self._visit
        if visit.phase is not steps.Phase.BORROWING_TO_PROVE:
            return
        self._looks_again = False
        subject, beside = visit.subject(), visit.cable.laptop.beside_in_use
        # One that was never reached before may answer the adapter only: that is no fault of what it was set to.
        if subject and beside and visit.reached_from is None:
            visit.reached_from = subject.laptop
            adapter, at = visit.cable.laptop.macs[0], subject.at.ip
            asks = WhomItAnswers(subject.mac, at, beside=beside, adapter=adapter, laptop=subject.laptop.ip, now=now)
            visit.go(transitions.Event.SEES_WHOM_IT_ANSWERS, asks)
        else:
            self.begin(now)

    def offer_another(self, now: float) -> None:
        """Borrow another one that reaches it."""
        if search := self._stages.access.within_target(now):
            self._looks_again = True
            self._visit.go(transitions.Event.BORROWS_TO_PROVE, search)
        else:
            self.begin(now)

    def ended(self, ran: Sequence[machine.Machine], now: float) -> None:
        """Write down how the proofs ended, and wait for the power cycle; or how that one did."""
        visit = self._visit
        match visit.phase, ran[0]:
            case steps.Phase.BORROWING_TO_PROVE, FreeAddressSearch() as choosing:
                if self._stages.access.asked_again(choosing, now) and not self._looks_again:
                    self.offer_another(now)
            case steps.Phase.BORROWING_TO_PROVE, WhomItAnswers() as asked:
                if asked.adapter_only and visit.reached_from:
                    self._stages.access.borrow_on_adapter(visit.reached_from)
                else:
                    self.begin(now)
            case steps.Phase.PROVING | steps.Phase.POWER_CYCLE | steps.Phase.PROVING_AGAIN, _ if visit.device.course:
                self._part_ended(visit.device.course, now)

    def _part_ended(self, course: Course, now: float) -> None:
        """Write down what a part of the course has come to, and begin the next."""
        visit, device = self._visit, self._visit.device
        entries, ended = course.entries(device.unit), course.part
        visit.write(*entries)
        for each in entries:
            if isinstance(each, Left):
                device.as_left = device.as_left.then(each.as_left)
        if ended is Part.CUT:
            device.left_out = [each for each in device.left_out if each != power_cycle.PowerCycle.name]
        running = course.go_on(now)
        match ended, course.part:
            case _, Part.CUT:
                visit.go(transitions.Event.PASSED, *running, *self._looks_at_ports(now))
            case _, Part.AGAIN:
                visit.go(transitions.Event.PROVES_AGAIN, *running)
            case Part.CUT, _ if not (course.cycle and course.cycle.passed):
                visit.go(transitions.Event.FORGOT)
            case Part.AGAIN | Part.PROOFS, _ if course.proving and course.proving.passed:
                visit.go(transitions.Event.KEPT, *course.asides)
            case _:
                visit.go(transitions.Event.FAILED)

    def _looks_at_ports(self, now: float) -> list[machine.Machine]:
        """Look which of the usual ports open, where it had no address to be asked at before it was given this one."""
        visit, device = self._visit, self._visit.device
        subject = visit.subject()
        if subject is None or device.ports_tried or device.errand:
            return []
        device.ports_seen = [reachable.PortOpens(subject, port, now=now) for port in USUAL_PORTS]
        return [Looking(device.ports_seen)]

    def _is_alone(self) -> bool:
        """Whether nobody but the device was heard on this wire since the link came up."""
        cable, chosen = self._visit.cable, self._visit.device.chosen
        return chosen is not None and {each.mac for each in cable.finder.devices()} <= {chosen.mac}

    def leave_out_power_cycle(self) -> None:
        """Go on without the proof by a power cycle; the register will say so."""
        visit = self._visit
        cycle, services = visit.device.power_cycle, visit.device.services
        if visit.phase is steps.Phase.POWER_CYCLE and cycle and cycle.passed and services:
            services.cannot_be_made(phrase("It was not waited for."))
        elif visit.phase is steps.Phase.POWER_CYCLE:
            visit.device.left_out = [*dict.fromkeys((*visit.device.left_out, power_cycle.PowerCycle.name))]
            visit.go(transitions.Event.KEPT)

    def next(self, now: float) -> Next:
        """Say what is proven, what failed, and what to do with its power."""
        visit, device = self._visit, self._visit.device
        match visit.phase:
            case steps.Phase.MAY_PROVE if visit.free_address:
                return Next(
                    phrase("The device is at its new address."),
                    phrase("Borrow {free_address} and start the checks.", free_address=visit.free_address),
                )
            case steps.Phase.MAY_PROVE:
                return Next(phrase("It has moved, but no free laptop address was found there: press a and type one."))
            case steps.Phase.NOT_PROVEN:
                failed = device.course.wrong if device.course else None
                because = failed.because if failed else phrase("The checks were stopped before the end.")
                return Next(because, phrase("Check again."))
            case steps.Phase.POWER_CYCLE if device.power_cycle:
                return self._power(device.power_cycle)
            case steps.Phase.PROVING_AGAIN:
                return Next(phrase("Address kept. Repeating the other checks."))
            case steps.Phase.FORGOTTEN if device.power_cycle:
                return Next(device.power_cycle.because, phrase("Set it again."))
        return Next(phrase("Checking the device at its new address."))

    def _power(self, cycle: power_cycle.PowerCycle) -> Next:
        if cycle.power is power_cycle.Power.OFF:
            return Next(phrase("Its power is off."), hands=phrase("Plug it in again."))
        if cycle.passed:
            return Next(phrase("Address kept. Waiting for ping and ports to answer again."))
        if cycle.power is power_cycle.Power.STARTING and cycle.elsewhere:
            return Next(
                phrase(
                    "The device is starting, at {elsewhere} for now. Waiting for it at its new address.",
                    elsewhere=cycle.elsewhere,
                )
            )
        if cycle.power is power_cycle.Power.STARTING:
            return Next(phrase("The device is starting. Waiting for an answer at its new address."))
        if cycle.power is power_cycle.Power.UNSURE:
            confirms = phrase("Confirm that you cut its power.") if cycle.may_be_confirmed else ""
            skip = phrase("Press l to skip this check.")
            return Next(together(cycle.unsure, skip), confirms, phrase("If you did not cut its power, cut it now."))
        way = self._visit.device.way
        pull = phrase("unplug the cable at the device end") if cycle.takes_power_by_cable else phrase("pull its power")
        keep = (
            phrase(
                "Save the address on the device first, or it is lost at the next power cycle. Then {pull}", pull=pull
            )
            if way and way.permanent is False and not self._visit.device.is_kept
            else phrase("{pull}, wait three seconds", pull=begun(pull))
        )
        fed = phrase("It takes its power through the cable.") if cycle.takes_power_by_cable else ""
        said = together(cycle.wiggled, fed, phrase("Press l to skip this check."), self._may_save())
        return Next(said, hands=phrase("{keep} and put it back.", keep=keep))

    def _may_save(self) -> str:
        """Ask for what saves, where nobody knows whether anything did."""
        way, ports = self._visit.device.way, self._visit.device.open_ports
        opens = ((phrase("v opens its console"), (22, 23)), (phrase("o opens its page"), (80, 443)))
        keys = [key for key, at in opens if any(port in ports for port in at)]
        if way is None or way.permanent is not None or not keys:
            return ""
        return phrase("Does it have a line or button that saves? {keys}.", keys=listed(keys))

    def result(self) -> str:
        """Say how many proofs passed or failed, and how many are missing."""
        device = self._visit.device
        ended = [each for each in (*device.all_proofs, *device.again) if each.done]
        return verdict.verdict_of(ended).words if ended else ""
