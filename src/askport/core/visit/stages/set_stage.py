"""Set: the planned values are checked, and set by the way that fits."""

from collections.abc import Sequence
from dataclasses import replace

from askport.core import addresses, errors, machine
from askport.core.kinds import model, recognising
from askport.core.phrases import begun, phrase, together
from askport.core.plan.planned_device import PlannedDevice
from askport.core.plan.target import Target
from askport.core.reach.free_address import FreeAddressSearch
from askport.core.register import entries, fold, writing
from askport.core.visit import at_hand, transitions
from askport.core.visit.stages.own_word_before import OwnWord
from askport.core.visit.stages.stage import Next, Siblings, Stage
from askport.core.visit.steps import Phase, Step
from askport.core.visit.visit import Visit
from askport.core.ways import conversation, table
from askport.core.ways.choosing import untold
from askport.core.ways.log_in import LogIn
from askport.core.ways.way import Result, Way


class Setting(Stage):
    """Prepares, starts a way, and sees what comes of it."""

    step = Step.SET

    def __init__(self, visit: Visit, stages: Siblings) -> None:
        super().__init__(visit, stages)
        self.own_word = OwnWord(visit)

    def prepare(self, now: float) -> None:
        """Ask whether the planned address is free, and for a laptop address in its subnet."""
        visit, device = self._visit, self._visit.device
        visit.see_kind()
        names = visit.way_names
        device.way_name = device.way_name if device.way_name in names else names[0]
        device.way, device.target_holder, visit.free_address, device.is_kept = None, None, None, False
        if device.target is None:
            visit.go(transitions.Event.PREPARED)
            return
        target = device.target.interface
        if device.whereabouts == target.ip and visit.laptop_within and not device.proofs and device.errand is None:
            self._stages.prove.begin(now)  # it is there already, and nothing is to be set until a proof says so
            return
        vacancy = FreeAddressSearch(visit.cable.laptop.mac, [target], now=now)
        says = self.own_word.read_as_found(now) if device.errand is None else None
        beside = (self._stages.access.within_target(now), says)
        visit.go(transitions.Event.PREPARES, vacancy, *(each for each in beside if each))

    def plan(self, target: Target, now: float) -> None:
        """Change what the device is meant to become."""
        device, planned = self._visit.device, self._visit.device.work.planned
        device.replan(target)
        device.restores = False
        if planned is None and device.chosen:  # in no plan yet: it is known again by its MAC address
            planned = PlannedDevice(tag=device.work.tag, mac=device.chosen.mac)
        if planned:
            planned = planned.becoming(target)
            device.work = replace(device.work, planned=planned)
            self._visit.write(entries.DevicePlanned(device=planned))
        if self._visit.phase.step is Step.SET:
            self.prepare(now)

    @property
    def may_restore(self) -> bool:
        """Whether it can be put back as it was found, which is known; or be set as planned after all."""
        visit, device = self._visit, self._visit.device
        changed = device.was_taken or device.landed_at is not None or device.was_touched
        at_rest = visit.phase in (
            Phase.MAY_SET, Phase.NOT_SET, Phase.MAY_KEEP, Phase.NOT_PROVEN, Phase.POWER_CYCLE, Phase.FORGOTTEN,
            Phase.MAY_RECORD,
        )  # fmt: skip
        meant = device.work.target if device.restores else device.as_found
        return at_rest and (changed or device.restores) and meant is not None

    def restore(self, now: float) -> None:
        """Have it put back as it was found, by the ways that there are; again: have it set as planned after all."""
        visit, device = self._visit, self._visit.device
        if not self.may_restore:
            return
        visit.see_again()
        restores = not device.restores
        device.target, device.restores = device.as_found if restores else device.work.target, restores
        device.way_name = None
        device.forget_proofs()
        self.prepare(now)

    def log_in(self, user: str, password: str, now: float) -> None:
        """Take in what devices of this kind are entered with; it is kept for as long as the program runs."""
        if name := self.entered_as:
            self._visit.cable.around.log_ins[name] = LogIn(user, password)
            self._ask_again(now)

    def serial_line(self, path: str, now: float) -> None:
        """Take in on which serial line the consoles of this kind are."""
        if kind := self._kind:
            self._visit.cable.around.serial_lines[kind.name] = path
            self._ask_again(now)

    def _ask_again(self, now: float) -> None:
        """Read what it says of itself, now that it can be talked to."""
        device = self._visit.device
        device.not_read = ""
        if self._visit.phase in (Phase.MAY_SET, Phase.NOT_SET) and not device.says:
            self.prepare(now)

    @property
    def _kind(self) -> model.Kind | None:
        """The kind of the device at hand; while it is looked for, the one that it may be of."""
        visit, device = self._visit, self._visit.device
        found = visit.cable.search.candidate if visit.phase is Phase.FINDING else None
        may_be = recognising.possible_kinds(visit.cable.around.kinds, found.mac, found) if found else []
        return device.kind or next(iter(may_be), None)

    @property
    def entered_as(self) -> str:
        """What devices like it are called where their log-in is kept, or an empty text."""
        return self._visit.device.entered_as or (self._kind.name if self._kind else "")

    @property
    def asks_for(self) -> errors.Wants | None:
        """What can be given for devices of this kind, or None."""
        device, kind = self._visit.device, self._kind
        console = kind.way_by("console") if kind else None
        if self._visit.phase not in (Phase.FINDING, Phase.MAY_SET, Phase.NOT_SET, Phase.MAY_KEEP):
            return None
        if any(each.log_in_as for each in device.protocols):
            return errors.Wants.LOG_IN
        if kind is None:
            return None
        has_line = kind.name in self._visit.cable.around.serial_lines
        if isinstance(console, model.ConsoleWay) and console.over == "serial" and not has_line:
            return errors.Wants.LINE
        if kind.asks_community_only:
            return errors.Wants.COMMUNITY
        return errors.Wants.LOG_IN if kind.asks_log_in or device.wants_log_in else None

    def lines(self, now: float) -> tuple[list[str], str]:
        """Return what the chosen way will say, with secrets blanked, and what is missing for it, or nothing."""
        start = self._visit.start(now)
        if start is None or self._visit.way is None:
            return [], ""
        try:
            return self._visit.way.says_lines(start), ""
        except errors.BadInput as error:
            return [], ask_for(error)

    def untold(self, now: float) -> list[str]:
        """Return what is planned and not told to the device by the chosen way."""
        start, way = self._visit.start(now), self._visit.way
        return untold(way, start) if start and way and not self.lines(now)[1] else []

    def choose_way(self, name: str, now: float) -> None:
        """Set the address by another way."""
        visit, device = self._visit, self._visit.device
        if visit.phase not in (Phase.MAY_SET, Phase.NOT_SET, Phase.SETTING) or name == device.way_name:
            return
        offers = (each.offers for each in visit.ways() if each.entry.name == name and each.offers)
        device.takes_offer = next(offers, device.takes_offer)
        device.way_name = name
        there, way = device.whereabouts, visit.way
        if way and way.needs_reach and there and not visit.cable.laptop.reaching(there):
            self._stages.access.look_beside(there, None, now)
        else:
            self.prepare(now)

    def enter(self, now: float) -> None:
        """Start the way, after borrowing what it needs; where it came to nothing, prepare anew."""
        visit = self._visit
        if visit.phase is Phase.NOT_SET:
            self.prepare(now)
        elif visit.phase is Phase.MAY_KEEP:
            self._keep(now)
        elif visit.phase is Phase.MAY_SET and visit.may_set and visit.has_laptop_address and not self.lines(now)[1]:
            if visit.way and visit.way.needs_laptop and visit.laptop_within is None:
                self._stages.access.borrow(transitions.Event.BORROWS_TO_SET, now)
            else:
                self._begin(now)

    def borrowed(self, now: float) -> None:
        """Start the way with the address that was borrowed for it."""
        if self._visit.phase is Phase.BORROWING_TO_SET:
            self._begin(now)

    def _begin(self, now: float) -> None:
        visit, device = self._visit, self._visit.device
        if device.target is None or device.chosen is None or visit.way is None:
            return
        if visit.way.needs_laptop and visit.laptop_within is None:
            self.prepare(now)  # what was borrowed does not reach it
            return
        start = self._visit.start(now)
        if start is None:
            return
        if not device.was_touched:
            device.as_found = at_hand.as_found(device.chosen, device.says)
        device.way = visit.way.begin(start)
        visit.go(transitions.Event.SETS, device.way)

    def offer_another(self, now: float) -> None:
        """Find out anew whether the planned values can be set."""
        self.prepare(now)

    def ended(self, ran: Sequence[machine.Machine], now: float) -> None:
        """Take in whether the address is free, or what the way has come to."""
        visit, device, access = self._visit, self._visit.device, self._stages.access
        device.wants_log_in |= any(isinstance(each, conversation.Conversation) and each.wants_log_in for each in ran)
        match visit.phase, ran[0]:
            case Phase.PREPARING, FreeAddressSearch() as vacancy:
                address = device.target.interface.ip if device.target else None
                holder = vacancy.taken.get(address) if address else None
                device.target_holder = holder if device.chosen is None or holder != device.chosen.mac else None
                for each in ran[1:]:
                    if isinstance(each, conversation.Conversation) and each.said:
                        self.own_word.take(each, each.said)
                laptop = next((each.chosen for each in ran[1:] if isinstance(each, FreeAddressSearch)), None)
                access.take_free(laptop, now)
                visit.go(transitions.Event.PREPARED)
                if visit.way and visit.way.by_technician and visit.may_set:
                    self._begin(now)  # watching sends next to nothing, so it needs no decision
            case Phase.BORROWING_TO_SET, FreeAddressSearch() as choosing:
                if access.asked_again(choosing, now):
                    self.prepare(now)
            case Phase.SETTING, Way() as way:
                self._way_ended(way, now)
            case Phase.KEEPING, conversation.Conversation(said=said) if said:
                if said.ended is conversation.Ended.WELL:
                    device.is_kept = True
                    if device.chosen:
                        visit.write(entries.ToldToKeep(unit=device.unit, mac=device.chosen.mac))
                    self._stages.prove.begin(now)
                else:
                    visit.go(transitions.Event.NOT_KEPT)
                    visit.trouble = errors.Refused("The address was not saved: {because}.", because=said.because)

    def _way_ended(self, way: Way, now: float) -> None:
        self._visit.device.wants_log_in |= way.wants_log_in
        self._write(way)
        if way.result is not Result.TAKEN:
            self._visit.device.left_way = way if way.has_acted else self._visit.device.left_way
            self._visit.go(transitions.Event.NOT_TAKEN)
            return
        self._visit.left_behind()
        if way.permanent is False and self._may_be_kept(now):
            self._visit.go(transitions.Event.MAY_BE_KEPT)
        elif self._visit.device.errand:
            self._visit.go(transitions.Event.MOVED_AWAY)
        else:
            self._stages.prove.begin(now)

    def _may_be_kept(self, now: float) -> bool:
        """Whether its kind can be told to keep what it has, and the laptop reaches it there."""
        start = self._visit.start(now)
        return start is not None and self._visit.laptop_within is not None and bool(table.keeps(start.kind))

    def _keep(self, now: float) -> None:
        """Have its console or page keep what it has."""
        start = self._visit.start(now)
        if start and (talk := table.keeping(start)):
            self._visit.go(transitions.Event.KEEPS, talk)

    def _missing_to_keep(self, now: float) -> str:
        try:
            if start := self._visit.start(now):
                table.keeping(start)
        except errors.BadInput as error:
            return ask_for(error)
        return ""

    def leave_unkept(self, now: float) -> None:
        """Go on to proving it without having it keep what it has; the power cycle will show what comes of that."""
        if self._visit.phase is Phase.MAY_KEEP:
            self._stages.prove.begin(now)

    def _write(self, way: Way) -> None:
        entry = writing.was_set(way, unit=self._visit.device.unit, left=self._visit.device.left_way)
        self._visit.write(entry)
        self._visit.device.was_touched |= way.has_changed
        if way.result is Result.TAKEN:
            self._visit.device.as_left = fold.as_told(entry)
            self._visit.device.became.append(way.target)

    def follow(self, now: float) -> None:
        """Where the device was moved to a wrong address out of the laptop's reach, go back to reaching it."""
        visit, way = self._visit, self._visit.device.way
        if visit.phase is not Phase.SETTING or way is None or way.done:
            return
        landed_at = way.moved_to
        if landed_at is None or landed_at in addresses.LINK_LOCAL or visit.cable.laptop.reaching(landed_at):
            return
        way.end_elsewhere()
        visit.left_behind()
        self._write(way)
        visit.device.landed_at = landed_at
        if visit.device.errand:
            visit.go(transitions.Event.NOT_TAKEN)
            return
        self._stages.access.look_beside(landed_at, None, now)

    def next(self, now: float) -> Next:
        """Say what is set, how, and what stands against it."""
        visit, device = self._visit, self._visit.device
        target = device.target
        if target is None:
            begins = visit.suggested()
            enter = "No address is planned. Press e to enter one, beginning with {interface}."
            enter = enter if begins else "No address is planned. Press e to enter one."
            return Next(phrase(enter, interface=begins and begins.interface))
        match visit.phase:
            case Phase.PREPARING if visit.running and visit.running[0].done:
                return Next(phrase("Reading what it says of its settings."))
            case Phase.PREPARING:
                return Next(phrase("Checking that {ip} is free.", ip=target.interface.ip))
            case Phase.MAY_SET if not visit.may_set:
                failed = next(check.sentence for check in visit.checks() if not check.passed)
                return Next(phrase("{failed} Press e to change the plan.", failed=failed))
            case Phase.MAY_SET if not visit.has_laptop_address:
                where = target.interface.network
                return Next(phrase("No free laptop address found in {where}: press a and type one.", where=where))
            case Phase.MAY_SET if missing := self.lines(now)[1]:
                return Next(missing)
            case Phase.MAY_SET if visit.way and visit.way.enter_does:
                needs = visit.way.needs_laptop and visit.laptop_within is None
                does = phrase(visit.way.enter_does, target=target.interface)
                says_so = needs and not visit.cable.laptop.is_beside  # beside the adapter it changes nothing
                after_all = phrase("Press z to set it as planned after all.") if device.restores else ""
                does = (
                    phrase("Borrow {free_address} and {does}", free_address=visit.free_address, does=does)
                    if says_so
                    else begun(does)
                )
                return Next(after_all, f"{does}.")
            case Phase.MAY_KEEP:
                told = phrase("{ip} is set, but not saved.", ip=target.interface.ip)
                if missing := self._missing_to_keep(now):
                    return Next(phrase("{told} {missing} Press l to skip that.", told=told, missing=missing))
                return Next(
                    phrase("{told} Press l to skip saving.", told=told),
                    phrase("Save it ({keeps}).", keeps=table.keeps(device.kind)),
                )
            case Phase.KEEPING:
                return Next(phrase("Saving the address ({keeps}).", keeps=table.keeps(device.kind)))
            case Phase.NOT_SET if device.way:
                other = (
                    phrase("Press u for another {asked}.", asked=asked)
                    if (asked := self.asks_for) in (errors.Wants.LOG_IN, errors.Wants.COMMUNITY)
                    else ""
                )
                back = phrase("Press z to restore it as found.") if self.may_restore else ""
                return Next(together(device.way.because, other, back), phrase("Try again."))
            case Phase.SETTING if device.way:
                waits = device.way.waits_for
                return Next(hands=waits) if device.way.wants_power or not device.way.gives else Next(waits)
        return Next(phrase("Borrowing the address."))

    def result(self) -> str:
        """Say to what it was set, or is to be."""
        device = self._visit.device
        if device.was_taken and device.target:
            return str(device.target.interface)
        if self._visit.phase is Phase.NOT_SET:
            return phrase("not set yet")
        return phrase("to {interface}", interface=device.target.interface) if device.target else phrase("to be decided")


def ask_for(error: errors.BadInput) -> str:
    """Say what is missing to talk to a device, as what to press."""
    return _PRESS_U.get(error.code, error.message)


_PRESS_U: dict[str, str] = {
    errors.Wants.LINE: phrase("Its console is on a serial line: press u and name the line."),
    errors.Wants.COMMUNITY: phrase("Its SNMP agent asks for a community: press u and type it."),
    errors.Wants.LOG_IN: phrase("It asks for a log-in: press u and type the name, then the password."),
}
