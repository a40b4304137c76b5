"""A device's first words on a connection: what its console says unasked, and the title of its page."""

from collections.abc import Iterable

from askport.core import addresses, channels, machine
from askport.core.finding.page_title import name_of, title_of
from askport.core.text import display_text

_LONGEST_S = 4.0
"""A console that looks up the laptop's name before it speaks takes longer, and is then not recognised by its text."""
_MORE_S = 0.4
"""After the first words, the rest of the line."""
_MAX = 2000
_TELNET, _SSH, _HTTP, _HTTPS = 23, 22, 80, 443


class FirstWords(machine.Machine):
    """Connects once to each port that opened and may introduce the device; nothing is said on a console."""

    def __init__(self, at: addresses.Address, ports: Iterable[int], *, now: float) -> None:
        super().__init__()
        self._open: dict[channels.Channel | channels.PageCall, str] = {}
        self._over_at = now + _LONGEST_S
        for port in ports:
            if port in (_TELNET, _SSH):
                channel = channels.Channel(
                    channels.TelnetPort(at, port) if port == _TELNET else channels.TcpPort(at, port)
                )
                self._open[channel] = ""
                self._effects.append(channels.OpenChannel(channel))
            elif port in (_HTTP, _HTTPS):
                call = channels.PageCall(channels.HttpPort(at, port, port == _HTTPS), "GET", "/")
                self._open[call] = ""
                self._effects.append(channels.Fetch(call))
        self.title = ""
        """Of its page, where it has one."""
        self.heard: list[str] = []
        """What they said, cleaned."""

    @property
    def done(self) -> bool:
        return not self._open

    def channel_event(self, event: channels.ChannelEvent, now: float) -> None:
        if event.channel not in self._open:
            return
        match event:
            case channels.Received(channel, data):
                said = self._open[channel] = (self._open[channel] + data.decode("utf-8", "replace"))[:_MAX]
                self._over_at = min(self._over_at, now + _MORE_S) if said.strip() else self._over_at
            case channels.Fetched(call, status, text, headers=headers):
                self._open.pop(call)
                self.title = title_of(text)
                self._keep(name_of(status, text, headers))
            case channels.Closed(channel):
                self._keep(self._open.pop(channel))

    def _keep(self, text: str) -> None:
        if plain := display_text(" ".join(text.split()), 200):
            self.heard.append(plain)

    def handle_timer(self, now: float) -> None:
        if now >= self._over_at:
            for channel, text in self._open.items():
                self._keep(text)
                if isinstance(channel, channels.Channel):
                    self._effects.append(channels.CloseChannel(channel))
            self._open.clear()

    def next_deadline(self) -> float | None:
        return None if self.done else self._over_at
