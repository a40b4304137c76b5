"""Plug: the cable is in, and carries a signal or does not."""

from askport.core.phrases import phrase
from askport.core.visit.stages.stage import Next, Stage
from askport.core.visit.steps import Step


class Plug(Stage):
    """Waits for the link."""

    step = Step.PLUG

    def next(self, now: float) -> Next:
        """Say that the link is awaited, or has gone."""
        cable = self._visit.cable
        if cable.had_link:
            gone = phrase(
                "The link went down {now:.0f} s ago. Most devices send as they start.", now=now - cable.link.since
            )
            return Next(gone, hands=phrase("Put its power or the cable back."))
        return Next(
            hands=phrase("Plug the cable into {adapter} and give the device power.", adapter=cable.laptop.adapter)
        )

    def result(self) -> str:
        """Say whether there is a link."""
        cable = self._visit.cable
        return (
            phrase("{adapter}, link up", adapter=cable.laptop.adapter)
            if cable.link.up
            else phrase("{adapter}, no link", adapter=cable.laptop.adapter)
        )
