"""Plug: the cable is in, and carries a signal or does not."""

from askport.core.visit.stages.stage import Next, Stage
from askport.core.visit.steps import Step


class Plug(Stage):
    """Waits for the link."""

    step = Step.PLUG

    def next(self, now: float) -> Next:
        """Say that the link is awaited, or has gone."""
        cable = self._visit.cable
        if cable.had_link:
            gone = f"The link went down {now - cable.link.since:.0f} s ago. Most devices send as they start."
            return Next(gone, hands="Put its power or the cable back.")
        return Next(hands=f"Plug the cable into {cable.laptop.adapter} and give the device power.")

    def result(self) -> str:
        """Say whether there is a link."""
        cable = self._visit.cable
        return f"{cable.laptop.adapter}, link up" if cable.link.up else f"{cable.laptop.adapter}, no link"
