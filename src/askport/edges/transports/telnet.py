"""Telnet over one adapter (RFC 854): what is negotiated stays here, and only text passes."""

import asyncio
from typing import Any

from askport.core.channels import TelnetPort
from askport.edges.transports import hush, tcp_socket


async def connect(over: tcp_socket.Sockets, far: TelnetPort) -> tuple[Any, Any]:
    """Connect over one cable.

    Raises:
        OSError: the device refuses, or cannot be reached.
        TimeoutError: nothing has come back.
    """
    from telnetlib3 import TelnetClient  # here, because it takes half a second to load

    hush("telnetlib3")
    connection = tcp_socket.watch(await tcp_socket.connected_socket(over, far))
    loop = asyncio.get_running_loop()
    # The plain client by name: the default becomes an interactive one on a terminal.
    _, client = await loop.create_connection(lambda: TelnetClient(connect_minwait=0, encoding=False), sock=connection)
    return client.reader, client.writer
