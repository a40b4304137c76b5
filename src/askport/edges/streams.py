"""Carries channels over one cable; each kind of far end has its transport."""

import asyncio
from collections.abc import Awaitable, Callable
from typing import Any

from askport.core import channels
from askport.core.phrases import phrase
from askport.edges import log
from askport.edges.transports import http, serial_line, ssh, tcp_socket, telnet

_CHUNK = 16_384
_MOST_WAITING = 64
"""Chunks that may wait for the machine: a device that never stops sending is read no faster than they are used."""

Transport = Callable[[Any, Any], Awaitable[tuple[Any, Any]]]
"""Connects over a cable's sockets to a far end; returns what is read from and what is written to."""
TRANSPORTS: dict[type, Transport] = {
    channels.TcpPort: tcp_socket.connect_watched,
    channels.TelnetPort: telnet.connect,
    channels.SshPort: ssh.connect,
    channels.SerialLine: serial_line.connect,
}
"""To carry one kind of far end more: its module, and a line here."""


class Streams:
    """The channels of one cable."""

    def __init__(self, over: tcp_socket.Sockets, wake: Callable[[], None]) -> None:
        """Carry channels over this cable; ``wake`` is called whenever there is something to be told."""
        self._over, self._wake = over, wake
        self._tasks: dict[channels.Channel | channels.PageCall, asyncio.Task[None]] = {}
        self._clients: dict[channels.HttpPort, Any] = {}
        self._closing: set[asyncio.Task[None]] = set()
        """Clients that are being closed; kept, because the loop alone would forget them."""
        self._writers: dict[channels.Channel, Any] = {}
        self._events: list[channels.ChannelEvent] = []
        self._room = asyncio.Event()
        self._letting_go: dict[channels.SerialLine, asyncio.Task[None]] = {}
        """Serial lines that are being closed: only then can the next conversation have them."""

    def open_channel(self, channel: channels.Channel) -> None:
        """Begin to connect."""
        log.event("channel opening", adapter=self._over.adapter, to=channel.far)
        self._tasks[channel] = asyncio.ensure_future(self._carry(channel))

    def send_on(self, channel: channels.Channel, data: bytes) -> None:
        """Send on an open channel."""
        if writer := self._writers.get(channel):
            writer.write(data)

    def fetch(self, call: channels.PageCall) -> None:
        """Send a request to a page."""
        log.event("page", adapter=self._over.adapter, to=call.far, method=call.method)
        self._tasks[call] = asyncio.ensure_future(self._fetch(call))

    async def _fetch(self, call: channels.PageCall) -> None:
        client = self._clients.get(call.far)
        if client is None:
            client = self._clients[call.far] = http.client_for(self._over, call.far)
        try:
            answer = await http.fetch(client, call)
        except OSError as error:
            self._say(channels.Closed(call, tcp_socket.why(error)))
        except Exception as error:  # noqa: BLE001 - what a package does with bytes that nobody has thought of
            log.wrong("page", to=call.far, exc_info=True)
            self._say(channels.Closed(call, f"{type(error).__name__}"))
        else:
            self._say(channels.Fetched(call, *answer))
        self._tasks.pop(call, None)

    def close_channel(self, channel: channels.Channel) -> None:
        """End one, without another word about it; what was sent last still goes out."""
        if writer := self._writers.pop(channel, None):
            self._close(channel, writer)
        if task := self._tasks.pop(channel, None):
            task.cancel()
        self._events = [each for each in self._events if each.channel is not channel]

    def _close(self, channel: channels.Channel, writer: Any) -> None:
        writer.close()
        if isinstance(channel.far, channels.SerialLine):
            self._letting_go[channel.far] = asyncio.ensure_future(serial_line.let_go(writer))

    def close_channels(self) -> None:
        """End all of them."""
        for channel in list(self._tasks):
            if isinstance(channel, channels.Channel):
                self.close_channel(channel)
            else:
                self._tasks.pop(channel).cancel()
        for client in self._clients.values():
            closing = asyncio.ensure_future(client.aclose())
            self._closing.add(closing)
            closing.add_done_callback(self._closing.discard)
        self._clients.clear()

    def channel_events(self) -> list[channels.ChannelEvent]:
        """Return what has come of them since the last time, in order."""
        events, self._events = self._events, []
        self._room.set()
        return events

    def _say(self, event: channels.ChannelEvent) -> None:
        if event.channel in self._tasks:
            self._events.append(event)
            self._wake()

    async def _carry(self, channel: channels.Channel) -> None:
        because = ""
        try:
            if isinstance(channel.far, channels.SerialLine) and (before := self._letting_go.pop(channel.far, None)):
                await before
            reader, self._writers[channel] = await TRANSPORTS[type(channel.far)](self._over, channel.far)
            self._say(channels.Opened(channel, getattr(reader, "key", None)))
            while data := await reader.read(_CHUNK):
                self._say(channels.Received(channel, data))
                while len(self._events) >= _MOST_WAITING:
                    self._room.clear()
                    await self._room.wait()
        except OSError as error:
            because = tcp_socket.why(error)
        except Exception as error:  # noqa: BLE001 - what a package does with bytes that nobody has thought of
            log.wrong("channel", to=channel.far, exc_info=True)
            because = type(error).__name__
        if writer := self._writers.pop(channel, None):
            self._close(channel, writer)
        log.event(
            "channel closed",
            adapter=self._over.adapter,
            to=channel.far,
            because=because or phrase("ended in order"),
        )
        self._say(channels.Closed(channel, because))
        self._tasks.pop(channel, None)
