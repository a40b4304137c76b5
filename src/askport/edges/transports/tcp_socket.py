"""TCP over one cable, and over nothing else."""

import asyncio
import os
import socket
from typing import Protocol

from askport.core import channels, errors
from askport.core.phrases import phrase

CONNECT_S = 10.0
_SO_BINDTODEVICE = 25
_CUT_AFTER_MS = 3000
"""How long what was sent may stay unanswered before the connection counts as cut (tcp(7), TCP_USER_TIMEOUT)."""


class Sockets(Protocol):
    """What gives sockets that go over one cable."""

    @property
    def adapter(self) -> str:
        """The adapter that the cable is in."""

    @property
    def scope(self) -> int:
        """The scope of link-local IPv6 addresses on it, once a socket was opened (RFC 4007)."""

    async def open_socket(self, family: int) -> socket.socket:
        """Return a TCP socket that goes over the cable only, connected to nothing yet.

        Raises:
            OSError: the kernel would not.
        """


class OverAdapter:
    """Sockets of the laptop's own, each bound to one adapter."""

    def __init__(self, adapter: str) -> None:
        self.adapter = adapter

    @property
    def scope(self) -> int:
        """The adapter's index."""
        return socket.if_nametoindex(self.adapter)

    async def open_socket(self, family: int) -> socket.socket:
        """Return a TCP socket that is bound to the adapter.

        Raises:
            OSError: there is no such adapter, or the kernel would not.
        """
        made = socket.socket(family, socket.SOCK_STREAM)
        try:
            # Needs no rights since Linux 5.7, as long as nothing else has bound the socket.
            made.setsockopt(socket.SOL_SOCKET, _SO_BINDTODEVICE, self.adapter.encode())
        except BaseException:
            made.close()
            raise
        return made


async def connected_socket(over: Sockets, far: channels.TcpPort, longest_s: float = CONNECT_S) -> socket.socket:
    """Return a socket that is connected over one cable.

    Raises:
        OSError: the device refuses, or cannot be reached.
        TimeoutError: nothing has come back.
    """
    family = socket.AF_INET6 if far.address.version == 6 else socket.AF_INET
    try:
        connection = await over.open_socket(family)
    except errors.MachineRefused as error:
        raise ConnectionError(error.message) from None
    connection.setblocking(False)
    try:
        target: tuple[str, int] | tuple[str, int, int, int] = (str(far.address), far.port)
        if family == socket.AF_INET6:
            target = (str(far.address), far.port, 0, over.scope)
        async with asyncio.timeout(longest_s):
            await asyncio.get_running_loop().sock_connect(connection, target)
    except BaseException:
        connection.close()
        raise
    return connection


async def connect(
    over: Sockets, far: channels.TcpPort, longest_s: float = CONNECT_S
) -> tuple[asyncio.StreamReader, asyncio.StreamWriter]:
    """Connect over one cable.

    Raises:
        OSError: the device refuses, or cannot be reached.
        TimeoutError: nothing has come back.
    """
    return await asyncio.open_connection(sock=await connected_socket(over, far, longest_s))


def watch(connection: socket.socket) -> socket.socket:
    """Have a connection notice in seconds that its cable was pulled, or that the device has moved; return it."""
    connection.setsockopt(socket.SOL_SOCKET, socket.SO_KEEPALIVE, 1)
    for option, value in (
        (socket.TCP_USER_TIMEOUT, _CUT_AFTER_MS),
        (socket.TCP_KEEPIDLE, 1),
        (socket.TCP_KEEPINTVL, 1),
        (socket.TCP_KEEPCNT, 2),
    ):
        connection.setsockopt(socket.IPPROTO_TCP, option, value)
    return connection


async def connect_watched(over: Sockets, far: channels.TcpPort) -> tuple[asyncio.StreamReader, asyncio.StreamWriter]:
    """Connect over one cable so that a cut connection is noticed in seconds.

    Raises:
        OSError: the device refuses, or cannot be reached.
        TimeoutError: nothing has come back.
    """
    return await asyncio.open_connection(sock=watch(await connected_socket(over, far)))


def why(error: OSError) -> str:
    """Say what was in the way of a connection, as part of a sentence.

    asyncio writes its own text in place of the kernel's.
    """
    if isinstance(error, TimeoutError) and error.errno is None:
        return phrase("nothing came back")
    return (os.strerror(error.errno) if error.errno else str(error)).lower()
