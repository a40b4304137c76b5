"""Console: the kind's lines over Telnet, SSH or serial, followed to the new address, and kept there."""

from collections.abc import Mapping, Sequence
from dataclasses import replace
from ipaddress import IPv4Address

from askport.core import addresses, channels, errors
from askport.core.kinds.model import ConsoleWay, Kind, Line
from askport.core.phrases import phrase
from askport.core.ways import conversation, dialogue, talking
from askport.core.ways.start import Start

_BAUD = 9600
"""What serial consoles have unless their kind says otherwise."""


def far_end(by: ConsoleWay, at: addresses.Address | None, start: Start) -> channels.FarEnd:
    """Return where a kind's console is: on a serial line, or with the device at an address.

    Raises:
        BadInput: which line it is was not said.
    """
    if by.over == "serial":
        if not start.line:
            raise errors.BadInput(
                "Its console is on a serial line: name that with --port, such as /dev/ttyUSB0.", code=errors.Wants.LINE
            )
        bits, parity, stop = int(by.format[0]), by.format[1], int(by.format[2])
        return channels.SerialLine(start.line, by.baud or _BAUD, bits, parity, stop)
    if at is None:
        raise errors.BadInput("Its console is reached over the cable: name where the device is with --at.")
    port = start.port or by.at_port
    if by.over == "ssh":
        return channels.SshPort(at, port, start.log_in.user, start.log_in.password)
    return channels.TelnetPort(at, port)


def read_console(by: ConsoleWay, start: Start) -> dialogue.Dialogue | None:
    """Return what reads its settings on its console, or None where its kind does not say how.

    Raises:
        BadInput: what it is entered with was not given.
    """
    if not by.read:
        return None
    lines, values = [*by.login, *by.read], start.log_in.values
    dialogue.shown_lines(lines, values)  # what is missing is said before anything is sent
    return dialogue.Dialogue(far_end(by, start.talks_at, start), lines, values, refused=by.refused, now=start.now)


class Console(talking.Talking):
    """Says the lines of its kind, sees the device move, and has it keep what was set."""

    name = "console"
    what = "console"

    def __init__(self, start: Start, kind: Kind, by: ConsoleWay, values: Mapping[str, str]) -> None:
        """Begin to talk; ``values`` is what the placeholders stand for.

        Raises:
            ValueError: it cannot be reached, before and after.
        """
        self._console, self._values = by, {**values, **start.log_in.values}
        super().__init__(start, kind, by, [line.send for line in by.set])

    def _set(self) -> conversation.Conversation:
        by = self._console
        # In the same breath: a device that changes at its next start keeps first, and is restarted.
        after = (*by.keep, *by.restart) if by.takes_effect == "after restart" else ()
        return self._talk(self._at, [*by.set, *after], self._start.now)

    def _talk(self, at: IPv4Address | None, lines: Sequence[Line], now: float) -> dialogue.Dialogue:
        far, by = far_end(self._console, self._start.door or at, self._start), self._console
        return dialogue.Dialogue(far, [*by.login, *lines], self._values, refused=by.refused, now=now)

    def _read(self, now: float) -> conversation.Conversation | None:
        return read_console(self._console, replace(self._start, now=now))

    @property
    def _where(self) -> str:
        return phrase("on {line}", line=self._start.line) if self._console.over == "serial" else super()._where

    @property
    def _restarts(self) -> bool:
        return self._console.takes_effect == "after restart" and bool(self._console.restart)

    def _follow(self, ended: conversation.Ended, now: float) -> None:
        by, spoken = self._console, self._conversation.spoken
        acknowledged = sum(each.acknowledged for each in spoken)
        kept_with = by.takes_effect == "after restart" and bool(by.keep)
        self._kept = kept_with and acknowledged >= self._sets_until + len(by.keep)
        super()._follow(ended, now)

    def _keep(self, now: float) -> conversation.Conversation | None:
        if self._by.permanent != "after keep" or self._kept:
            return None
        return self._talk(self.target.interface.ip, self._console.keep, now)
