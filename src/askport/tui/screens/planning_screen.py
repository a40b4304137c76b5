"""Saying at the cable what a device is to become: octet by octet where its values are shown, or as one line."""

from collections.abc import Callable
from typing import Any

from askport.core.visit.session import Session
from askport.core.visit.steps import Step
from askport.tui.questions import ask_plan
from askport.tui.widgets.entry_line import EntryLine
from askport.tui.widgets.octets import OctetKeys
from askport.tui.workplace import Workplace


class PlanKeys:
    """Has values typed, and gives them to the session."""

    workplace: Workplace
    entry: EntryLine
    octets: OctetKeys
    looking_at: Step | None
    draw: Callable[[], None]
    _act: Callable[[Callable[[Session, float], Any]], None]

    def action_plan(self) -> None:
        """Change what the device is to become."""
        session = self.workplace.run.session
        target = session.device.target
        target = target or (session.visit.suggested() if session.phase.step is Step.SET else None)
        if target and session.phase.step is Step.SET:
            self.looking_at = None
            self.octets.begin(target, lambda typed: session.visit.next_free(typed.interface))
            self.draw()
        else:
            self.entry.ask(ask_plan(session))

    def on_octet_keys_changed(self, _: OctetKeys.Changed) -> None:
        """Draw what was typed."""
        self.draw()

    def on_octet_keys_taken(self, event: OctetKeys.Taken) -> None:
        """Plan what was typed."""
        self._act(lambda session, now: session.stages.setting.plan(event.target, now))

    def on_octet_keys_whole_line(self, _: OctetKeys.WholeLine) -> None:
        """Ask for the whole line."""
        self.entry.ask(ask_plan(self.workplace.run.session))
