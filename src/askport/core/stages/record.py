"""Record: the row is closed, and the laptop is given back."""

from askport.core.machine import GiveBack
from askport.core.register.entries import Recorded
from askport.core.stages.stage import Next, Stage
from askport.core.steps import Phase, Step
from askport.core.transitions import Event
from askport.core.words import listed


class Record(Stage):
    """Closes the visit."""

    step = Step.RECORD

    def enter(self, now: float) -> None:
        """Record the device."""
        visit, device = self._visit, self._visit.device
        if visit.phase is Phase.MAY_RECORD and device.chosen:
            visit.write(Recorded(unit=device.unit, mac=device.chosen.mac, left_out=tuple(device.left_out)))
            visit.effects.append(GiveBack())
            visit.go(Event.RECORDS)

    def next(self, now: float) -> Next:
        """Say what is recorded and given back."""
        visit, tag = self._visit, self._visit.device.work.tag
        if visit.phase is Phase.RECORDED:
            return Next(f"{tag} is recorded and the laptop has its own settings back. On to the next one.")
        borrowed = visit.cable.laptop.borrowed
        back = f", and give {listed(borrowed)} back" if borrowed else ""
        return Next(f"Record {tag}{back}.")

    def result(self) -> str:
        """Say whether it is recorded."""
        return "recorded" if self._visit.phase is Phase.RECORDED else ""
