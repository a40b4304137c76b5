"""Streams to the device: a machine opens a channel, sends and closes, and is told what becomes of it.

A way that talks over one stays as pure as one that sends frames: the edge, or the practice bench, carries it out.
"""

from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import datetime
from typing import Protocol

from askport.core.addresses import Address
from askport.core.phrases import phrase


@dataclass(frozen=True, slots=True)
class TcpPort:
    """One TCP port at the device's end, over the cable and over nothing else."""

    address: Address
    port: int

    @property
    def host(self) -> str:
        """Its address as links have it."""
        return f"[{self.address}]" if self.address.version == 6 else str(self.address)

    def __str__(self) -> str:
        return f"{self.host}:{self.port}"


@dataclass(frozen=True, slots=True)
class TelnetPort(TcpPort):
    """A console over Telnet (RFC 854): its negotiation is the transport's, only text comes through."""

    __str__ = TcpPort.__str__


@dataclass(frozen=True, slots=True)
class SshPort(TcpPort):
    """A console over SSH (RFC 4251)."""

    user: str = ""
    password: str = field(default="", repr=False)

    __str__ = TcpPort.__str__


@dataclass(frozen=True, slots=True)
class HttpPort(TcpPort):
    """A device's page; log-in by Basic or Digest where it asks for one (RFC 7617, 7616)."""

    secure: bool = False
    user: str = ""
    password: str = field(default="", repr=False)

    __str__ = TcpPort.__str__


@dataclass(frozen=True, slots=True)
class SerialLine:
    """A serial line of the laptop's, its own or behind USB."""

    path: str
    baud: int
    bits: int = 8
    parity: str = "N"
    stop: int = 1

    def __str__(self) -> str:
        return phrase(
            "{path} at {baud} {frame}", path=self.path, baud=self.baud, frame=f"{self.bits}{self.parity}{self.stop}"
        )


FarEnd = TcpPort | TelnetPort | SshPort | SerialLine
"""Where a channel can lead; each kind has its transport at the edge."""


class Channel:
    """One stream to one far end. Whoever opens it tells it from others by identity."""

    __slots__ = ("far",)

    def __init__(self, far: FarEnd) -> None:
        self.far = far


class PageCall:
    """One request to a device's page. Whoever makes it tells it from others by identity."""

    __slots__ = ("as_json", "body", "far", "fields", "headers", "method", "path")

    def __init__(
        self, far: HttpPort, method: str, path: str, fields: Mapping[str, str] | None = None, *, as_json: bool = False,
        body: tuple[str, str] | None = None, headers: Mapping[str, str] | None = None,
    ) -> None:  # fmt: skip
        """Take what is sent: fields as a form or as JSON, or a text with its Content-Type; and headers beside."""
        self.far, self.method, self.path, self.fields, self.as_json = far, method, path, fields, as_json
        self.body, self.headers = body, headers or {}


# What a machine wants done


@dataclass(frozen=True, slots=True)
class Fetch:
    """Send a request, and say what was answered; cookies of one far end are kept between its requests."""

    channel: PageCall


@dataclass(frozen=True, slots=True)
class OpenChannel:
    """Connect, and say how that went."""

    channel: Channel


@dataclass(frozen=True, slots=True)
class SendOn:
    """Send bytes on an open channel; on one that has closed meanwhile they are lost, as on a real one."""

    channel: Channel
    data: bytes


@dataclass(frozen=True, slots=True)
class CloseChannel:
    """End it; nothing is heard of it any more."""

    channel: Channel


# What comes of it


@dataclass(frozen=True, slots=True)
class Opened:
    """The far end took the connection."""

    channel: Channel
    key: str | None = None
    """By what the far end can be known again, as the end of a sentence: the fingerprint of its key."""


@dataclass(frozen=True, slots=True)
class Received:
    """Bytes came, in the order in which they were sent, cut anywhere."""

    channel: Channel
    data: bytes


@dataclass(frozen=True, slots=True)
class Fetched:
    """A page answered."""

    channel: PageCall
    status: int
    text: str
    location: str | None = None
    """Where it sends the browser to, as it says it."""
    key: str | None = None
    """By what the far end can be known again: the fingerprint of its certificate, with the TLS that it speaks."""
    clock: datetime | None = None
    """The time of day that its answer was sent, as it says, or as the laptop's clock does (RFC 9110 section 6.6.1)."""
    headers: str = ""
    """The lines of its header, as they came."""


@dataclass(frozen=True, slots=True)
class Closed:
    """It could not be opened, or has ended; or a request was not answered."""

    channel: Channel | PageCall
    because: str = ""
    """What was in the way, as part of a sentence; empty where the device ended it in order."""


ChannelEvent = Opened | Received | Fetched | Closed


class Channels(Protocol):
    """What carries channels: the edge's streams over one adapter, or the practice bench."""

    def open_channel(self, channel: Channel) -> None:
        """Begin to connect."""

    def send_on(self, channel: Channel, data: bytes) -> None:
        """Send on an open channel."""

    def close_channel(self, channel: Channel) -> None:
        """End one, without another word about it."""

    def fetch(self, call: PageCall) -> None:
        """Send a request to a page."""

    def close_channels(self) -> None:
        """End all of them."""

    def channel_events(self) -> list[ChannelEvent]:
        """Return what has come of them since the last time, in order."""
