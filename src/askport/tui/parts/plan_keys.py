"""Saying at the cable what a device is to become: octet by octet where its values are shown, or as one line."""

from askport.core.plan.target import Target
from askport.core.visit.steps import Step
from askport.tui.desk import Desk
from askport.tui.questions import ask_plan


class PlanKeys:
    """Has values typed, and gives them to the session."""

    def __init__(self, desk: Desk) -> None:
        self._desk = desk

    def begin(self) -> None:
        """Change its new settings."""
        session = self._desk.workplace.run.session
        target = session.device.target
        target = target or (session.visit.suggested() if session.phase.step is Step.SET else None)
        if target and session.phase.step is Step.SET:
            self._desk.looking_at = None
            self._desk.octets.begin(target, lambda typed: session.visit.next_free(typed.interface))
            self._desk.draw()
        else:
            self.ask_whole_line()

    def take(self, target: Target) -> None:
        """Plan what was typed."""
        self._desk.act(lambda session, now: session.stages.setting.plan(target, now))

    def ask_whole_line(self) -> None:
        """Ask for the whole line."""
        self._desk.ask(ask_plan(self._desk.workplace.run.session))
