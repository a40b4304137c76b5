"""Line consoles of stand-ins: a log-in where there is one, a prompt, and a few verbs."""

from collections.abc import Callable
from ipaddress import AddressValueError, IPv4Address, IPv4Interface, NetmaskValueError

from askport.bench.stand_in import Settings, StandIn

_MAX_LINE = 200


class LineConsole:
    """One conversation; what a verb does is the device's."""

    over = False

    def __init__(
        self, title: str, prompt: str, verbs: "Callable[[str], str | None]", *, log_in: tuple[str, str] | None = None
    ) -> None:
        """Begin.

        Args:
            verbs: takes a line and returns the answer, or None where it ends the conversation.
            log_in: name and password, where it asks for them.
        """
        self._title, self._prompt, self._verbs, self._log_in = title, prompt, verbs, log_in
        self._asked: list[str] = []
        self._line = b""

    def greets(self) -> bytes:
        """Return the title and the first question."""
        first = "login: " if self._log_in else self._prompt
        return f"{self._title}\r\n{first}".encode()

    def receives(self, data: bytes, now: float) -> bytes:
        """Take what is typed; echo it, but no password."""
        said = b""
        for byte in data:
            hidden = self._log_in and len(self._asked) == 1
            if byte not in b"\r\n":
                self._line = (self._line + bytes((byte,)))[-_MAX_LINE:]
                said += b"" if hidden else bytes((byte,))
            elif byte == 13:
                line, self._line = self._line.decode("utf-8", "replace"), b""
                said += b"\r\n" + self._answer(line.strip()).encode()
        return said

    def _answer(self, line: str) -> str:
        if self._log_in and len(self._asked) < 2:
            self._asked.append(line)
            if len(self._asked) == 1:
                return "password: "
            if tuple(self._asked) != self._log_in:
                self.over = True
                return "refused: log-in\r\n"
            return self._prompt
        if not line:
            return self._prompt
        answer = self._verbs(line)
        if answer is None:
            self.over = True
            return ""
        return f"{answer}\r\n{self._prompt}" if answer else self._prompt


def take(device: StandIn, address: str, mask: str, gateway: str) -> str | None:
    """Have a stand-in use other settings from now on; return what is wrong with them, or None."""
    try:
        interface, via = IPv4Interface(f"{address}/{mask}"), IPv4Address(gateway)
    except (AddressValueError, NetmaskValueError, ValueError):
        return "that is no address with a mask and a gateway"
    device.host.take(interface, via if int(via) else None)
    device.outbox += device.host.announce()
    return None


def keep(device: StandIn) -> None:
    """Have a stand-in keep what it uses."""
    device.saved = Settings(device.host.interface, device.host.gateway)
