"""Record: the row is closed, and the laptop is given back."""

from askport.core import machine
from askport.core.finding.device import Device
from askport.core.phrases import listed, phrase, together
from askport.core.register.entries import Left, Recorded
from askport.core.visit import steps, transitions
from askport.core.visit.stages.stage import Next, Stage


class Record(Stage):
    """Closes the visit."""

    step = steps.Step.RECORD

    def enter(self, now: float) -> None:
        """Record the device."""
        visit, device = self._visit, self._visit.device
        if visit.phase is steps.Phase.MAY_RECORD and device.chosen:
            self.write_down(device.chosen)
            visit.effects.append(machine.GiveBack())
            visit.go(transitions.Event.RECORDS)

    def write_down(self, chosen: Device) -> None:
        """Close the visit in the journal, whatever it has come to."""
        visit, device = self._visit, self._visit.device
        said = device.course.last_words(device.unit) if device.course else []
        visit.write(*said)
        for each in said:
            if isinstance(each, Left):
                device.as_left = device.as_left.then(each.as_left)
        live = visit.cable.finder.device(chosen.mac) or chosen
        visit.write(Recorded(unit=device.unit, mac=live.mac, left_out=tuple(device.left_out), ipv6=live.ipv6))

    def next(self, now: float) -> Next:
        """Say what is recorded and given back."""
        visit, tag = self._visit, self._visit.device.work.tag
        if visit.phase is steps.Phase.RECORDED:
            done = "{tag} is recorded and the laptop has its own settings back."
            done = "{tag} is recorded." if visit.cable.laptop.is_beside else done
            return Next(phrase(done, tag=tag), phrase("Go on to the next device."))
        failed = visit.device.course.wrong if visit.device.course else None
        wrong = phrase("{because} Press b to go back and correct it.", because=failed.because) if failed else ""
        borrowed = visit.cable.laptop.borrowed
        what = phrase("{tag} with this fault" if failed else "{tag}", tag=tag)
        gives = borrowed and not visit.cable.laptop.is_beside
        record = "Record {what}, and give {borrowed} back." if gives else "Record {what}."
        watch = visit.device.course.watch if visit.device.course else None
        left_s = watch.left_s(now) if watch else 0.0
        watched = (
            phrase("Watching for {left_s:.0f} s more: some devices fall back later.", left_s=left_s)
            if left_s >= 1.0
            else ""
        )
        return Next(together(wrong, watched), phrase(record, what=what, borrowed=listed(borrowed)))

    def result(self) -> str:
        """Say whether it is recorded."""
        return phrase("recorded") if self._visit.phase is steps.Phase.RECORDED else ""
