"""Goes through the units of a switch one after the other, without anybody."""

from ipaddress import IPv4Interface

from askport.core.crate.cut_together import CutTogether, KeptUnit
from askport.core.crate.switch_crate import BY_ORDER, Do, SwitchCrate, Turn, Unattended, Unit
from askport.core.errors import AskPortError
from askport.core.machine import GiveBack
from askport.core.register.entries import DevicePlanned, Noted
from askport.core.visit.narrate import next_line
from askport.core.visit.steps import Phase
from askport.edges.job_run import JobRun


class SwitchRun:
    """Called a few times a second, it does what is due; whoever calls it runs the cable."""

    def __init__(self, run: JobRun, crate: SwitchCrate, *, cuts_power: bool = True) -> None:
        """Begin with the first unit, and write to the plan which MAC address has which tag.

        Args:
            run: the round.
            crate: who is who.
            cuts_power: whether the power of all is to be cut in the end.
        """
        self.run, self.crate, self._cuts_power = run, crate, cuts_power
        self.at_hand: Unit | None = None
        self._policy: Unattended | None = None
        self._gives_back = False
        self._kept: list[KeptUnit] = []
        """What was recorded so far, for the power cut of all."""
        self._candidates: list[IPv4Interface] = []
        crate.sees(run.session.cable.finder.devices())
        self.cut: CutTogether | None = None
        self._cut_seen = False
        self._planned = 0
        self._plan()

    def _plan(self) -> None:
        """Write to the plan which MAC address has which tag; labels may come in while others are being set."""
        run, units = self.run, self.crate.units[self._planned :]
        self._planned = len(self.crate.units)
        run.work = [next((u.item for u in units if u.item.tag == item.tag), item) for item in run.work]
        lines = [(unit.item.planned, unit.mac) for unit in units if unit.item.planned]
        told = [DevicePlanned(device=line.model_copy(update={"mac": mac})) for line, mac in lines if line.mac != mac]
        run.job.append_all(told, run.wire.wall(run.wire.now()))

    @property
    def is_over(self) -> bool:
        """Whether every unit had its turn, the power cut of all included, and the laptop was given back."""
        had_turns = self.at_hand is None and self.crate.next_unit() is None and not self._gives_back
        return had_turns and (self._cut_seen if self.cut else not self._kept)

    @property
    def sentence(self) -> str:
        """Say what is done now."""
        if self.cut:
            return self.crate.sentence if self.cut.done else self.cut.sentence
        if self.at_hand is None:
            return self.crate.sentence
        return f"{self.at_hand.item.tag}: {next_line(self.run.session, self.run.wire.now()).sentence}"

    def in_cut(self) -> dict[str, str]:
        """Say of each unit, by its tag, where it stands in the power cut of all."""
        return {each.tag: each.words for each in self.cut.units} if self.cut else {}

    @property
    def said(self) -> str:
        """The same in fewer words, which change only where a step is over."""
        step = self.run.session.phase.step
        return f"{self.at_hand.item.tag}: {step}" if self.at_hand else self.sentence

    def step(self) -> None:
        """Do what is due now."""
        session, now = self.run.session, self.run.wire.now()
        if self._gives_back:
            if session.cable.laptop.borrowed or session.visit.effects or not self.run.driver.is_idle:
                return
            self._gives_back = False
        if self.cut:
            self._see_cut(self.cut)
            return
        if self.at_hand is None or self._policy is None:
            self._begin(now)
            return
        does = self._policy.does(now)
        try:
            if session.phase is Phase.RECORDED:
                self._end(Turn.RECORDED, "")
            elif does is Do.ENTER:
                self._keep(now)
                session.enter(now)
            elif does is Do.LOUDER:
                session.cable.search.louder(now)
            elif does is Do.LEAVE_OUT:
                session.stages.leave_out(now)
            elif does is Do.LEAVE:
                self._leave(self._policy.because)
        except AskPortError as error:
            self._leave(error.message)
        self.run.wire.wake()

    def _begin(self, now: float) -> None:
        self._plan()
        unit = self.crate.next_unit()
        if unit is None:
            if self._kept:
                self._begin_cut(now)
            return
        self.at_hand, unit.turn = unit, Turn.AT_HAND
        self.run.begin_with(unit.item)
        self._policy = Unattended(self.run.session, unit, now, heard=self.crate.heard.get(unit.mac, ()))

    def _keep(self, now: float) -> None:
        """Remember who is recorded now, for the power cut of all."""
        session, prove = self.run.session, self.run.session.stages.prove
        subject = session.visit.subject()
        if self._cuts_power and session.phase is Phase.MAY_RECORD and subject and self.at_hand:
            start = session.stages.setting.own_word.start_at(subject.at.ip, now)
            kept = KeptUnit(
                unit=session.device.unit, tag=self.at_hand.item.tag, terms=prove.terms(subject), start=start,
                left_out=session.device.left_out,
            )  # fmt: skip
            self._kept.append(kept)
            self._candidates = session.stages.access.site_candidates(subject.at)

    def _begin_cut(self, now: float) -> None:
        """Have the power of all cut at once: of those in the subnet of the last."""
        subnet, laptop = self._kept[-1].at.network, self.run.session.cable.laptop
        units = [each for each in self._kept if each.at.network == subnet]
        own = laptop.reaching(self._kept[-1].at.ip)
        self.cut = CutTogether(units, self._candidates, borrowed=own, now=now)
        self.run.aside(self.cut)

    def _see_cut(self, cut: CutTogether) -> None:
        for each in cut.units:
            unit = next(unit for unit in self.crate.units if unit.item.tag == each.tag)
            if each.ended:
                unit.turn, unit.because = (Turn.RECORDED if each.because else Turn.PROVEN), each.because
        self._cut_seen = cut.done
        self.run.wire.wake()

    def _leave(self, because: str) -> None:
        """Go on from a unit that cannot be finished; what was written of it so far stays."""
        session = self.run.session
        session.visit.drop()
        session.visit.effects.append(GiveBack())
        session.cable.finder.listen()
        self._end(Turn.LEFT, because)

    def _end(self, turn: Turn, because: str) -> None:
        self._gives_back = True
        self.crate.sees(self.run.session.cable.finder.devices())
        device = self.run.session.device
        if self.at_hand and turn is Turn.RECORDED and self.at_hand.by == BY_ORDER and device.chosen:
            text = "Its tag comes from the order of MAC addresses alone: check which unit hangs where."
            noted = Noted(unit=device.unit, mac=device.chosen.mac, text=text)
            self.run.job.append(noted, self.run.wire.wall(self.run.wire.now()))
        if self.at_hand:
            self.at_hand.turn, self.at_hand.because = turn, because
        self.at_hand = self._policy = None

    def stop(self) -> None:
        """Leave the unit at hand, and do none of the others."""
        for unit in self.crate.units:
            if unit.turn is Turn.WAITS:
                unit.turn, unit.because = Turn.LEFT, "It was stopped before."
        if self.at_hand:
            self._leave("It was stopped.")
        if self.cut:
            self.cut.leave_out()
