"""A device's identification over Modbus/TCP, asked for once its port has opened (Modbus V1.1b3 section 6.21)."""

from ipaddress import IPv4Address
from math import inf

from askport.core import channels, script, text
from askport.core.finding.clues import Identity
from askport.core.formats import modbus, unreadable
from askport.core.phrases import phrase

_LONGEST_S = 3.0
_UNIT_S = 0.9
"""How long one unit may take to answer before another is asked."""
_MAX_QUESTIONS = 8
"""A device may say for ever that there is more."""
_SHOWN = (
    modbus.Part.VENDOR_NAME,
    modbus.Part.PRODUCT_NAME,
    modbus.Part.MODEL_NAME,
    modbus.Part.PRODUCT_CODE,
    modbus.Part.MAJOR_MINOR_REVISION,
)
_MAX_TEXT = 120


class AskingModbus(script.Script):
    """Asks for the regular parts of it, or for the basic ones where it has no more."""

    def __init__(self, at: IPv4Address, *, now: float, port: int = modbus.PORT_MODBUS) -> None:
        super().__init__(now=now)
        self.because = phrase("it did not answer in {longest_s:.0f} s", longest_s=_LONGEST_S)
        """Why there is no identity, as the end of a sentence."""
        self._device = script.Connection(self, channels.TcpPort(at, port), until=now + _LONGEST_S, silent=self.because)
        self._asked, self._parts = 0, dict[int, bytes]()
        self.handle_timer(now)

    @property
    def identity(self) -> Identity | None:
        """What it said, or None."""
        said = [text.display_text(self._parts[part], _MAX_TEXT) for part in _SHOWN if self._parts.get(part)]
        return Identity("modbus", text=" ".join(dict.fromkeys(filter(None, said)))[:_MAX_TEXT]) if said else None

    async def steps(self) -> None:
        try:
            async with self._device:
                for unit in modbus.UNITS:
                    if await self._read(unit):
                        break
        except script.Ended as ended:
            self.because = str(ended)

    async def _read(self, unit: int) -> bool:
        """Read all parts of one unit; say whether it is there."""
        code, part = modbus.ReadDevId.REGULAR, 0
        while True:
            self._asked += 1
            self._device.send(modbus.read_identification(self._asked, part, code, unit=unit))
            is_last = unit == modbus.UNITS[-1] or bool(self._parts)
            answer = await self._device.answer(self._take, inf if is_last else self.now + _UNIT_S)
            if answer is None:
                return False
            self.because = answer.refusal
            self._parts |= dict(answer.parts)
            if answer.exception and code is modbus.ReadDevId.REGULAR and not self._parts:
                if answer.exception in modbus.NO_SUCH_UNIT:
                    return False
                code = modbus.ReadDevId.BASIC  # a device need not have more
            elif answer.exception or answer.next_part is None or self._asked == _MAX_QUESTIONS:
                return True
            else:
                part = answer.next_part

    def _take(self, came: bytes) -> tuple[modbus.Identification | None, bytes]:
        """Take the answer to the last question off what came."""
        taken = modbus.take_identification(came)
        if isinstance(taken, unreadable.Unreadable):
            raise script.Ended(taken.reason)
        answer, rest = taken
        return self._take(rest) if answer and answer.transaction != self._asked else taken
