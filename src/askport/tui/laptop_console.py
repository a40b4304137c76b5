"""A console of the device at hand: where it is, and what a terminal of its own shows of it."""

import asyncio
import contextlib
from collections.abc import Callable
from typing import Any

import pyte
from rich.cells import cell_len

from askport.core.channels import FarEnd, SerialLine, SshPort, TelnetPort
from askport.core.kinds.model import ConsoleWay
from askport.core.lessons.console_lesson import Listening
from askport.core.phrases import phrase
from askport.core.visit.session import Session
from askport.edges.streams import TRANSPORTS
from askport.edges.transports.tcp_socket import Sockets, why
from askport.tui.ink import Ink
from askport.tui.laptop_watch import door_target

COLUMNS, ROWS = 80, 24
"""What devices take for granted."""
_CHUNK = 4096
_TELNET, _SSH = 23, 22


def console_of(session: Session) -> FarEnd | None:
    """Return where the device's console is: as its kind says, or an open port of Telnet or SSH; None for none."""
    kind, at = session.device.kind, door_target(session)
    way = kind.way_by("console") if kind else None
    if isinstance(way, ConsoleWay) and kind:
        line = session.cable.around.serial_lines.get(kind.name, "")
        if way.over == "serial":
            return SerialLine(line, way.baud or 9600) if line else None
        if at:
            port = way.port or (_TELNET if way.over == "telnet" else _SSH)
            return TelnetPort(at, port) if way.over == "telnet" else SshPort(at, port)
    if at and _TELNET in session.device.open_ports:
        return TelnetPort(at, _TELNET)
    return SshPort(at, _SSH) if at and _SSH in session.device.open_ports else None


class _Glass(pyte.Screen):
    """What the device has drawn; what it asks of a terminal is answered."""

    def __init__(self, answer: Callable[[bytes], None]) -> None:
        super().__init__(COLUMNS, ROWS)
        self._answer = answer

    def write_process_input(self, data: str) -> None:
        """Answer a question to the terminal, such as where its cursor is."""
        self._answer(data.encode())


class Terminal:
    """One connection to a console, as a terminal of 80 by 24, whose lines are listened to."""

    def __init__(self, over_cable: Sockets | None, far: FarEnd) -> None:
        self.far, self.over = far, ""
        self.listening = Listening(str(far))
        self.is_open = False
        self._over_cable = over_cable
        self._writer: Any = None
        self._glass = _Glass(self._write)
        self._stream = pyte.ByteStream(self._glass)

    @property
    def way(self) -> dict[str, Any]:
        """How it is reached, as a kind file says it."""
        match self.far:
            case SerialLine(baud=baud):
                return {"by": "console", "over": "serial", "baud": baud}
            case SshPort(port=port):
                return {"by": "console", "over": "ssh"} | ({"port": port} if port != _SSH else {})
        return {"by": "console", "over": "telnet"} | ({"port": self.far.port} if self.far.port != _TELNET else {})

    async def run(self, changed: Callable[[], object]) -> None:
        """Connect, and show what comes until it ends; ``over`` says how that was."""
        try:
            reader, self._writer = await TRANSPORTS[type(self.far)](self._over_cable, self.far)
        except (OSError, TimeoutError) as error:
            reason = why(error) if isinstance(error, OSError) else phrase("it does not answer")
            self.over = phrase("{far} does not open: {reason}.", far=self.far, reason=reason)
            changed()
            return
        self.is_open = True
        changed()
        self.over = phrase("The device ended the connection.")
        try:
            with contextlib.suppress(OSError):
                while data := await reader.read(_CHUNK):
                    self.listening.heard(data)
                    self._show(data)
                    changed()
        except asyncio.CancelledError:
            self.over = phrase("You ended the connection.")
            raise
        finally:
            self.is_open = False
            self._writer.close()
            changed()

    def _show(self, data: bytes) -> None:
        try:
            self._stream.feed(data)
        except (TypeError, ValueError, IndexError, KeyError, AttributeError):
            # A sequence that the terminal cannot take: what comes behind it is shown again.
            self._stream = pyte.ByteStream(self._glass)

    def type(self, data: bytes) -> None:
        """Send what was typed."""
        if self.is_open:
            self.listening.said(data)
            self._write(data)

    def _write(self, data: bytes) -> None:
        if self._writer:
            self._writer.write(data)

    def lines(self) -> list[Ink]:
        """Draw it."""
        cursor = self._glass.cursor
        drawn = []
        for row in range(ROWS):
            ink, cells = Ink(), self._glass.buffer[row]
            for column in range(COLUMNS):
                cell = cells[column]
                if not cell.data:
                    continue  # the second half of a wide character
                here = self.is_open and (row, column) == (cursor.y, cursor.x)
                style = " ".join(["reverse"] * (cell.reverse != here) + ["bold"] * cell.bold)
                ink.put(cell.data if cell_len(cell.data) else " ", style)
            drawn.append(ink)
        return drawn
