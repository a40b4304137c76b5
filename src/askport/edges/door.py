"""A door to a device: a loopback port whose connections go out over the cable, wherever else the laptop has routes.

What speaks HTTP is carried request by request, so that the browser stays at the door: links, redirects and cookies
that name the device are carried over, TLS is spoken on the device's side only, and only the browser that was handed
the door's address is let in. What speaks anything else is passed untouched.
"""

import asyncio
import contextlib
import re
import ssl
from hashlib import sha256
from ipaddress import IPv4Address

import h11

from askport.core import channels, errors
from askport.core.lessons.exchange import MAX_BODY, Exchange
from askport.core.lessons.values import held_in
from askport.core.phrases import phrase
from askport.core.text import display_text
from askport.edges import door_guard, door_pages
from askport.edges.door_links import Links
from askport.edges.door_talk import HOP_BY_HOP, Message, read_body, read_head, relay, send
from askport.edges.transports import http, tcp_socket

SECURE_PORTS = (443, 8443)
_PAGE_PORTS = (80, 8080, *SECURE_PORTS)
_DROPPED_AFTER_S = 2.0
_CHUNK = 65_536
_HALF_OPEN_S = 20.0
"""How long one side may go on after the other has ended; some devices never end theirs."""
_MAX_CONNECTIONS = 64
"""Connections at once; a browser opens half a dozen."""
_SILENT_S = 0.3
"""Who says nothing for this long speaks no HTTP: on a console the device speaks first."""
_PATIENCE_S = 60.0
_MOST_SAID = 20
_MOST_TOLD = 8
_REQUEST = re.compile(rb"[A-Z]{3,10} \S")
_TLS = b"\x16\x03"
_HTML = [(b"content-type", b"text/html; charset=utf-8"), (b"cache-control", b"no-store")]

FIREWALL = (
    "{far} answers over {adapter}, but not this laptop's own programs: a firewall on the laptop drops its answers. "
    "Allow {adapter} in it."
)


class Door:
    """Forwards a loopback port to a device over one cable."""

    def __init__(self, over: tcp_socket.Sockets, far: channels.TcpPort, *, secure: bool | None = None) -> None:
        """Prepare to forward.

        Args:
            far: where it leads.
            secure: whether a page there is secured (HTTPS); None for what its port says.
        """
        self.far, self._over = far, over
        self.secure = far.port in SECURE_PORTS if secure is None else secure
        self._server: asyncio.Server | None = None
        self._open: set[asyncio.Task[None]] = set()
        self._silent: dict[asyncio.Task[None], None] = {}
        """Connections of which nothing has come yet, the oldest first."""
        self._guard, self._at = door_guard.Guard(), "127.0.0.1"
        self._tells_moved, self._moves = False, asyncio.Event()
        self._handed = ""
        self.key = ""
        """The fingerprint of the device's certificate."""
        self.passed = 0
        """Connections that reached the device."""
        self.fault = ""
        """Why the last connection did not reach it."""
        self.told: list[IPv4Address] = []
        """Addresses that the device was told of, the latest first."""
        self.said: list[str] = []
        """What passed and has to be known, as sentences."""
        self.dropped = False
        """Whether nothing at all came back to it."""

    @property
    def port(self) -> int:
        """The loopback port."""
        return int(self._server.sockets[0].getsockname()[1]) if self._server else 0

    @property
    def host(self) -> str:
        """The door's own address and port."""
        return f"{self._at}:{self.port}"

    def hand_out(self) -> str:
        """Return an address that lets one browser in once."""
        self._handed = f"http://{self.host}{self._guard.hand_out()}"
        return self._handed

    @property
    def address(self) -> str:
        """The address for a browser: the one that was handed out last, or the door's own once that has let one in."""
        return self._handed if self._guard.has_unused else f"http://{self.host}/"

    def follow(self, far: channels.TcpPort) -> None:
        """Lead to where the device has moved; the browser is told so at its next page."""
        if far != self.far:
            self.far, self._tells_moved, self.fault = far, True, ""
            self._moves.set()
            self._moves = asyncio.Event()

    async def open(self) -> None:
        """Begin to listen on a loopback address of its own.

        Raises:
            MachineRefused: no loopback port is to be had.
        """
        self._at = door_guard.own_address()
        try:
            self._server = await asyncio.start_server(self._accept, self._at, 0)
        except OSError as error:
            raise errors.MachineRefused(
                "No door can be opened on the loopback: {why}.", why=error.strerror or error
            ) from None

    async def close(self) -> None:
        """Close the door and every connection through it."""
        if self._server:
            self._server.close()
        for task in self._open:
            task.cancel()
        await asyncio.gather(*self._open, return_exceptions=True)

    def _accept(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        """Take a connection into a task of the door's own; one that the stream keeps would cry out when it is ended."""
        if len(self._open) >= _MAX_CONNECTIONS and self._silent:
            next(iter(self._silent)).cancel()  # the one of which nothing came for longest makes room
        elif len(self._open) >= _MAX_CONNECTIONS:
            writer.close()
            return
        if not door_guard.is_of_same_user(writer.get_extra_info("peername")):
            writer.close()
            return
        task = asyncio.ensure_future(self._carry(reader, writer))
        self._open.add(task)
        self._silent[task] = None
        task.add_done_callback(self._ended)

    def _ended(self, task: asyncio.Task[None]) -> None:
        self._open.discard(task)
        self._silent.pop(task, None)
        if not task.cancelled():
            task.exception()  # Ctrl-C came while this ran: the loop passes it on, and nothing is to be said of it here

    async def _carry(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        first = b""
        try:
            with contextlib.suppress(h11.RemoteProtocolError, h11.LocalProtocolError, OSError):
                with contextlib.suppress(TimeoutError):
                    async with asyncio.timeout(_SILENT_S if self._is_raw else _PATIENCE_S):
                        first = await reader.read(_CHUNK)
                if task := asyncio.current_task():
                    self._silent.pop(task, None)
                if _REQUEST.match(first):
                    await self._serve(reader, writer, first)
                elif self._is_raw and not first.startswith(_TLS):
                    await self._pass_untouched(reader, writer, first)
                elif first:
                    self._say(
                        phrase("The door's own address begins with http://, and it speaks HTTPS to the device itself.")
                    )
        finally:
            writer.close()

    @property
    def _is_raw(self) -> bool:
        """Whether something else than pages may be there."""
        return self.far.port not in _PAGE_PORTS

    def _say(self, text: str) -> None:
        if text not in self.said and len(self.said) < _MOST_SAID:
            self.said.append(text)

    async def _pass_untouched(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter, first: bytes) -> None:
        """Carry one connection to the device and back."""
        try:
            far_reader, far_writer = await tcp_socket.connect(self._over, self.far)
        except (OSError, TimeoutError) as error:
            self._not_reached(error)
            return
        self.passed += 1
        far_writer.write(first)
        await pass_both_ways((reader, far_writer), (far_reader, writer))

    def _not_reached(self, error: OSError) -> None:
        self.dropped = isinstance(error, TimeoutError)
        self.fault = phrase(
            "{far} does not open over {adapter}: {why}.",
            far=self.far,
            adapter=self._over.adapter,
            why=tcp_socket.why(error),
        )

    # Pages

    @property
    def _links(self) -> Links:
        usual = 443 if self.secure else 80
        host = self.far.host if self.far.port == usual else str(self.far)
        return Links(f"http://{self.host}", host, secure=self.secure)

    async def _serve(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter, first: bytes) -> None:
        """Serve one connection of the browser; the device gets a new one for each request."""
        near = h11.Connection(h11.SERVER)
        near.receive_data(first)
        while (request := await read_head(near, reader)) and isinstance(request.head, h11.Request):
            target = request.head.target.decode("latin-1")
            behind = self._guard.behind(request, target)
            foreign = door_guard.is_foreign(request, self.host, enters=behind is not None)
            if foreign or not (behind or self._guard.has_cookie(request)):
                await send(
                    near,
                    writer,
                    403,
                    _HTML,
                    door_pages.refused(foreign or phrase("it has shown no address of the door")),
                )
                return
            if behind:
                self._guard.use(target)
            navigates = request.header(b"sec-fetch-mode") == "navigate"
            await read_body(near, reader, request)
            if behind and navigates:
                to = [(b"location", behind.encode()), (b"set-cookie", self._guard.cookie())]
                await send(near, writer, 303, to, b"")
            elif page := self._own_page(behind or target, navigates):
                await send(near, writer, 200, _HTML, page)
            elif b"upgrade" in (key for key, _ in request.head.headers):
                await self._upgrade(near, request, reader, writer)
                return
            elif not await self._answer(near, request, behind or target, reader, writer, lets_in=behind is not None):
                return
            if near.our_state is not h11.DONE or near.their_state is not h11.DONE:
                return
            near.start_next_cycle()

    def _own_page(self, target: str, navigates: bool) -> bytes | None:
        """Return a page of the door's own, where the device's would be a dead one, or None."""
        away = Links.away_to(target)
        if self._tells_moved and (navigates or away):
            self._tells_moved = False
            return door_pages.moved(self.far.host)
        if away:
            self._say(phrase("Its page leads to {away}.", away=display_text(away, 60)))
            return door_pages.moved(away) if away == self.far.host else door_pages.moves(away)
        return None

    async def _answer(
        self, near: h11.Connection, request: Message, target: str, reader: asyncio.StreamReader,
        writer: asyncio.StreamWriter, *, lets_in: bool,
    ) -> bool:  # fmt: skip
        """Carry one request to the device and its answer back; say whether the connection goes on."""
        far, links, far_writer, at = h11.Connection(h11.CLIENT), self._links, None, self.far
        try:
            far_reader, far_writer = await self._connect()
            await self._ask((near, reader), (far, far_writer), request, target, links)
            self.see_told(request, target)
            response = await self._unless_it_moves(far, far_reader)
            if response is None or not isinstance(response.head, h11.Response):
                raise ConnectionError(phrase("it ended the connection without an answer"))
            if not (response.is_whole or response.streams) and response.header(b"content-type").startswith("text/"):
                raise h11.RemoteProtocolError(phrase("it never ends"))
            self.kept(request, target, response, at)
            headers, body = self._carried_back(response, links)
            headers += [(b"set-cookie", self._guard.cookie())] if lets_in else []
            status = response.head.status_code
            if not response.is_whole:
                writer.write(near.send(h11.Response(status_code=status, headers=headers)) or b"")
                await relay((far, far_reader), (near, writer), bytes(response.body))
                return False
        except (OSError, TimeoutError, h11.RemoteProtocolError) as error:
            self.kept(request, target, None, at)
            if at != self.far:  # what was on the way is lost with the address that it was sent from
                self._tells_moved = False
                await send(near, writer, 200, _HTML, door_pages.moved(self.far.host))
                return False
            self.dropped = isinstance(error, TimeoutError) and far_writer is None
            reason = (
                tcp_socket.why(error)
                if isinstance(error, OSError)
                else phrase("what it answered is no page ({error})", error=error)
            )
            self.fault = phrase("{far} did not answer: {reason}.", far=self.far, reason=reason)
            await send(near, writer, 502, _HTML, door_pages.silent(self.fault))
            return False
        finally:
            if far_writer:
                far_writer.close()
        assert isinstance(request.head, h11.Request)  # noqa: S101 - for the type checker
        has_body = request.head.method != b"HEAD" and status not in (204, 304)
        await send(near, writer, status, headers, body if has_body else b"", says_length=has_body)
        return True

    async def _unless_it_moves(self, far: h11.Connection, reader: asyncio.StreamReader) -> Message | None:
        """Return the answer, as far as it is held.

        Raises:
            ConnectionError: the device has moved meanwhile, and nothing comes from where it was.
            TimeoutError: it takes too long.
        """
        answer = asyncio.ensure_future(_read(far, reader))
        moves = asyncio.ensure_future(self._moves.wait())
        try:
            async with asyncio.timeout(_PATIENCE_S):
                await asyncio.wait((answer, moves), return_when=asyncio.FIRST_COMPLETED)
            if answer.done():
                return answer.result()
            raise ConnectionError(phrase("it has moved"))
        finally:
            answer.cancel()
            moves.cancel()

    def kept(self, request: Message, target: str, response: Message | None, at: channels.TcpPort) -> None:
        """Take in what has passed with the device, which was at ``at`` when it was asked."""

    def see_told(self, request: Message, target: str) -> None:
        """See what is told: a device that gets an address may move there without a word."""
        assert isinstance(request.head, h11.Request)  # noqa: S101 - for the type checker
        exchange = Exchange(
            method=request.head.method.decode("latin-1"), path=target, content_type=request.header(b"content-type"),
            body=bytes(request.body[:MAX_BODY]),
        )  # fmt: skip
        held = [each.address for each in held_in(exchange.fields)]
        self.told = list(dict.fromkeys([*held, *self.told]))[:_MOST_TOLD]

    async def _connect(self) -> tuple[asyncio.StreamReader, asyncio.StreamWriter]:
        reader, writer = await tcp_socket.connect(self._over, self.far)
        if self.secure:
            await writer.start_tls(http.old_tls(), server_hostname=str(self.far.address))
            tls = writer.get_extra_info("ssl_object")
            shown = tls.getpeercert(binary_form=True) if isinstance(tls, ssl.SSLObject) else None
            key = f"SHA256:{sha256(shown or b'').hexdigest()}"
            if self.key and key != self.key:
                writer.close()
                raise ConnectionError(phrase("it showed another certificate than before"))
            self.key = key
        self.passed += 1
        return reader, writer

    def _headers(self, request: Message, links: Links) -> list[tuple[bytes, bytes]]:
        """Return a request's headers as the device would get them from the browser itself."""
        told = []
        for name, value in request.head.headers:
            if name in (b"origin", b"referer"):
                told.append((name, links.to_device(value)))
            elif name == b"cookie":
                told += [(name, own)] if (own := self._guard.without_cookie(value)) else []
            elif name not in HOP_BY_HOP and name not in (b"host", b"content-length", b"accept-encoding"):
                told.append((name, value))
        return told

    async def _ask(
        self, near: tuple[h11.Connection, asyncio.StreamReader], far: tuple[h11.Connection, asyncio.StreamWriter],
        request: Message, target: str, links: Links,
    ) -> None:  # fmt: skip
        """Send a request to the device, as if the browser had been there."""
        assert isinstance(request.head, h11.Request)  # noqa: S101 - for the type checker
        own = [(b"host", links.host.encode()), (b"connection", b"close"), (b"accept-encoding", b"identity")]
        if request.is_whole:
            request.body = bytearray(links.to_device(bytes(request.body)))
        length = len(request.body) if request.is_whole else request.length
        if length is None:
            own.append((b"transfer-encoding", b"chunked"))  # larger than what is held, and without a length
        elif length or request.head.method in (b"POST", b"PUT", b"PATCH"):
            own.append((b"content-length", str(length).encode()))
        path = links.to_device(target.encode("latin-1"))
        head = h11.Request(method=request.head.method, target=path, headers=[*own, *self._headers(request, links)])
        connection, writer = far
        writer.write(connection.send(head) or b"")
        if request.is_whole:
            writer.write(connection.send(h11.Data(data=bytes(request.body))) or b"")
            writer.write(connection.send(h11.EndOfMessage()) or b"")
            await writer.drain()
        else:
            await relay(near, far, bytes(request.body))

    def _carried_back(self, response: Message, links: Links) -> tuple[list[tuple[bytes, bytes]], bytes]:
        """Have the browser stay at the door: cookies without 'Secure' and a domain, links and redirects to it."""
        headers = []
        for name, value in response.head.headers:
            if name in HOP_BY_HOP or name in (b"content-length", b"strict-transport-security"):
                continue
            told = value
            if name == b"set-cookie":
                told = re.sub(rb";\s*(secure|domain=[^;]*|samesite=none)(?=;|$)", b"", value, flags=re.IGNORECASE)
            elif name in (b"location", b"refresh"):
                told = links.to_browser(value, leads=True)
                leads = told != value and Links.is_away(told.decode("latin-1"))
                if leads or (told == value and b"//" in value[:12]):
                    where = display_text(value.decode("latin-1"), 80)
                    self._say(
                        phrase(
                            "It sends the browser elsewhere, to {where}: what passes there is not seen.", where=where
                        )
                    )
            headers.append((name, told))
        body, kind = bytes(response.body), response.header(b"content-type")
        if response.is_whole and kind.startswith(("text/", "application/json", "application/javascript")):
            body = links.to_browser(body, leads=kind.startswith("text/html") or "javascript" in kind)
        elif not response.is_whole and response.length is not None:
            headers.append((b"content-length", str(response.length).encode()))
        return headers, body

    async def _upgrade(
        self, near: h11.Connection, request: Message, reader: asyncio.StreamReader, writer: asyncio.StreamWriter
    ) -> None:
        """Carry what asks to become another protocol untouched."""
        assert isinstance(request.head, h11.Request)  # noqa: S101 - for the type checker
        self._say(
            phrase(
                "'{header}' passed through: nothing can be learned from it.",
                header=display_text(request.header(b"upgrade"), 40),
            )
        )
        links = self._links
        far_reader, far_writer = await self._connect()
        lines = [request.head.method + b" " + request.head.target + b" HTTP/1.1", b"host: " + links.host.encode()]
        lines += [name + b": " + value for name, value in self._headers(request, links)]
        lines += [b"connection: " + request.header(b"connection").encode("latin-1")]
        far_writer.write(b"\r\n".join(lines) + b"\r\n\r\n" + bytes(near.trailing_data[0]))
        await pass_both_ways((reader, far_writer), (far_reader, writer))


async def _read(connection: h11.Connection, reader: asyncio.StreamReader) -> Message | None:
    response = await read_head(connection, reader)
    if response and not response.streams:
        await read_body(connection, reader, response)
    return response


async def is_dropped(over: tcp_socket.Sockets, far: channels.TcpPort) -> bool:
    """Whether nothing comes back to a connection of this laptop's own."""
    try:
        _, writer = await tcp_socket.connect(over, far, _DROPPED_AFTER_S)
    except TimeoutError:
        return True
    except OSError:
        return False
    writer.close()
    return False


_End = tuple[asyncio.StreamReader, asyncio.StreamWriter]


async def pass_both_ways(*ways: _End) -> None:
    """Carry bytes both ways until both sides have ended, or one has and the other stays away; then close both."""
    passing = [asyncio.ensure_future(_pass(*way)) for way in ways]
    try:
        await asyncio.wait(passing, return_when=asyncio.FIRST_COMPLETED)
        await asyncio.wait(passing, timeout=_HALF_OPEN_S)
    finally:
        for each in passing:
            each.cancel()
        for _, writer in ways:
            writer.close()
        await asyncio.gather(*passing, *(writer.wait_closed() for _, writer in ways), return_exceptions=True)


async def _pass(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
    """Carry bytes one way until that side ends, and tell the other."""
    with contextlib.suppress(OSError):
        while data := await reader.read(_CHUNK):
            writer.write(data)
            await writer.drain()
    with contextlib.suppress(OSError):
        if writer.can_write_eof():
            writer.write_eof()
        else:
            writer.close()
