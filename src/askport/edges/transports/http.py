"""HTTP over one cable, with the old TLS and the self-made certificates that devices have (RFC 9110, 8446)."""

import asyncio
import ssl
from datetime import UTC, datetime
from email.utils import parsedate_to_datetime
from hashlib import sha256
from typing import Any, NamedTuple

from askport.core.channels import HttpPort, PageCall
from askport.core.phrases import phrase
from askport.edges.transports import hush, tcp_socket

_LONGEST_S = 15.0
_WHOLE_S = 40.0
_MAX_BYTES = 1_000_000
_LEGACY_SERVER_CONNECT = 0x4
"""Connect to servers that cannot renegotiate safely (SSL_OP_LEGACY_SERVER_CONNECT)."""


def old_tls() -> ssl.SSLContext:
    """Return what takes any certificate and any version: whose it is, the cable and the MAC address say."""
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_CLIENT)
    context.check_hostname = False
    context.verify_mode = ssl.CERT_NONE
    context.minimum_version = ssl.TLSVersion.MINIMUM_SUPPORTED
    context.set_ciphers("ALL:@SECLEVEL=0")
    context.options |= _LEGACY_SERVER_CONNECT
    return context


def client_for(over: tcp_socket.Sockets, far: HttpPort) -> Any:
    """Return what talks to one page over one cable, and keeps its cookies."""
    import httpx  # here, because it takes a quarter of a second to load

    hush("httpx")
    hush("httpcore")
    from askport.edges.transports.http_sockets import transport_over

    transport = transport_over(over, old_tls())
    return httpx.AsyncClient(
        transport=transport,
        base_url=f"http{'s' if far.secure else ''}://{far}",
        timeout=_LONGEST_S,
        trust_env=False,  # a proxy of the laptop's would carry it away from the cable
        follow_redirects=False,
        # Devices that close without saying so would reset the next request.
        headers={"Connection": "close"},
    )


class HttpAnswer(NamedTuple):
    """What a page answered."""

    status: int
    text: str
    location: str | None
    key: str | None
    clock: datetime
    headers: str


async def fetch(client: Any, call: PageCall) -> HttpAnswer:
    """Send one request; return what it answered, with the certificate that it showed.

    Raises:
        OSError: it was not answered.
    """
    import httpx

    body: dict[str, Any] = {"headers": dict(call.headers)}
    if call.body:
        body = {"content": call.body[0].encode(), "headers": {**call.headers, "Content-Type": call.body[1]}}
    elif call.as_json:
        body["json"] = dict(call.fields or {})
    elif call.fields:
        body["data"] = dict(call.fields)
    try:
        async with asyncio.timeout(_WHOLE_S):
            answer, text = await _request(client, call, body)
            if answer.status_code == httpx.codes.UNAUTHORIZED and call.far.user:
                offered = answer.headers.get("www-authenticate", "").lower()
                kind = httpx.DigestAuth if "digest" in offered else httpx.BasicAuth
                client.auth = kind(call.far.user, call.far.password)
                answer, text = await _request(client, call, body)
    except httpx.TimeoutException:
        raise TimeoutError from None
    except (httpx.HTTPError, httpx.InvalidURL) as error:
        name = type(error).__name__
        raise ConnectionError(str(error).lower() or _LOST.get(name, phrase("the connection was lost"))) from None
    key, clock = answer.extensions.get("askport.key"), _clock(answer.headers.get("date", ""))
    lines = "".join(f"{name}: {value}\r\n" for name, value in answer.headers.multi_items())
    return HttpAnswer(answer.status_code, text, answer.headers.get("location"), key, clock, lines[:_MAX_BYTES])


_LOST = {
    "ReadError": phrase("the connection was reset"),
    "WriteError": phrase("the connection was reset"),
    "RemoteProtocolError": phrase("it ended the connection before it answered"),
}
"""What the package says without a word of its own."""


def _clock(date: str) -> datetime:
    """Return the time of day by a Date header, or by the laptop's clock where there is no sound one."""
    try:
        return parsedate_to_datetime(date).astimezone(UTC)
    except (ValueError, OverflowError):
        return datetime.now(UTC)


async def _request(client: Any, call: PageCall, body: dict[str, Any]) -> tuple[Any, str]:
    """Send it, and read what a page may be long; what goes on for ever is cut."""
    data = bytearray()
    async with client.stream(call.method, call.path, **body) as answer:
        stream = answer.extensions.get("network_stream")
        tls = stream.get_extra_info("ssl_object") if stream else None
        if tls:
            certificate = tls.getpeercert(binary_form=True) or b""
            answer.extensions["askport.key"] = phrase(
                "SHA256:{hexdigest} over {version}", hexdigest=sha256(certificate).hexdigest(), version=tls.version()
            )
        async for chunk in answer.aiter_bytes():
            data += chunk
            if len(data) > _MAX_BYTES:
                break
    return answer, bytes(data[:_MAX_BYTES]).decode("utf-8", "replace")
