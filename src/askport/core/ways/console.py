"""Console: the kind's lines over Telnet or SSH, followed to the new address, and kept there."""

from collections.abc import Mapping, Sequence
from enum import Enum, auto
from ipaddress import IPv4Address

from askport.core.channels import ChannelEvent, FarEnd, SerialLine, SshPort, TelnetPort
from askport.core.errors import BadInput
from askport.core.finding.tracking import Sighting
from askport.core.kinds.model import ConsoleWay, Kind, Line
from askport.core.kinds.placeholders import wrote_by
from askport.core.machine import Effect, earliest
from askport.core.ways.dialogue import Dialogue, Ended
from askport.core.ways.start import Start
from askport.core.ways.way import FOLLOW_S, Result, Way
from askport.core.wire import Heard

_BAUD = 9600
"""What serial consoles have unless their kind says otherwise."""


def far_end(by: ConsoleWay, at: IPv4Address | None, start: Start) -> FarEnd:
    """Return where a kind's console is: on a serial line, or with the device at an address.

    Raises:
        BadInput: which line it is was not said.
    """
    if by.over == "serial":
        if not start.line:
            raise BadInput("Its console is on a serial line: name that with --port, such as /dev/ttyUSB0.")
        bits, parity, stop = int(by.format[0]), by.format[1], int(by.format[2])
        return SerialLine(start.line, by.baud or _BAUD, bits, parity, stop)
    if at is None:
        raise BadInput("Its console is reached over the cable: name where the device is with --at.")
    port = start.port or by.at_port
    if by.over == "ssh":
        return SshPort(at, port, start.log_in.user, start.log_in.password)
    return TelnetPort(at, port)


class _Part(Enum):
    SETTING = auto()
    FOLLOWING = auto()
    KEEPING = auto()


class Console(Way):
    """Says the lines of its kind, sees the device move, and has it keep what was set."""

    name = "console"
    gives = True

    def __init__(self, start: Start, kind: Kind, by: ConsoleWay, values: Mapping[str, str]) -> None:
        """Begin to talk.

        Args:
            start: the device, its final settings, and what it is reached with.
            kind: its kind.
            by: the console of the kind.
            values: what the placeholders stand for.

        Raises:
            ValueError: it cannot be reached, before and after.
        """
        if start.laptop is None:
            raise ValueError("a console needs a laptop address from which it is followed")
        laptop, at = start.laptop, start.old
        super().__init__(
            start.mac,
            start.target,
            laptop_mac=start.laptop_mac,
            ours=[laptop.ip],
            now=start.now,
            was=at,
            landings=start.landings,
        )
        self._kind, self._by, self._at, self._start = kind, by, at, start
        self._values = {**values, **start.log_in.values}
        self.wrote = wrote_by(line.send for line in by.set)
        self._part = _Part.SETTING
        self._kept = self._looks = False
        self._follow_until = 0.0
        self._dialogue = self._talk(at, [*by.set, *self._after_set()], start.now)

    def _after_set(self) -> tuple[Line, ...]:
        """What is said in the same breath: a device that changes at its next start keeps first, and is restarted."""
        return (*self._by.keep, *self._by.restart) if self._by.takes_effect == "after restart" else ()

    def _talk(self, at: IPv4Address | None, lines: Sequence[Line], now: float) -> Dialogue:
        far = far_end(self._by, at, self._start)
        said = [*self._by.login, *lines]
        return Dialogue(far, said, self._values, refused=self._by.refused, now=now)

    @property
    def _where(self) -> str:
        return f"on {self._start.line}" if self._by.over == "serial" else f"at {self._at}"

    @property
    def permanent(self) -> bool | None:  # type: ignore[override]
        """Whether it lasts: by its kind, once it was told to keep it where that is needed."""
        match self._by.permanent:
            case "after keep":
                return self._kept
            case "yes":
                return True
            case "no":
                return False
        return None

    @property
    def moved_to(self) -> IPv4Address | None:
        """Where the device is now, if it has left its old address for another than the planned one."""
        return self._tracker.moved_to if self._part is _Part.FOLLOWING else None

    @property
    def waits_for(self) -> str:
        """What it waits for."""
        target = self.target.interface.ip
        match self._part:
            case _Part.SETTING:
                said = self._dialogue.unanswered
                return f"Said “{said}” on its console." if said else f"Talking to its console {self._where}."
            case _Part.FOLLOWING:
                return f"Waiting for it at {target}."
            case _Part.KEEPING:
                return f"It is at {target}. Having its console keep the address."

    def channel_event(self, event: ChannelEvent, now: float) -> None:
        """Go on with the dialogue."""
        self._dialogue.channel_event(event, now)
        self._go_on(now)

    def receive(self, heard: Heard) -> None:
        """See where the device is."""
        if not self.done:
            self._tracker.receive(heard)
            self._go_on(heard.at)

    def handle_timer(self, now: float) -> None:
        """Go on with the dialogue, and ask where the device is."""
        if self.done:
            return
        self._dialogue.handle_timer(now)
        self._tracker.handle_timer(now)
        self._go_on(now)
        if self._part is _Part.FOLLOWING and not self.done and now >= self._follow_until:
            self._not_come(now)

    def next_deadline(self) -> float | None:
        """Return when to go on."""
        if self.done:
            return None
        until = self._follow_until if self._part is _Part.FOLLOWING else None
        return earliest(self._dialogue.next_deadline(), self._tracker.next_deadline(), until)

    def poll(self) -> list[Effect]:
        """Return what is to be done now."""
        return [*super().poll(), *self._dialogue.poll()]

    def _go_on(self, now: float) -> None:
        if self._part is _Part.SETTING and self._dialogue.has_said_all and not self._looks:
            self._looks = True  # it may move before it answers
            self._tracker.look_from(now)
        if self._part is _Part.SETTING and (said := self._dialogue.said):
            self._note_lines(self._dialogue, now)
            self._was_set(said.ended, said.because, now)
        elif self._part is _Part.KEEPING and (said := self._dialogue.said):
            self._note_lines(self._dialogue, now)
            self._kept = said.ended is Ended.WELL
            lasts = "and was told to keep it" if self._kept else f"and was not told to keep it: {said.because}"
            self._finish(Result.TAKEN, f"It holds {self.target.interface}, {lasts}.", now)
        for seen in self._tracker.news():
            if self.done:
                return
            if seen.kind is Sighting.ARRIVED and self._part is _Part.FOLLOWING:
                self._arrived(now)
            elif seen.kind is Sighting.ARRIVED and self._part is _Part.SETTING and self._looks:
                self._note_lines(self._dialogue, now)
                self._dialogue.leave()
                self._arrived(now)
            elif seen.kind is Sighting.MOVED and self._part is _Part.FOLLOWING:
                self._note(f"It moved to {seen.address} instead of {self.target.interface.ip}.", seen.at)

    def _note_lines(self, dialogue: Dialogue, now: float) -> None:
        for spoken in dialogue.spoken[len(self._by.login) :]:
            self._note(f"“{spoken.text}”: {'acknowledged' if spoken.acknowledged else 'not acknowledged'}.", now)

    def _was_set(self, ended: Ended, because: str, now: float) -> None:
        lines = len(self._by.login) + len(self._by.set)
        spoken = self._dialogue.spoken
        sent_all = len(spoken) >= lines
        acknowledged = sum(each.acknowledged for each in spoken[len(self._by.login) :])
        if ended is Ended.UNREACHED:
            self._finish(Result.NO_ANSWER, f"Its console {self._where} does not open: {because}.", now)
        elif ended is Ended.REFUSED:
            self._finish(Result.REFUSED, f"Its console refused: {because}.", now)
        elif ended is Ended.WELL or sent_all:
            if ended is not Ended.WELL:
                self._note(f"After “{spoken[-1].text}” {because}: it may have moved with that.", now)
            self._kept = ended is Ended.WELL and bool(self._after_set()) and bool(self._by.keep)
            self._follow(now)
        else:
            last = f"“{spoken[-1].text}” was the last that was sent" if spoken else "nothing was sent"
            text = f"Its console was lost after {acknowledged} of {len(self._by.set)} lines: {because}; {last}."
            self._finish(Result.SENT if spoken[len(self._by.login) :] else Result.NO_ANSWER, text, now)

    def _follow(self, now: float) -> None:
        self._part, self._looks = _Part.FOLLOWING, True
        self._follow_until = now + FOLLOW_S + (self._kind.needs.boot_s or 0.0 if self._after_set() else 0.0)
        self._tracker.look_from(now)
        if self.target.interface.ip in self._tracker.seen:
            self._arrived(now)

    def _arrived(self, now: float) -> None:
        address = self.target.interface.ip
        came = f"moved: {self._at} to {address}" if self._at else f"came to {address}"
        self._note(f"It {came}, same MAC.", now)
        self._tracker.stop_looking()
        if self._by.permanent == "after keep" and not self._kept:
            self._part = _Part.KEEPING
            self._dialogue = self._talk(address, self._by.keep, now)
        else:
            self._finish(Result.TAKEN, f"It holds {self.target.interface}.", now)
