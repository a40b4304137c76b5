"""Prove: what is expected of the device's final state is measured, and once more after a power cut."""

from collections.abc import Sequence
from ipaddress import IPv4Address

from askport.core.kinds.model import PageWay
from askport.core.machine import Machine
from askport.core.proofs.calls import Calls
from askport.core.proofs.final import final_proofs
from askport.core.proofs.page import PAGE_PORTS
from askport.core.proofs.power_cycle import LONGEST_BOOT_S, Power, PowerCycle
from askport.core.proofs.proof import Expected, Proof, Proving, Subject
from askport.core.proofs.services import Services
from askport.core.reach.free_address import FreeAddressSearch
from askport.core.register import writing
from askport.core.stages.stage import Next, Stage
from askport.core.steps import Phase, Step
from askport.core.transitions import Event
from askport.core.ways.told_names import told_name


class Prove(Stage):
    """Makes the proofs, waits for the power cut, and writes down what was left."""

    step = Step.PROVE

    def begin(self, now: float) -> None:
        """Prove from now on, or say that the laptop has to reach it first."""
        visit, device = self._visit, self._visit.device
        subject = visit.subject()
        if subject is None:
            visit.go(Event.MOVED_AWAY)
            return
        proving = self._proving(subject, now)
        device.forget_proofs()
        device.proofs, device.left_out = proving.proofs, []
        visit.go(Event.PROVES, proving)

    @property
    def expected(self) -> Expected:
        """What is expected of the device at hand."""
        device = self._visit.device
        return Expected(
            gateway=device.target.gateway if device.target else None,
            dns=device.target.dns if device.target else None,
            left=[each for each in (device.old_address, device.landed_at) if each],
            ports=self._ports,
            echo=device.may_echo,
            page=self._page,
            title=device.title,
            name=self._told_name,
        )

    @property
    def _told_name(self) -> str:
        """What it was told to be called by the way that set it, or nothing."""
        device, planned = self._visit.device, self._visit.device.work.planned
        if planned and (name := told_name(device.way_name or "", planned.columns)):
            return name
        return device.work.tag if device.kind and device.kind.tells_name(device.way_name or "") else ""

    def _proving(self, subject: Subject, now: float) -> Proving:
        reads = self._stages.setting.own_word.reads_at(subject.at.ip, now)
        return final_proofs(
            subject, self.expected, now=now, heard_gateway=self._heard_gateway, reads=reads,
            asked_from=self._visit.cable.finder.laptop_addresses,
        )  # fmt: skip

    @property
    def _page(self) -> int | None:
        """The port of its page: that of its kind, or the one where a title was heard."""
        kind = self._visit.device.kind
        way = kind.way_by("page") if kind else None
        known = isinstance(way, PageWay) or bool(self._visit.device.title)
        return next((port for port in self._ports if port in PAGE_PORTS), None) if known else None

    @property
    def _ports(self) -> tuple[int, ...]:
        device = self._visit.device
        return (*device.work.ports, *device.open_ports)

    @property
    def boot_s(self) -> float:
        """Return how long it is waited for after a power cut: what its kind takes with something to spare."""
        kind = self._visit.device.kind
        return kind.needs.boot_s * 1.5 + 10.0 if kind and kind.needs.boot_s else LONGEST_BOOT_S

    def _heard_gateway(self) -> IPv4Address | None:
        device = self._visit.device
        live = self._visit.cable.finder.device(device.chosen.mac) if device.chosen else None
        return live.gateway_heard_from(device.target.interface.ip) if live and device.target else None

    def enter(self, now: float) -> None:
        """Borrow what reaches it, prove it again, say that its power was cut, or go back to setting it."""
        visit, device = self._visit, self._visit.device
        match visit.phase:
            case Phase.MAY_PROVE:
                self._stages.access.borrow(Event.BORROWS_TO_PROVE, now)
            case Phase.POWER_CYCLE if device.power_cycle:
                device.power_cycle.confirm(now)
            case Phase.NOT_PROVEN:
                self.begin(now)
            case Phase.FORGOTTEN:
                visit.see_again()
                self._stages.setting.prepare(now)

    def borrowed(self, now: float) -> None:
        """Prove with the address that was borrowed for it."""
        if self._visit.phase is Phase.BORROWING_TO_PROVE:
            self.begin(now)

    def ended(self, ran: Sequence[Machine], now: float) -> None:
        """Write down how the proofs ended, and wait for the power cut; or how that one did."""
        visit = self._visit
        match visit.phase, ran[0]:
            case Phase.BORROWING_TO_PROVE, FreeAddressSearch() as choosing:
                self._stages.access.asked_again(choosing, now)
            case Phase.PROVING, Proving() as proving:
                self._proofs_ended(proving, now)
            case Phase.POWER_CYCLE, PowerCycle() as cycle:
                self._cut_ended(cycle, now)
            case Phase.PROVING_AGAIN, Proving() as proving:
                self._write(*proving.proofs, after_cut=True)
                self._left(proving)
                visit.go(Event.KEPT if proving.passed else Event.FAILED, *self._aside)

    def _cut_ended(self, cycle: PowerCycle, now: float) -> None:
        """Prove everything once more where it kept its address and what it serves is back."""
        visit, device, services = self._visit, self._visit.device, self._visit.device.services
        self._write(cycle, *([services] if services and cycle.passed else []))
        if device.chosen and (cut := writing.power_cut(cycle, services, unit=device.unit, mac=device.chosen.mac)):
            visit.write(cut)
        device.left_out = [each for each in device.left_out if each != cycle.name]
        subject = visit.subject()
        if not cycle.passed or subject is None:
            visit.go(Event.FORGOT)
            return
        if services and services.passed is False:
            visit.go(Event.FAILED)
            return
        if device.calls:
            device.calls.listen_on(now)
        again = self._proving(subject, now)
        device.again = again.proofs
        visit.go(Event.PROVES_AGAIN, again, *self._aside)

    @property
    def _aside(self) -> list[Machine]:
        calls = self._visit.device.calls
        return [calls] if calls else []

    def _left(self, proving: Proving) -> None:
        """Write down what proofs found out about what it was left with."""
        visit, device = self._visit, self._visit.device
        if device.chosen:
            heard = self._heard_gateway()
            left = writing.left(proving.proofs, unit=device.unit, mac=device.chosen.mac, heard_gateway=heard)
            visit.write(left)
            device.as_left = device.as_left.then(left.as_left)

    def _proofs_ended(self, proving: Proving, now: float) -> None:
        visit, device, subject = self._visit, self._visit.device, self._visit.subject()
        self._write(*proving.proofs)
        self._left(proving)
        if not proving.passed or subject is None:
            visit.go(Event.FAILED)
            return
        device.power_cycle = PowerCycle(subject, now=now, boot_s=self.boot_s, landings=visit.landings())
        services = Services(subject, device.power_cycle, ports=self._ports, echo=device.may_echo)
        device.services = services if services.is_wanted else None
        target, cable = device.target, visit.cable
        if target and not cable.laptop.forwards:
            device.calls = Calls(subject, target.gateway, target.dns, device.power_cycle, self._is_alone)
        beside = [device.services] if device.services else []
        visit.go(Event.PASSED, device.power_cycle, *beside, *self._aside)

    def _is_alone(self) -> bool:
        """Whether nobody but the device was heard on this wire since the link came up."""
        cable, chosen = self._visit.cable, self._visit.device.chosen
        return chosen is not None and {each.mac for each in cable.finder.devices()} <= {chosen.mac}

    def _write(self, *proofs: Proof, after_cut: bool = False) -> None:
        device = self._visit.device
        if device.chosen:
            mac, unit = device.chosen.mac, device.unit
            entries = (writing.proved(each.outcome, unit=unit, mac=mac, after_cut=after_cut) for each in proofs)
            self._visit.write(*entries)

    def leave_out_power_cycle(self) -> None:
        """Go on without the proof by a power cut; the register will say so."""
        visit = self._visit
        cycle, services = visit.device.power_cycle, visit.device.services
        if visit.phase is Phase.POWER_CYCLE and cycle and cycle.passed and services:
            services.cannot_be_made("It was not waited for.")
        elif visit.phase is Phase.POWER_CYCLE:
            visit.device.left_out = [*dict.fromkeys((*visit.device.left_out, PowerCycle.name))]
            visit.go(Event.KEPT)

    def next(self, now: float) -> Next:
        """Say what is proven, what failed, and what to do with its power."""
        visit, device = self._visit, self._visit.device
        match visit.phase:
            case Phase.MAY_PROVE if visit.free_address:
                return Next(f"It has moved. Borrow {visit.free_address} and prove it there.")
            case Phase.MAY_PROVE:
                return Next(
                    "It has moved, but no free laptop address was found there: press a and name one.", enter=False
                )
            case Phase.NOT_PROVEN:
                made = (*device.proofs, *([device.services] if device.services else []), *device.again)
                failed = next((proof for proof in made if proof.passed is False), None)
                return Next(f"{failed.because if failed else 'It was not finished.'} Enter proves it again.")
            case Phase.POWER_CYCLE if device.power_cycle:
                return Next(self._power(device.power_cycle), enter=device.power_cycle.power is Power.UNSURE)
            case Phase.PROVING_AGAIN:
                return Next("It kept its address. Everything else is proven once more.", enter=False)
            case Phase.FORGOTTEN if device.power_cycle:
                return Next(f"{device.power_cycle.because} Enter goes back to setting it.")
        return Next("Proving it at its new address.", enter=False)

    def _power(self, cycle: PowerCycle) -> str:
        if cycle.power is Power.OFF:
            return "Its power is off. Plug it in again."
        if cycle.passed:
            return "It kept its address. Waiting for ping and ports to answer again."
        if cycle.power is Power.STARTING:
            return "It is starting. Waiting for it to answer at its new address."
        if cycle.power is Power.UNSURE:
            return (
                "It was silent and is there again, and nothing shows that its power was cut. Enter if you have pulled "
                "it; if not, pull it now."
            )
        way = self._visit.device.way
        keep = (
            "Tell it to keep this address, or it is gone at the next power cut. Then pull its power"
            if way and way.permanent is False and not self._visit.device.is_kept
            else "Pull its power, wait three seconds"
        )
        wiggled = f"{cycle.wiggled} " if cycle.wiggled else ""
        return f"{wiggled}{keep} and put it back. l leaves this proof out."

    def result(self) -> str:
        """Say how many proofs passed or failed."""
        proofs = [*self._visit.device.all_proofs, *self._visit.device.again]
        if not self._visit.device.proofs:
            return ""
        failed = sum(proof.passed is False for proof in proofs)
        return (
            f"{failed} failed" if failed else f"{sum(proof.passed is True for proof in proofs)} of {len(proofs)} proven"
        )
