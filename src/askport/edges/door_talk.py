"""HTTP/1.x as doors speak it on both sides (RFC 9110, 9112): heads, bodies, and what is carried as it comes."""

import asyncio
from dataclasses import dataclass, field

import h11

from askport.core.text import whole_number

MAX_HELD = 8_000_000
"""Bytes of a body that are held to be looked at; what is larger is carried as it comes."""
CHUNK = 65_536
_STREAMS = ("multipart/x-mixed-replace", "text/event-stream", "video/", "audio/", "application/octet-stream")
HOP_BY_HOP = frozenset({b"connection", b"keep-alive", b"proxy-connection", b"te", b"trailer", b"transfer-encoding"})
"""Headers of one connection only (RFC 9110 section 7.6.1); lengths are said anew."""


@dataclass(slots=True)
class Message:
    """A request or an answer, as far as it was read."""

    head: h11.Request | h11.Response
    body: bytearray = field(default_factory=bytearray)
    is_whole: bool = False
    """Whether all of its body is held; what is not is still to be read."""

    def header(self, name: bytes) -> str:
        """Return a header's value, or an empty text."""
        return next((value.decode("latin-1") for key, value in self.head.headers if key == name), "")

    @property
    def length(self) -> int | None:
        """How long its body is, where it says so."""
        return whole_number(self.header(b"content-length"), 0, 1 << 50)

    @property
    def streams(self) -> bool:
        """Whether it comes for as long as it is wanted, or is too large to be looked at."""
        return self.header(b"content-type").startswith(_STREAMS) or (self.length or 0) > MAX_HELD


async def read_head(connection: h11.Connection, reader: asyncio.StreamReader) -> Message | None:
    """Read the beginning of a message, or None where the other side has ended."""
    while True:
        event = connection.next_event()
        if event is h11.NEED_DATA:
            connection.receive_data(await reader.read(CHUNK))
        elif isinstance(event, h11.Request | h11.Response):
            return Message(event)
        elif not isinstance(event, h11.InformationalResponse):
            return None


async def read_body(connection: h11.Connection, reader: asyncio.StreamReader, message: Message) -> None:
    """Read the rest of a message, as far as it is held."""
    while len(message.body) <= MAX_HELD:
        data = await next_piece(connection, reader)
        if data is None:
            message.is_whole = True
            return
        message.body += data


async def next_piece(connection: h11.Connection, reader: asyncio.StreamReader) -> bytes | None:
    """Return the next piece of a body, or None behind its end."""
    while True:
        event = connection.next_event()
        if event is h11.NEED_DATA:
            connection.receive_data(await reader.read(CHUNK))
        elif isinstance(event, h11.Data):
            return bytes(event.data)
        else:
            return None


async def relay(
    from_: tuple[h11.Connection, asyncio.StreamReader], to: tuple[h11.Connection, asyncio.StreamWriter], held: bytes
) -> None:
    """Carry a body as it comes, behind what is held of it, and end the message."""
    connection, writer = to
    piece: bytes | None = held
    while piece is not None:
        writer.write(connection.send(h11.Data(data=piece)) or b"")
        await writer.drain()
        piece = await next_piece(*from_)
    writer.write(connection.send(h11.EndOfMessage()) or b"")
    await writer.drain()


async def send(
    near: h11.Connection, writer: asyncio.StreamWriter, status: int, headers: list[tuple[bytes, bytes]], body: bytes,
    *, says_length: bool = True,
) -> None:  # fmt: skip
    """Send a whole answer."""
    length = [(b"content-length", str(len(body)).encode())] if says_length else []
    writer.write(near.send(h11.Response(status_code=status, headers=[*headers, *length])) or b"")
    writer.write(near.send(h11.Data(data=body)) or b"")
    writer.write(near.send(h11.EndOfMessage()) or b"")
    await writer.drain()
