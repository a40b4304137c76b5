"""The rest of a crate like the first unit: the steps that go by themselves, on the screen of the job."""

from askport.core.crate.after_first import Crate, PowerCuts
from askport.core.errors import AskPortError
from askport.core.kinds.model import Kind
from askport.core.phrases import phrase
from askport.core.visit.session import Session
from askport.core.visit.stages.stage import Next
from askport.core.visit.steps import Phase
from askport.tui.desk import Desk
from askport.tui.question import Question


class CrateKeys:
    """Begins and ends a crate, and goes on with it."""

    def __init__(self, desk: Desk) -> None:
        self._desk = desk
        self.crate_of: Crate | None = None
        self.learned: Kind | None = None
        """What was kept of the unit at hand, which was set by hand."""

    def says(self, said: Next) -> Next:
        """Return the bottom line as it is within a crate."""
        run = self._desk.workplace.run
        return self.crate_of.says(run.session, said, run.wire.now()) if self.crate_of else said

    def question(self) -> Question:
        """Ask of which units the power is to be cut."""

        def use(session: Session, _: float, typed: str) -> None:
            self.crate_of = crate = Crate(session, PowerCuts.parse(typed), self.learned)
            self._desk.workplace.run.begin_crate(crate.like, crate.kind, crate.power_cuts.words)

        like = self._desk.workplace.run.session.device.work.tag
        return Question(
            phrase(
                "Repeat {like}'s settings for the rest. Power-cycle which units? (each, last, or 3 = every third)",
                like=like,
            ),
            "each",
            lambda typed: phrase(
                "Power cycle {words}; the records of the others say that it was not.",
                words=PowerCuts.parse(typed).words,
            ),
            use,
            replaces=True,
        )

    def begin_or_end(self) -> None:
        """Have the rest of the crate go like this unit, or end that."""
        if self.crate_of is None:
            self._desk.ask(self.question())
            return
        self.crate_of = None
        self._desk.draw()

    def go_on(self) -> None:
        """Do what goes by itself; called a few times a second."""
        crate, run = self.crate_of, self._desk.workplace.run
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
        run = self._desk.workplace.run
        return bool(run.work) and len(crate.rest(run.work, run.job.register.recorded_tags())) <= 1

    def take_next(self) -> None:
        """Go on to the next unit of the crate, or to the next device where that was the last."""
        crate, run, self.learned = self.crate_of, self._desk.workplace.run, None
        rest = crate.rest(run.work, run.job.register.recorded_tags()) if crate else []
        if crate and not rest and run.work:
            self.crate_of = None
            self._desk.tell(
                phrase("The crate ends here: no other device like {like} is planned and not recorded.", like=crate.like)
            )
        self._desk.hands.take_next()
        if crate and not run.work:  # without a plan, tags and addresses are counted on
            crate.number += 1
            if run.session.device.target is None:
                self._desk.tell(phrase("Its subnet has no address behind the last one: press e and name the next."))
        if crate and rest and run.item is not rest[0] and run.session.phase in (Phase.PLUGGING, Phase.FINDING):
            self._desk.hands.take_up(rest[0], is_meant=False)
        if crate and rest:
            crate.number += 1
