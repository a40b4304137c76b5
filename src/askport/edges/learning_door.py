"""A door that learns: HTTP on the loopback side, HTTP or HTTPS to the device, and what passed is kept for a lesson.

The browser speaks to the loopback port, so cookies, redirects and links that name the device are carried over to it.
What is no HTTP/1.x, and what asks to become something else, passes untouched and is said.
"""

import asyncio
import contextlib
import re
import ssl
from collections.abc import Callable
from dataclasses import dataclass, field
from hashlib import sha256

import h11

from askport.core.channels import TcpPort
from askport.core.lessons.exchange import MAX_BODY, Exchange
from askport.core.text import display_text
from askport.edges.door import Door, pass_both_ways
from askport.edges.transports.http import old_tls
from askport.edges.transports.tcp import connect, why

SECURE_PORTS = (443, 8443)
_MAX_HELD = 8_000_000
"""Bytes of a body that are held to be looked at; a firmware file is larger and cannot be learned from."""
_STREAMS = ("multipart/x-mixed-replace", "text/event-stream", "video/", "audio/", "application/octet-stream")
_MOST_SAID = 20
_MOST_EXCHANGES = 2_000
_CHUNK = 65_536
_PATIENCE_S = 60.0
_HOP_BY_HOP = frozenset({b"connection", b"keep-alive", b"proxy-connection", b"te", b"trailer", b"transfer-encoding"})
"""Headers of one connection only (RFC 9110 section 7.6.1); lengths are said anew."""


@dataclass(slots=True)
class _Message:
    head: h11.Request | h11.Response
    body: bytearray = field(default_factory=bytearray)

    def header(self, name: bytes) -> str:
        return next((value.decode("latin-1") for key, value in self.head.headers if key == name), "")


class LearningDoor(Door):
    """Forwards requests one by one, and keeps what they told."""

    def __init__(self, adapter: str, far: TcpPort, *, secure: bool, now: Callable[[], float]) -> None:
        """Prepare to forward.

        Args:
            adapter: the one that the device is at.
            far: its page.
            secure: whether the page is secured (HTTPS).
            now: the wire's time.
        """
        super().__init__(adapter, far)
        self.secure, self._now = secure, now
        self.exchanges: list[Exchange] = []
        """What passed, in order; bodies and answers are cut to what is looked at."""
        self.key = ""
        """The fingerprint of the device's certificate."""
        self.not_learned: list[str] = []
        """What passed and could not be learned from, as sentences."""

    @property
    def url(self) -> str:
        """Where a browser opens the device's page."""
        return f"http://127.0.0.1:{self.port}"

    async def _serve(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        """Serve one connection of the browser; the device gets a new one for each request."""
        near = h11.Connection(h11.SERVER)
        while True:
            request = await _read(near, reader)
            if request is None or not isinstance(request.head, h11.Request):
                return
            if b"upgrade" in (key for key, _ in request.head.headers):
                await self._pass_on(near, request, reader, writer)
                return
            far = h11.Connection(h11.CLIENT)
            writer_of_far: asyncio.StreamWriter | None = None
            try:
                far_reader, writer_of_far = await self._connect()
                await self._ask(far, writer_of_far, request)
                async with asyncio.timeout(_PATIENCE_S):
                    response = await _head(far, far_reader)
                    if response and not _streams(response):
                        await _body(far, far_reader, response)
                if response is None:
                    raise ConnectionError("it ended the connection without an answer")
                self._keep(request, response)
                if _streams(response):
                    await self._relay(near, writer, far, far_reader, response)
                    return
            except (OSError, TimeoutError, h11.RemoteProtocolError) as error:
                self._keep(request, None)
                reason = why(error) if isinstance(error, OSError) else f"what it answered is no page ({error})"
                self.fault = f"{self.far} did not answer: {reason}."
                await _send(near, writer, 502, [(b"content-type", b"text/plain")], self.fault.encode())
                return
            finally:
                if writer_of_far:
                    writer_of_far.close()
            headers, body = self._carried_back(response)
            status = response.head.status_code if isinstance(response.head, h11.Response) else 502
            has_body = request.head.method != b"HEAD" and status not in (204, 304)
            await _send(near, writer, status, headers, body if has_body else b"", says_length=has_body)
            if near.our_state is not h11.DONE or near.their_state is not h11.DONE:
                return
            near.start_next_cycle()

    async def _relay(
        self, near: h11.Connection, writer: asyncio.StreamWriter, far: h11.Connection, reader: asyncio.StreamReader,
        response: _Message,
    ) -> None:  # fmt: skip
        """Carry what has no end, or is large, as it comes: a camera's pictures, a file."""
        headers, _ = self._carried_back(response)
        status = response.head.status_code if isinstance(response.head, h11.Response) else 502
        writer.write(near.send(h11.Response(status_code=status, headers=headers)) or b"")
        while True:
            event = far.next_event()
            if event is h11.NEED_DATA:
                far.receive_data(await reader.read(_CHUNK))
            elif isinstance(event, h11.Data):
                writer.write(near.send(h11.Data(data=bytes(event.data))) or b"")
                await writer.drain()
            else:
                break
        writer.write(near.send(h11.EndOfMessage()) or b"")
        await writer.drain()

    async def _accept_connected(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        with contextlib.suppress(h11.RemoteProtocolError, h11.LocalProtocolError, OSError):
            await self._serve(reader, writer)
        writer.close()

    async def _connect(self) -> tuple[asyncio.StreamReader, asyncio.StreamWriter]:
        reader, writer = await connect(self._adapter, self.far)
        if self.secure:
            await writer.start_tls(old_tls(), server_hostname=str(self.far.address))
            tls = writer.get_extra_info("ssl_object")
            shown = tls.getpeercert(binary_form=True) if isinstance(tls, ssl.SSLObject) else None
            key = f"SHA256:{sha256(shown or b'').hexdigest()}"
            if self.key and key != self.key:
                writer.close()
                raise ConnectionError("it showed another certificate than before")
            self.key = key
        self.passed += 1
        return reader, writer

    async def _ask(self, far: h11.Connection, writer: asyncio.StreamWriter, request: _Message) -> None:
        """Send a request to the device, as if the browser had been there."""
        assert isinstance(request.head, h11.Request)  # noqa: S101 - for the type checker
        headers = [each for each in request.head.headers if each[0] not in _HOP_BY_HOP]
        dropped = (b"host", b"content-length", b"accept-encoding")
        headers = [(key, self._to_device(key, value)) for key, value in headers if key not in dropped]
        own = [(b"host", self._host.encode()), (b"connection", b"close"), (b"accept-encoding", b"identity")]
        if request.body or request.head.method in (b"POST", b"PUT"):
            own.append((b"content-length", str(len(request.body)).encode()))
        head = h11.Request(method=request.head.method, target=request.head.target, headers=[*own, *headers])
        writer.write(far.send(head) or b"")
        writer.write(far.send(h11.Data(data=bytes(request.body))) or b"")
        writer.write(far.send(h11.EndOfMessage()) or b"")
        await writer.drain()

    @property
    def _host(self) -> str:
        usual = 443 if self.secure else 80
        return str(self.far.address) if self.far.port == usual else str(self.far)

    @property
    def _origin(self) -> str:
        return f"http{'s' if self.secure else ''}://{self._host}"

    def _to_device(self, name: bytes, value: bytes) -> bytes:
        """Have the device be told its own address where the browser knows the door's."""
        if name in (b"origin", b"referer"):
            return value.replace(self.url.encode(), self._origin.encode(), 1)
        return value

    def _carried_back(self, response: _Message) -> tuple[list[tuple[bytes, bytes]], bytes]:
        """Have the browser stay at the door: cookies without 'Secure' and a domain, links and redirects to it."""
        headers = []
        for name, value in response.head.headers:
            if name in _HOP_BY_HOP or name in (b"content-length", b"strict-transport-security"):
                continue
            told = value
            if name == b"set-cookie":
                told = re.sub(rb";\s*(secure|domain=[^;]*|samesite=none)(?=;|$)", b"", value, flags=re.IGNORECASE)
            elif name == b"location":
                told = self._at_the_door(value)
                if told == value and b"//" in value[:8]:
                    where = display_text(value.decode("latin-1"), 80)
                    self._cannot_learn(f"It sends the browser elsewhere, to {where}: what passes there is not seen.")
            headers.append((name, told))
        body = bytes(response.body)
        if response.header(b"content-type").startswith(("text/", "application/json", "application/javascript")):
            body = self._at_the_door(body)
        return headers, body

    def _cannot_learn(self, text: str) -> None:
        if text not in self.not_learned and len(self.not_learned) < _MOST_SAID:
            self.not_learned.append(text)

    def _at_the_door(self, text: bytes) -> bytes:
        return re.sub(rb"https?://" + re.escape(self._host.encode()) + rb"(?![\w.])(:\d+)?", self.url.encode(), text)

    def _keep(self, request: _Message, response: _Message | None) -> None:
        head = request.head
        if len(self.exchanges) >= _MOST_EXCHANGES or not isinstance(head, h11.Request):
            return
        kind = response.header(b"content-type") if response else ""
        readable = response is not None and (not kind or kind.startswith(("text/", "application/json")))
        answer = bytes(response.body[:MAX_BODY]).decode("utf-8", "replace") if response and readable else ""
        self.exchanges.append(
            Exchange(
                method=head.method.decode("latin-1"), path=head.target.decode("latin-1"),
                content_type=request.header(b"content-type"), body=bytes(request.body[:MAX_BODY]),
                log_in=request.header(b"authorization").partition(" ")[0].lower(),
                status=response.head.status_code if response and isinstance(response.head, h11.Response) else 0,
                answer=answer, at=self._now(),
            )
        )  # fmt: skip

    async def _pass_on(
        self, near: h11.Connection, request: _Message, reader: asyncio.StreamReader, writer: asyncio.StreamWriter
    ) -> None:
        """Carry what asks to become another protocol untouched."""
        assert isinstance(request.head, h11.Request)  # noqa: S101 - for the type checker
        what = display_text(request.header(b"upgrade"), 40)
        self._cannot_learn(f"'{what}' passed through: nothing can be learned from it.")
        far_reader, far_writer = await self._connect()
        lines = [request.head.method + b" " + request.head.target + b" HTTP/1.1", b"host: " + self._host.encode()]
        lines += [name + b": " + value for name, value in request.head.headers if name != b"host"]
        far_writer.write(b"\r\n".join(lines) + b"\r\n\r\n" + bytes(near.trailing_data[0]))
        await pass_both_ways((reader, far_writer), (far_reader, writer))


async def _read(connection: h11.Connection, reader: asyncio.StreamReader) -> _Message | None:
    """Read one whole message, or None where the other side has ended."""
    message = await _head(connection, reader)
    if message:
        await _body(connection, reader, message)
    return message


async def _head(connection: h11.Connection, reader: asyncio.StreamReader) -> _Message | None:
    """Read the beginning of a message, or None where the other side has ended."""
    while True:
        event = connection.next_event()
        if event is h11.NEED_DATA:
            connection.receive_data(await reader.read(_CHUNK))
        elif isinstance(event, h11.Request | h11.Response):
            return _Message(event)
        elif not isinstance(event, h11.InformationalResponse):
            return None


async def _body(connection: h11.Connection, reader: asyncio.StreamReader, message: _Message) -> None:
    """Read the rest of a message; one that never ends is no page."""
    while True:
        event = connection.next_event()
        if event is h11.NEED_DATA:
            connection.receive_data(await reader.read(_CHUNK))
        elif isinstance(event, h11.Data):
            message.body += event.data
            if len(message.body) > _MAX_HELD:
                raise h11.RemoteProtocolError("it never ends")
        else:
            return


def _streams(response: _Message) -> bool:
    """Whether an answer comes for as long as it is wanted, or is too large to be looked at."""
    length = response.header(b"content-length")
    return response.header(b"content-type").startswith(_STREAMS) or (length.isdigit() and int(length) > _MAX_HELD)


async def _send(
    near: h11.Connection, writer: asyncio.StreamWriter, status: int, headers: list[tuple[bytes, bytes]], body: bytes,
    *, says_length: bool = True,
) -> None:  # fmt: skip
    length = [(b"content-length", str(len(body)).encode())] if says_length else []
    writer.write(near.send(h11.Response(status_code=status, headers=[*headers, *length])) or b"")
    writer.write(near.send(h11.Data(data=body)) or b"")
    writer.write(near.send(h11.EndOfMessage()) or b"")
    await writer.drain()
