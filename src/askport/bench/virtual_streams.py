"""The bench's streams: what a stand-in serves on a TCP port, in virtual time."""

import heapq
import json
from itertools import count
from typing import Protocol
from urllib.parse import urlencode

from askport.bench import pages, stand_in
from askport.core.channels import Channel, ChannelEvent, Closed, Fetched, Opened, PageCall, Received, SerialLine

_ROUND_TRIP_S = 0.002
_CUT_AFTER_S = 3.0
"""How long it takes until a connection counts as cut whose other end has gone."""


class Cable(Protocol):
    """What streams need of the bench."""

    def now(self) -> float:
        """Return the virtual time."""

    def flush(self, device: stand_in.StandIn) -> None:
        """Send the frames that a stand-in wants to."""

    def reached(self, channel: Channel | PageCall) -> stand_in.StandIn | None:
        """Return the stand-in that holds a channel's far end, where laptop and stand-in can talk now."""


class BenchStreams:
    """The channels that are open on the bench."""

    def __init__(self, cable: Cable) -> None:
        self._cable = cable
        self._order = count()
        self._due: list[tuple[float, int, ChannelEvent]] = []
        self._talks: dict[Channel, tuple[stand_in.StandIn, stand_in.Talk | None]] = {}
        self._cut: set[Channel] = set()
        self._events: list[ChannelEvent] = []

    @property
    def next_at(self) -> float | None:
        """When the next event is due."""
        return self._due[0][0] if self._due else None

    def open_channel(self, channel: Channel) -> None:
        """Begin to connect."""
        device, far = self._cable.reached(channel), channel.far
        if device is None or isinstance(far, SerialLine):
            self._later(Closed(channel, "nothing came back"), _CUT_AFTER_S)
        elif far.port not in (device.host.ports or ()):
            self._later(Closed(channel, "connection refused"))
        else:
            talk = device.talk(far.port)
            self._talks[channel] = device, talk
            self._later(Opened(channel))
            self._say(channel, talk.greets() if talk else b"")

    def send_on(self, channel: Channel, data: bytes) -> None:
        """Send on an open channel."""
        device, talk = self._talks.get(channel, (None, None))
        if device and talk and device is self._cable.reached(channel):
            self._say(channel, talk.receives(data, self._cable.now()))
            self._cable.flush(device)
            if talk.over:
                self._later(Closed(channel))
                self._talks.pop(channel)

    def fetch(self, call: PageCall) -> None:
        """Ask a stand-in's page; one that does not know the page closes."""
        device, far = self._cable.reached(call), call.far
        if device is None:
            self._later(Closed(call, "nothing came back"), _CUT_AFTER_S)
            return
        talk = device.talk(far.port) if far.port in (device.host.ports or ()) and not far.secure else None
        if not isinstance(talk, pages.WebTalk):
            self._later(Closed(call, "connection refused"))
            return
        fields = call.fields or {}
        body = json.dumps(dict(fields)) if call.as_json else urlencode(fields)
        kind = f"application/{'json' if call.as_json else 'x-www-form-urlencoded'}"
        if call.body:
            body, kind = call.body
        answer = pages.exchange(talk, call.method, call.path, str(far), body.encode(), kind, self._cable.now())
        self._cable.flush(device)
        lost = Closed(call, "the connection was lost")
        self._later(Fetched(call, answer.status, answer.body) if answer else lost)

    def close_channel(self, channel: Channel) -> None:
        """End one, without another word about it."""
        self._talks.pop(channel, None)
        self._cut.discard(channel)
        self._due = [each for each in self._due if each[2].channel is not channel]
        heapq.heapify(self._due)
        self._events = [each for each in self._events if each.channel is not channel]

    def close_channels(self) -> None:
        """End all of them."""
        self._talks.clear()
        self._cut.clear()
        self._due.clear()
        self._events.clear()

    def channel_events(self) -> list[ChannelEvent]:
        """Return what has come of them since the last time, in order."""
        events, self._events = self._events, []
        return events

    def happen(self) -> bool:
        """Do what is due; return whether there is something to be told."""
        for channel, (device, _) in list(self._talks.items()):
            if channel not in self._cut and device is not self._cable.reached(channel):
                self._cut.add(channel)
                self._later(Closed(channel, "connection timed out"), _CUT_AFTER_S)
        while self._due and self._due[0][0] <= self._cable.now():
            event = heapq.heappop(self._due)[2]
            if isinstance(event, Closed) and isinstance(event.channel, Channel):
                self._talks.pop(event.channel, None)
            if isinstance(event, Closed) or event.channel not in self._cut:
                self._events.append(event)
        return bool(self._events)

    def _say(self, channel: Channel, data: bytes) -> None:
        if data:
            self._later(Received(channel, data))

    def _later(self, event: ChannelEvent, after_s: float = _ROUND_TRIP_S) -> None:
        heapq.heappush(self._due, (self._cable.now() + after_s, next(self._order), event))
