"""What httpx connects by where its sockets are given: a network backend of httpcore over asyncio's streams.

Its methods and their arguments, times included, are httpcore's.
"""

import asyncio
import ssl
from collections.abc import Iterable
from ipaddress import ip_address
from typing import Any

import httpcore
import httpx

from askport.core.channels import TcpPort
from askport.edges.transports.tcp_socket import CONNECT_S, Sockets, connect, why


class _Stream(httpcore.AsyncNetworkStream):
    """One connection."""

    def __init__(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        self._reader, self._writer = reader, writer

    async def read(self, max_bytes: int, timeout: float | None = None) -> bytes:  # noqa: ASYNC109
        try:
            async with asyncio.timeout(timeout):
                return await self._reader.read(max_bytes)
        except TimeoutError as error:
            raise httpcore.ReadTimeout(error) from None
        except OSError as error:
            raise httpcore.ReadError(why(error)) from None

    async def write(self, buffer: bytes, timeout: float | None = None) -> None:  # noqa: ASYNC109
        try:
            self._writer.write(buffer)
            async with asyncio.timeout(timeout):
                await self._writer.drain()
        except TimeoutError as error:
            raise httpcore.WriteTimeout(error) from None
        except OSError as error:
            raise httpcore.WriteError(why(error)) from None

    async def aclose(self) -> None:
        self._writer.close()

    async def start_tls(
        self,
        ssl_context: ssl.SSLContext,
        server_hostname: str | None = None,
        timeout: float | None = None,  # noqa: ASYNC109
    ) -> httpcore.AsyncNetworkStream:
        try:
            async with asyncio.timeout(timeout):
                await self._writer.start_tls(ssl_context, server_hostname=server_hostname)
        except TimeoutError as error:
            raise httpcore.ConnectTimeout(error) from None
        except (OSError, ssl.SSLError) as error:
            raise httpcore.ConnectError(str(error)) from None
        return self

    def get_extra_info(self, info: str) -> Any:
        return self._writer.get_extra_info(info)


class _Backend(httpcore.AsyncNetworkBackend):
    """Connects over one cable."""

    def __init__(self, over: Sockets) -> None:
        self._over = over

    async def connect_tcp(
        self,
        host: str,
        port: int,
        timeout: float | None = None,  # noqa: ASYNC109
        local_address: str | None = None,
        socket_options: Iterable[Any] | None = None,
    ) -> httpcore.AsyncNetworkStream:
        try:
            return _Stream(*await connect(self._over, TcpPort(ip_address(host), port), timeout or CONNECT_S))
        except TimeoutError as error:
            raise httpcore.ConnectTimeout(error) from None
        except OSError as error:
            raise httpcore.ConnectError(why(error)) from None


def transport_over(over: Sockets, tls: ssl.SSLContext) -> httpx.AsyncHTTPTransport:
    """Return what carries a client's requests over one cable."""
    transport = httpx.AsyncHTTPTransport(verify=tls)
    # httpx has no public way to this; a test shows that its requests go where they must.
    transport._pool._network_backend = _Backend(over)
    return transport
