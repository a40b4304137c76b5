"""All stages of the way, by step."""

from askport.core.kinds.recognising import Fit
from askport.core.phrases import phrase
from askport.core.plan.working_order import WorkItem, clean_tag
from askport.core.register.entries import Named
from askport.core.visit.errand import Errand
from askport.core.visit.stages import find_stage, plug_stage, prove_stage, reach_stage, record_stage, set_stage, stage
from askport.core.visit.stages.access import Access
from askport.core.visit.steps import Step
from askport.core.visit.transitions import Event, may_go_back
from askport.core.visit.visit import Visit


class Stages:
    """The stages, and what leads from one back to another."""

    def __init__(self, visit: Visit) -> None:
        self._visit = visit
        self.access = Access(visit)
        self.find, self.reach = find_stage.Find(visit, self), reach_stage.Reach(visit, self)
        self.setting, self.prove = set_stage.Setting(visit, self), prove_stage.Prove(visit, self)
        self.record = record_stage.Record(visit, self)
        every = (plug_stage.Plug(visit, self), self.find, self.reach, self.setting, self.prove, self.record)
        self.by_step: dict[Step, stage.Stage] = {each.step: each for each in every}

    @property
    def now(self) -> stage.Stage:
        """The stage of the phase at hand."""
        return self.by_step[self._visit.phase.step]

    def take(self, work: WorkItem, now: float, *, is_meant: bool = True) -> None:
        """Mean another device of the job; what was heard on the cable stays.

        One that was taken already gets the other row with all its values: its tag, its address and all else.
        """
        visit, device = self._visit, self._visit.device
        was_set = device.was_taken
        device.mean(work, is_meant=is_meant)
        visit.cable.search.mean(work.mac, work.delivered.ip if work.delivered else None)
        if device.chosen is None:
            return
        device.decided = visit.cable.search.pointed_at = device.chosen.mac
        visit.write(Named(unit=device.unit, mac=device.chosen.mac, tag=work.tag))
        if may_go_back(visit.phase, Step.SET):
            if was_set:
                visit.see_again()
            device.way_name, device.restores, visit.trouble = None, False, None
            device.forget_proofs()
            self.setting.prepare(now)

    def run_errand(self, errand: Errand, now: float) -> None:
        """Take the device that was named, without finding it first, and go on with it as far as is wanted."""
        visit, device, said = self._visit, self._visit.device, errand.start
        device.errand, device.chosen, device.way_name = errand, errand.device(now), errand.way
        device.fits = [Fit(said.kind, phrase("by its name"), 0)] if said.kind else []
        if errand.ends is Step.PROVE:
            visit.go(Event.MOVED_AWAY)
            self.prove.offer_another(now)
        elif said.door:
            self.reach.over_ipv6(now)
        elif said.old and (visit.way is None or visit.way.needs_reach):
            self.reach.begin(said.old, None, now)
        else:
            self.setting.prepare(now)

    def name(self, tag: str, now: float) -> None:
        """Choose or change its tag: that of another row of the job brings all of that row.

        Raises:
            BadInput: the text is no tag.
        """
        tag = clean_tag(tag)
        row = self._visit.cable.around.row_of(tag)
        if row and row.tag != self._visit.device.work.tag:
            self.take(row, now)
        else:
            self._visit.name(tag)

    def look_again(self) -> None:
        """Find anew: what was found out is forgotten, and who is found may be another."""
        visit, cable = self._visit, self._visit.cable
        visit.device.look_again()
        visit.reached_from = cable.search.pointed_at = None
        cable.search.label_mac = visit.device.work.mac
        visit.go(Event.LOOKS_AGAIN if cable.link.up else Event.WAITS_FOR_LINK)

    @property
    def step_before(self) -> Step:
        """The step that going back leads to: reaching it is none where the laptop reaches it already."""
        steps, there = list(Step), self._visit.device.whereabouts
        before = steps[max(0, steps.index(self._visit.phase.step) - 1)]
        is_reached = there is not None and self._visit.cable.laptop.reaching(there) is not None
        return Step.FIND if before is Step.REACH and is_reached else before

    def go_back(self, step: Step, now: float) -> None:
        """Do a step again that was done before; what came after it is done anew."""
        visit, device = self._visit, self._visit.device
        if not may_go_back(visit.phase, step):
            return
        visit.trouble = None
        if device.was_taken and step is Step.SET:
            visit.see_again()
        there = device.whereabouts
        if step in (Step.PLUG, Step.FIND) or device.chosen is None:
            self.look_again()
        elif step is Step.REACH and there and not visit.cable.laptop.reaching(there):
            self.access.look_beside(there, None, now)
        elif step in (Step.REACH, Step.SET):
            self.setting.prepare(now)
        elif device.proofs or device.was_taken:
            self.prove.begin(now)

    def leave_out(self, now: float) -> None:
        """Go on without what the moment asks for: having it keep its address, or the proof by a power cycle."""
        self.setting.leave_unkept(now)
        self.prove.leave_out_power_cycle()
