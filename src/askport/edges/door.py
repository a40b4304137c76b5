"""A door to a device: a loopback port whose connections go out over the cable, wherever else the laptop has routes.

What passes is not looked into, so HTTP and TLS go through untouched.
"""

import asyncio
import contextlib

from askport.core.channels import TcpPort
from askport.core.errors import MachineRefused
from askport.edges.transports.tcp import connect, why

_DROPPED_AFTER_S = 2.0
_CHUNK = 65_536
_HALF_OPEN_S = 20.0
"""How long one side may go on after the other has ended; some devices never end theirs."""
_MAX_CONNECTIONS = 64
"""Connections at once; a browser opens half a dozen."""


FIREWALL = (
    "{far} opens to a bare question over {adapter}, and not to this laptop's own programs: a firewall here drops what "
    "the device answers. Allow {adapter} in it."
)


class Door:
    """Forwards a loopback port to a device over one adapter."""

    def __init__(self, adapter: str, far: TcpPort) -> None:
        self.far = far
        self._adapter = adapter
        self._server: asyncio.Server | None = None
        self._open: set[asyncio.Task[None]] = set()
        self.passed = 0
        """Connections that reached the device."""
        self.fault = ""
        """Why the last connection did not reach it."""
        self.dropped = False
        """Whether nothing at all came back to it."""

    @property
    def port(self) -> int:
        """The loopback port."""
        return int(self._server.sockets[0].getsockname()[1]) if self._server else 0

    @property
    def url(self) -> str:
        """Where a browser opens the device's page."""
        secure = "s" if self.far.port in (443, 8443) else ""
        return f"http{secure}://127.0.0.1:{self.port}"

    async def open(self) -> None:
        """Begin to listen on the loopback.

        Raises:
            MachineRefused: no loopback port is to be had.
        """
        try:
            self._server = await asyncio.start_server(self._accept, "127.0.0.1", 0)
        except OSError as error:
            raise MachineRefused(f"No door can be opened on the loopback: {error.strerror or error}.") from None

    async def close(self) -> None:
        """Close the door and every connection through it."""
        if self._server:
            self._server.close()
        for task in self._open:
            task.cancel()
        await asyncio.gather(*self._open, return_exceptions=True)

    async def _accept(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        task = asyncio.current_task()
        if task is None or len(self._open) >= _MAX_CONNECTIONS:
            writer.close()
            return
        self._open.add(task)
        try:
            await self._accept_connected(reader, writer)
        finally:
            self._open.discard(task)

    async def _accept_connected(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        """Carry one connection to the device and back."""
        try:
            far_reader, far_writer = await connect(self._adapter, self.far)
        except (OSError, TimeoutError) as error:
            self.dropped = isinstance(error, TimeoutError)
            self.fault = f"{self.far} does not open over {self._adapter}: {why(error)}."
            writer.close()
        else:
            self.passed += 1
            await pass_both_ways((reader, far_writer), (far_reader, writer))


async def is_dropped(adapter: str, far: TcpPort) -> bool:
    """Whether nothing comes back to a connection of this laptop's own."""
    try:
        _, writer = await connect(adapter, far, _DROPPED_AFTER_S)
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
