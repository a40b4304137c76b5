"""Looking for the device: how loudly, which of several, and what it said."""

from askport.core.phrases import phrase
from askport.core.visit.steps import Phase
from askport.tui.desk import Desk
from askport.tui.screens.evidence_screen import EvidenceScreen


class FindKeys:
    """Gives the search what the technician wants of it."""

    def __init__(self, desk: Desk) -> None:
        self._desk = desk

    def accept(self) -> None:
        """Say that what runs a live network here is the device that is meant."""
        self._desk.act(lambda session, _: session.cable.search.accept())

    def decide(self, place: int) -> None:
        """Say which device of the job this is."""
        self._desk.act(lambda session, now: session.stages.find.decide(place, now))

    def louder(self) -> None:
        """Let the laptop ask more."""
        self._desk.act(lambda session, now: session.cable.search.louder(now))

    def quieter(self) -> None:
        """Send nothing more."""
        self._desk.act(lambda session, _: session.cable.finder.listen())

    def hold(self) -> None:
        """Hold the sweep, or go on with it."""
        self._desk.act(lambda session, now: session.cable.search.pause(now))

    def show_frames(self) -> None:
        """Show the frames behind what the device at hand said."""
        session = self._desk.workplace.run.session
        device = session.device.chosen or session.cable.search.candidate
        if device is None:
            self._desk.tell(phrase("No device heard yet."))
        else:
            live = session.cable.finder.device(device.mac) or device
            self._desk.view(EvidenceScreen(live, session.cable.around.maker(live.mac), self._desk.workplace.run.wire))

    def point(self, by: int) -> None:
        """Point at another device."""
        session = self._desk.workplace.run.session
        macs = [device.mac for device in session.cable.search.devices()]
        if session.phase is Phase.FINDING and session.cable.search.candidate and macs:
            here = macs.index(session.cable.search.candidate.mac)
            self._desk.act(lambda session, _: session.cable.search.point_at(macs[(here + by) % len(macs)]))

    def blink(self) -> None:
        """Have the device at hand show itself."""
        run = self._desk.workplace.run
        if run.session.stages.find.blink():
            run.wire.wake()
            self._desk.tell(phrase("Asked it to blink: look which one does. Up and Down point at another."))
