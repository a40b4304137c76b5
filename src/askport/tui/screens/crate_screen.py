"""The rest of a crate like the first unit: the steps that go by themselves, on the screen of the job."""

from textual.app import App

from askport.core.crate.after_first import Crate, PowerCuts
from askport.core.errors import AskPortError
from askport.core.kinds.model import Kind
from askport.core.register.entries import CrateBegun
from askport.core.visit.session import Session
from askport.core.visit.stages.stage import Next
from askport.core.visit.steps import Phase
from askport.tui.questions import Question
from askport.tui.screens.hands_screen import PracticeHands
from askport.tui.screens.switch_screen import SwitchScreen
from askport.tui.widgets.entry_line import EntryLine


class CrateKeys(PracticeHands):
    """Begins and ends a crate, and goes on with it."""

    app: App[None]
    entry: EntryLine
    crate_of: Crate | None = None
    learned: Kind | None = None
    """What was kept of the unit at hand, which was set by hand."""

    def crate_says(self, said: Next) -> Next:
        """Return the bottom line as it is within a crate."""
        run = self.workplace.run
        return self.crate_of.says(run.session, said, run.wire.now()) if self.crate_of else said

    def ask_crate(self) -> Question:
        """Ask of which units the power is to be cut."""

        def use(session: Session, now: float, typed: str) -> None:
            self.crate_of = crate = Crate(session, PowerCuts.parse(typed), self.learned)
            entry = CrateBegun(like=crate.like, kind_name=crate.kind, power_cuts=crate.power_cuts.words)
            self.workplace.run.job.append(entry, self.workplace.run.wire.wall(now))

        like = self.workplace.run.session.device.work.tag
        return Question(
            f"The rest like {like}. Of which units is the power to be cut: each, last, or of every how many?",
            "each",
            lambda typed: f"The power is cut {PowerCuts.parse(typed).words}; the record of the others says so.",
            use,
            replaces=True,
        )

    def action_crate(self) -> None:
        """Have the rest of the crate go like this unit, or end that."""
        if self.crate_of is None:
            self.entry.ask(self.ask_crate())
            return
        self.crate_of = None
        self.draw()

    def action_blink(self) -> None:
        """Have the device at hand show itself."""
        run = self.workplace.run
        if run.session.stages.find.blink():
            run.wire.wake()
            self.tell("Asked it to blink: look which one does. Up and Down point at another.")

    def action_switch(self) -> None:
        """Set and prove all that hang on one switch."""
        self.app.push_screen(SwitchScreen(self.workplace, self.take_next))

    def go_on_in_crate(self) -> None:
        """Do what goes by itself; called a few times a second."""
        crate, run = self.crate_of, self.workplace.run
        if crate is None:
            return
        session, now = run.session, run.wire.now()
        try:
            if crate.goes_on(session, now):
                session.enter(now)
            elif crate.leaves_out(session, is_last=self._is_last(crate)):
                session.stages.leave_out(now)
            else:
                return
        except AskPortError as error:
            session.visit.trouble = error
        run.wire.wake()

    def _is_last(self, crate: Crate) -> bool:
        run = self.workplace.run
        return bool(run.work) and len(crate.rest(run.work, run.job.register.recorded_tags())) <= 1

    def take_next(self) -> None:
        """Go on to the next unit of the crate, or to the next device where that was the last."""
        crate, run, self.learned = self.crate_of, self.workplace.run, None
        rest = crate.rest(run.work, run.job.register.recorded_tags()) if crate else []
        if crate and not rest and run.work:
            self.crate_of = None
            self.tell(f"The crate ends here: no other device like {crate.like} is planned and not recorded.")
        super().take_next()
        if crate and not run.work:  # without a plan, tags and addresses are counted on
            crate.number += 1
            if run.session.device.target is None:
                self.crate_of = None
                self.tell(f"The crate ends here: behind {crate.like}'s address its subnet has no other. e names one.")
        if crate and rest and run.item is not rest[0] and run.session.phase in (Phase.PLUGGING, Phase.FINDING):
            self.take_up(rest[0], is_meant=False)
        if crate and rest:
            crate.number += 1
