"""Record: the row is closed, and the laptop is given back."""

from askport.core.machine import GiveBack
from askport.core.register import writing
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
            self._take_calls()
            visit.write(Recorded(unit=device.unit, mac=device.chosen.mac, left_out=tuple(device.left_out)))
            visit.effects.append(GiveBack())
            visit.go(Event.RECORDS)

    def _take_calls(self) -> None:
        """Write down whom it has called by now, and answer for its gateway no more."""
        visit, device, calls = self._visit, self._visit.device, self._visit.device.calls
        if calls is None or device.chosen is None:
            return
        calls.stop()
        if not calls.called:
            return
        mac, unit = device.chosen.mac, device.unit
        left = writing.called(calls, unit=unit, mac=mac)
        visit.write(writing.proved(calls.outcome, unit=unit, mac=mac), left)
        device.as_left = device.as_left.then(left.as_left)

    def next(self, now: float) -> Next:
        """Say what is recorded and given back."""
        visit, tag = self._visit, self._visit.device.work.tag
        if visit.phase is Phase.RECORDED:
            return Next(f"{tag} is recorded and the laptop has its own settings back. On to the next one.")
        calls = visit.device.calls
        wrong = f"{calls.because} Correct it (b goes back), or: " if calls and calls.passed is False else ""
        borrowed = visit.cable.laptop.borrowed
        back = f", and give {listed(borrowed)} back" if borrowed else ""
        record = f"Record {tag}{back}." if not wrong else f"record {tag} as it is{back}."
        return Next(f"{wrong}{record}")

    def result(self) -> str:
        """Say whether it is recorded."""
        return "recorded" if self._visit.phase is Phase.RECORDED else ""
