"""A device's identification over Modbus/TCP, asked for once its port has opened (Modbus V1.1b3 section 6.21)."""

from ipaddress import IPv4Address

from askport.core.channels import (
    Channel,
    ChannelEvent,
    CloseChannel,
    Closed,
    OpenChannel,
    Opened,
    Received,
    SendOn,
    TcpPort,
)
from askport.core.finding.clues import Identity
from askport.core.formats.modbus import (
    NO_SUCH_UNIT,
    PORT_MODBUS,
    UNITS,
    Part,
    ReadDevId,
    read_identification,
    take_identification,
)
from askport.core.formats.unreadable import Unreadable
from askport.core.machine import Machine
from askport.core.text import display_text

_LONGEST_S = 3.0
_UNIT_S = 0.9
"""How long one unit may take to answer before another is asked."""
_MAX_QUESTIONS = 8
"""A device may say for ever that there is more."""
_SHOWN = (Part.VENDOR_NAME, Part.PRODUCT_NAME, Part.MODEL_NAME, Part.PRODUCT_CODE, Part.MAJOR_MINOR_REVISION)
_MAX_TEXT = 120


class AskingModbus(Machine):
    """Asks for the regular parts of it, or for the basic ones where it has no more."""

    def __init__(self, at: IPv4Address, *, now: float, port: int = PORT_MODBUS) -> None:
        super().__init__()
        self._channel = Channel(TcpPort(at, port))
        self._code, self._part, self._asked, self._came = ReadDevId.REGULAR, 0, 0, b""
        self._over_at = now + _LONGEST_S
        self._units = iter(UNITS)
        self._unit, self._unit_until = next(self._units), now + _LONGEST_S
        self._parts: dict[int, bytes] = {}
        self._over = False
        self.because = f"it did not answer in {_LONGEST_S:.0f} s"
        """Why there is no identity, as the end of a sentence."""
        self._effects.append(OpenChannel(self._channel))

    @property
    def done(self) -> bool:
        return self._over

    @property
    def identity(self) -> Identity | None:
        """What it said, or None."""
        said = [display_text(self._parts[part], _MAX_TEXT) for part in _SHOWN if self._parts.get(part)]
        return Identity("modbus", text=" ".join(dict.fromkeys(filter(None, said)))[:_MAX_TEXT]) if said else None

    def channel_event(self, event: ChannelEvent, now: float) -> None:
        if event.channel is not self._channel or self._over:
            return
        match event:
            case Opened():
                self._ask(now)
            case Received(_, data):
                self._came += data
                self._read(now)
            case Closed(_, because):
                self.because = because or "it ended the connection"
                self._over = True

    def _ask(self, now: float) -> None:
        self._asked += 1
        self._unit_until = now + _UNIT_S
        request = read_identification(self._asked, self._part, self._code, unit=self._unit)
        self._effects.append(SendOn(self._channel, request))

    def _ask_another(self, now: float) -> bool:
        """Ask the next unit the same from the beginning; say whether there is one."""
        unit = next(self._units, None)
        if unit is None or self._parts:
            return False
        self._unit, self._code, self._part = unit, ReadDevId.REGULAR, 0
        self._ask(now)
        return True

    def _read(self, now: float) -> None:
        while not self._over:
            taken = take_identification(self._came)
            if isinstance(taken, Unreadable):
                self._end(taken.reason)
                return
            answer, self._came = taken
            if answer is None:
                return
            if answer.transaction != self._asked:
                continue
            self._parts |= dict(answer.parts)
            if answer.exception and self._code is ReadDevId.REGULAR and not self._parts:
                if answer.exception in NO_SUCH_UNIT:
                    if not self._ask_another(now):
                        self._end(answer.refusal)
                    continue
                self._code = ReadDevId.BASIC  # a device need not have more
                self._ask(now)
            elif answer.exception or answer.next_part is None or self._asked == _MAX_QUESTIONS:
                self._end(answer.refusal)
            else:
                self._part = answer.next_part
                self._ask(now)

    def _end(self, because: str) -> None:
        self._over, self.because = True, because
        self._effects.append(CloseChannel(self._channel))

    def handle_timer(self, now: float) -> None:
        if not self._over and now >= self._over_at:
            self._end(self.because)
        elif not self._over and now >= self._unit_until and not self._ask_another(now):
            self._unit_until = self._over_at

    def next_deadline(self) -> float | None:
        return None if self._over else min(self._over_at, self._unit_until)
