"""Goes through the units of a switch without anybody: side by side where each can have a place of its own.

Each unit at hand has a *lane*: a round of its own on the same cable, from its own place beside the adapter. The round
that was there before only listens on. Where the laptop borrows on its adapter there is one lane, which is that round.
"""

from collections.abc import Callable, Collection, Iterable
from dataclasses import replace
from functools import partial
from ipaddress import IPv4Address, IPv4Interface

from askport.core import errors, machine
from askport.core.addresses import MacAddress
from askport.core.crate.concerning import concerns
from askport.core.crate.cut_together import CutTogether, KeptUnit
from askport.core.crate.switch_crate import BY_ORDER, DOING, Do, Doing, SwitchCrate, Turn, Unattended, Unit
from askport.core.phrases import phrase
from askport.core.plan.working_order import WorkItem
from askport.core.proofs.measured import GatewayAsPlanned, MaskAsPlanned
from askport.core.proofs.proof import Proof
from askport.core.register.entries import DevicePlanned, Noted
from askport.core.visit import narrate, steps
from askport.core.visit.session import Session
from askport.edges import footing, job_run, shared_wire

MOST_LANES = 24
"""As many units as a small switch has ports."""


def _unmeasured(proofs: Iterable[Proof], gateway: IPv4Address | None) -> str:
    """Return why its mask was not measured, or its gateway where one is planned; nothing where they were."""
    measured = {MaskAsPlanned, GatewayAsPlanned} if gateway else {MaskAsPlanned}
    made = {type(each): each for each in proofs if type(each) in measured}
    why = [each.because for each in made.values() if each.passed is None]
    return next(iter(why), "" if made.keys() == measured else phrase("They were not measured."))


class Lane:
    """One unit at hand, with the round that goes through it."""

    def __init__(self, run: job_run.JobRun, view: shared_wire.WireView | None) -> None:
        self.run, self.view = run, view
        self.unit: Unit | None = None
        self.policy: Unattended | None = None
        self.gives_back = False
        self._may_be: set[IPv4Address] = set()

    @property
    def session(self) -> Session:
        """The unit's way through the job."""
        return self.run.session

    def begin(
        self, unit: Unit, may_be: set[IPv4Address], heard: tuple[IPv4Address, ...], others: Collection[MacAddress]
    ) -> None:
        """Take a unit, which may be at these addresses now; other units have lanes of their own."""
        self.unit, self._may_be, unit.turn = unit, may_be, Turn.AT_HAND
        if self.view:
            self.view.wants = partial(self._wants, frozenset(map(bytes, others)) - {bytes(unit.mac)})
        self.run.begin_with(unit.item)
        self.policy = Unattended(self.session, unit, self.run.wire.heard_until, heard=heard)

    def _wants(self, others: frozenset[bytes], frame: bytes) -> bool:
        """Whether a frame concerns this unit; while it is proven, only who claims its addresses or the laptop's does.

        What others say to the laptop beside that answers what was asked of everybody before, however late.
        """
        laptop, target = self.session.cable.laptop, self.session.device.target
        said_to = () if self.session.phase.step is steps.Step.PROVE else (laptop.borrows_as, *laptop.macs[:1])
        final = [target.interface.ip] if target else []
        return concerns(frame, others, said_to, [*final, *(each.ip for each in laptop.borrowed)])

    def collides(self, may_be: set[IPv4Address], target: set[IPv4Address]) -> bool:
        """Whether one of the two would come through an address of the other.

        Twins that are at one address are no hindrance: each is reached by its own MAC address, from a place of its own.
        """
        if self.unit is None and not self.gives_back:
            return False
        mine = self.session.device.target
        final = {mine.interface.ip} if mine else set()
        now = set() if self.session.device.was_taken else self._may_be
        return bool(final & (may_be | target) or target & now)

    @property
    def is_free(self) -> bool:
        """Whether it can take a unit; what it had borrowed for the last one was given back."""
        if self.gives_back:
            waits = self.session.cable.laptop.borrowed or self.session.visit.effects or not self.run.driver.is_idle
            self.gives_back = bool(waits)
        return self.unit is None and not self.gives_back

    def end(self) -> None:
        """Have no unit any more."""
        self.gives_back, self.unit, self.policy = True, None, None


class SwitchRun:
    """Called a few times a second, it does what is due; whoever calls it runs the cable."""

    def __init__(self, run: job_run.JobRun, crate: SwitchCrate, *, cuts_power: bool = True) -> None:
        """Begin with the first units, and write to the plan which MAC address has which tag.

        Args:
            cuts_power: whether the power of all is to be cut in the end.
        """
        self.run, self.crate, self._cuts_power = run, crate, cuts_power
        self._kept: list[KeptUnit] = []
        """What was recorded so far, for the power cycle of all."""
        self._candidates: list[IPv4Interface] = []
        crate.sees(run.session.cable.finder.devices())
        self.cut: CutTogether | None = None
        self._cut_seen = False
        self._plan()
        self.lanes = [] if run.may_go_side_by_side else [Lane(run, None)]
        self._asked = self._refused = 0
        self._shared: shared_wire.SharedWire | None = None
        self._together: shared_wire.SideBySide | None = None
        if run.may_go_side_by_side:
            self._shared, self._together = run.share()

    def _plan(self) -> None:
        """Write to the plan which MAC address has which tag; labels may come in while others are being set."""
        run, units = self.run, {each.item.tag: each for each in self.crate.units}
        macs, told, work = {each.mac for each in units.values()}, list[DevicePlanned](), list[WorkItem]()
        for item in run.work:
            unit = units.get(item.tag)
            mac, line = unit.mac if unit else None if item.mac in macs else item.mac, item.planned
            if line and line.mac != mac:
                line = line.model_copy(update={"mac": mac})
                told.append(DevicePlanned(device=line))
            work.append(replace(item, mac=mac, planned=line))
            if unit:
                unit.item = work[-1]
        run.work = work
        run.job.append_all(told, run.wire.wall(run.wire.now()))

    @property
    def at_hand(self) -> list[Lane]:
        """The lanes that have a unit, in the order in which they took them."""
        return [each for each in self.lanes if each.unit]

    @property
    def is_over(self) -> bool:
        """Whether every unit had its turn, the power cycle of all included, and the laptop was given back."""
        had_turns = all(each.is_free for each in self.lanes) and not self.crate.waiting
        return had_turns and (self._cut_seen if self.cut else not self._kept)

    @property
    def sentence(self) -> str:
        """Say what is done now."""
        if self.cut:
            return self.crate.sentence if self._cut_seen else self.cut.sentence
        lanes = self.at_hand
        if len(lanes) > 1:
            waiting = len(self.crate.waiting)
            said = "{count} units side by side, {waiting} to come; {done}."
            said = said if waiting else "{count} units side by side; {done}."
            return phrase(said, count=len(lanes), waiting=waiting, done=self.crate.count_words)
        if lanes and lanes[0].unit:
            return f"{lanes[0].unit.item.tag}: {narrate.next_line(lanes[0].session, self.run.wire.now()).sentence}"
        return self.crate.sentence

    def in_cut(self) -> dict[str, str]:
        """Say of each unit, by its tag, where it stands in the power cycle of all."""
        return {each.tag: each.words for each in self.cut.units} if self.cut else {}

    @property
    def said(self) -> list[str]:
        """Say in few words, which change only where a step is over, where each unit at hand is."""
        told = [f"{each.unit.item.tag}: {each.session.phase.step}" for each in self.at_hand if each.unit]
        return told or [self.sentence]

    def step(self) -> None:
        """Do what is due now."""
        if self.cut:
            self._see_cut(self.cut)
            return
        for lane in self.lanes:
            if lane.unit and lane.policy:
                self._go_on(lane, lane.policy)
        self._take_units()
        if self._kept and not self.crate.waiting and all(each.is_free for each in self.lanes):
            self._begin_cut(self.run.wire.now())

    def _go_on(self, lane: Lane, policy: Unattended) -> None:
        """Do what is due about one unit."""
        session, now = lane.session, self.run.wire.now()
        if lane.unit:
            lane.unit.note(DOING[session.phase.step], now)
        does, trouble = policy.does(self.run.wire.heard_until), session.visit.trouble
        try:
            if trouble and trouble.code == footing.ADAPTER_TAKEN:
                self._let_go(lane)
                self._end(lane, Turn.WAITS, "")
            elif lane.view and lane.view.trouble:
                trouble, lane.view.trouble = lane.view.trouble, None
                self._leave(lane, trouble.message)
            elif session.phase is steps.Phase.RECORDED:
                self._end(lane, Turn.RECORDED, "")
            elif does is Do.ENTER:
                self._keep(lane, now)
                session.enter(now)
            elif does is Do.LOUDER:
                session.cable.search.louder(now)
            elif does is Do.LEAVE_OUT:
                session.stages.leave_out(now)
            elif does is Do.LEAVE:
                self._leave(lane, policy.because)
        except errors.AskPortError as error:
            self._leave(lane, error.message)
        self.run.wire.wake()

    def _take_units(self) -> None:
        """Have free lanes take the next units, and never one that would pass through the address of another."""
        self._plan()
        # Once one stands on the adapter, where an address means one unit at a time, they go one after the other.
        on_adapter = [each for each in self.lanes if not each.run.may_go_side_by_side]
        lanes = on_adapter[:1] or self.lanes
        if on_adapter and not all(each.is_free for each in self.lanes):
            return
        for unit in self.crate.waiting:
            may_be = self._may_be(unit)
            target = {unit.item.target.interface.ip} if unit.item.target else set()
            if any(each.collides(may_be, target) for each in self.lanes):
                continue
            lane = next((each for each in lanes if each.is_free), None)
            if lane is None:
                if not on_adapter:
                    self._ask_for_lanes(len(self.crate.waiting))
                return
            lane.run.work = self.run.work
            others = [each.mac for each in self.crate.units]
            lane.begin(unit, may_be, tuple(self.crate.heard.get(unit.mac, ())), others)

    def _may_be(self, unit: Unit) -> set[IPv4Address]:
        """Return where a unit may be: heard there, or by its kind, its visits and its plan."""
        delivered = {unit.item.delivered.ip} if unit.item.delivered else set()
        return {*self.crate.heard.get(unit.mac, ()), *self.run.session.visit.likely_of(unit.mac), *delivered}

    def _ask_for_lanes(self, wanted: int) -> None:
        """Have more lanes made, which takes a moment."""
        shared, together = self._shared, self._together
        if shared is None or together is None or self._asked:
            return
        self._asked = min(wanted, MOST_LANES - len(self.lanes))

        async def make() -> tuple[shared_wire.WireView, Callable[[], shared_wire.Runs]] | None:
            view = shared.view()
            try:
                run = await self.run.lane(view)
            except errors.AskPortError as error:
                self._refused += 1
                if self._refused == self._asked and not self.lanes:
                    for unit in self.crate.waiting:
                        unit.turn, unit.because = Turn.LEFT, error.message
                return None  # those that there are do it all
            self._asked -= 1
            self.lanes.append(Lane(run, view))
            return view, lambda: run.driver

        for _ in range(self._asked):
            together.add(make)

    def _keep(self, lane: Lane, now: float) -> None:
        """Remember who is recorded now, for the power cycle of all."""
        session, prove = lane.session, lane.session.stages.prove
        subject = session.visit.subject()
        if self._cuts_power and session.phase is steps.Phase.MAY_RECORD and subject and lane.unit:
            start = session.stages.setting.own_word.start_at(subject.at.ip, now)
            kept = KeptUnit(
                unit=session.device.unit, tag=lane.unit.item.tag, terms=prove.terms(subject), start=start,
                left_out=session.device.left_out,
            )  # fmt: skip
            self._kept.append(kept)
            self._candidates = session.stages.access.site_candidates(subject.at)

    def _begin_cut(self, now: float) -> None:
        """Have the power of all cut at once: of those in the subnet of the last."""
        subnet, laptop = self._kept[-1].at.network, self.run.session.cable.laptop
        units = [each for each in self._kept if each.at.network == subnet]
        own = laptop.reaching(self._kept[-1].at.ip)
        self.cut = CutTogether(units, self._candidates, laptop_mac=laptop.borrows_as, borrowed=own, now=now)
        self.run.aside(self.cut)

    def _see_cut(self, cut: CutTogether) -> None:
        for each in cut.units:
            unit = next(unit for unit in self.crate.units if unit.item.tag == each.tag)
            if each.ended:
                unit.turn, unit.because = (Turn.RECORDED if each.because else Turn.PROVEN), each.because
                again = each.course.again if each.course else []
                unit.unmeasured = unit.unmeasured or (again and _unmeasured(again, each.terms.expected.gateway)) or ""
        self._cut_seen = cut.done
        self.run.wire.wake()

    def _leave(self, lane: Lane, because: str) -> None:
        """Go on from a unit that cannot be finished; what was written of it so far stays."""
        self._let_go(lane)
        self._end(lane, Turn.LEFT, because)

    def _let_go(self, lane: Lane) -> None:
        session = lane.session
        session.visit.drop()
        session.visit.effects.append(machine.GiveBack())
        session.cable.finder.listen()

    def _end(self, lane: Lane, turn: Turn, because: str) -> None:
        self.crate.sees(lane.session.cable.finder.devices())
        device, unit = lane.session.device, lane.unit
        if unit and turn is Turn.RECORDED and unit.by == BY_ORDER and device.chosen:
            text = phrase("Its tag comes from the order of MAC addresses alone: check which unit hangs where.")
            noted = Noted(unit=device.unit, mac=device.chosen.mac, text=text)
            self.run.job.append(noted, self.run.wire.wall(self.run.wire.now()))
        if unit:
            unit.turn, unit.because = turn, because
            if turn in (Turn.RECORDED, Turn.LEFT):
                unit.note(Doing.RECORDED if turn is Turn.RECORDED else Doing.LEFT, self.run.wire.now())
        if unit and turn is not Turn.WAITS:
            self.run.went_through(unit.item)
            unit.unmeasured = _unmeasured(device.proofs, device.target.gateway if device.target else None)
        lane.end()

    def stop(self) -> None:
        """Leave the units at hand, and do none of the others."""
        for unit in self.crate.waiting:
            unit.turn, unit.because = Turn.LEFT, phrase("It was stopped before.")
        for lane in self.at_hand:
            self._leave(lane, phrase("It was stopped."))
        if self.cut:
            self.cut.leave_out()
