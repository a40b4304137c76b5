"""TCP over one adapter, and over nothing else."""

import asyncio
import os
import socket

from askport.core.channels import TcpPort

CONNECT_S = 10.0
_SO_BINDTODEVICE = 25
_CUT_AFTER_MS = 3000
"""How long what was sent may stay unanswered before the connection counts as cut (tcp(7), TCP_USER_TIMEOUT)."""


async def connected_socket(adapter: str, far: TcpPort, longest_s: float = CONNECT_S) -> socket.socket:
    """Return a socket that is connected over one adapter.

    Raises:
        OSError: the device refuses, or cannot be reached.
        TimeoutError: nothing has come back.
    """
    family = socket.AF_INET6 if far.address.version == 6 else socket.AF_INET
    connection = socket.socket(family, socket.SOCK_STREAM)
    connection.setblocking(False)
    try:
        # Needs no rights since Linux 5.7, as long as nothing else has bound the socket.
        connection.setsockopt(socket.SOL_SOCKET, _SO_BINDTODEVICE, adapter.encode())
        target: tuple[str, int] | tuple[str, int, int, int] = (str(far.address), far.port)
        if family == socket.AF_INET6:
            target = (str(far.address), far.port, 0, socket.if_nametoindex(adapter))
        await asyncio.wait_for(asyncio.get_running_loop().sock_connect(connection, target), longest_s)
    except BaseException:
        connection.close()
        raise
    return connection


async def connect(
    adapter: str, far: TcpPort, longest_s: float = CONNECT_S
) -> tuple[asyncio.StreamReader, asyncio.StreamWriter]:
    """Connect over one adapter.

    Raises:
        OSError: the device refuses, or cannot be reached.
        TimeoutError: nothing has come back.
    """
    return await asyncio.open_connection(sock=await connected_socket(adapter, far, longest_s))


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


async def connect_watched(adapter: str, far: TcpPort) -> tuple[asyncio.StreamReader, asyncio.StreamWriter]:
    """Connect over one adapter so that a cut connection is noticed in seconds.

    Raises:
        OSError: the device refuses, or cannot be reached.
        TimeoutError: nothing has come back.
    """
    return await asyncio.open_connection(sock=watch(await connected_socket(adapter, far)))


def why(error: OSError) -> str:
    """Say what was in the way of a connection, as part of a sentence.

    asyncio writes its own text in place of the kernel's.
    """
    if isinstance(error, TimeoutError) and error.errno is None:
        return "nothing came back"
    return (os.strerror(error.errno) if error.errno else str(error)).lower()
