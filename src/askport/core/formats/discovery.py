"""Two discovery protocols that are text: SSDP (UPnP Device Architecture 2.0) and WS-Discovery 1.1 and 2005/04."""

import re
from ipaddress import IPv4Address
from typing import NamedTuple
from uuid import UUID

from askport.core.formats.unreadable import Unreadable

PORT_SSDP = 1900
SSDP_GROUP = IPv4Address("239.255.255.250")
PORT_WS_DISCOVERY = 3702
_MAX_HEADERS = 64
_MAX_LINE = 1024
_SEARCHED = 4096
"""Bytes of a message that are looked at; what says who somebody is stands in front."""
_XADDRS = re.compile(rb"<(?:[A-Za-z_][\w.-]{0,30}:)?XAddrs[^>]{0,200}>([^<]{1,4000})<")
_TYPES = re.compile(rb"<(?:[A-Za-z_][\w.-]{0,30}:)?Types[^>]{0,200}>([^<]{1,1000})<")
_SCOPE_NAME = re.compile(rb"/name/([^\s<]{1,120})")
_ANSWERS = (b"ProbeMatches", b"/Hello", b":Hello", b"ResolveMatches")


class Ssdp(NamedTuple):
    """One message: a start line and headers in the order of the wire, names in lower case."""

    start: bytes
    headers: tuple[tuple[bytes, bytes], ...] = ()

    def get(self, name: bytes) -> bytes | None:
        """Return the first value of a header, or None."""
        return next((value for present, value in self.headers if present == name), None)


def decode_ssdp(data: bytes) -> Ssdp | Unreadable:
    """Read a message (section 1.3)."""
    lines = data[:_SEARCHED].split(b"\r\n", _MAX_HEADERS + 1)
    if not lines[0].startswith((b"NOTIFY ", b"M-SEARCH ", b"HTTP/1.")):
        return Unreadable("SSDP", 0, "it begins like none of its three messages")
    headers: list[tuple[bytes, bytes]] = []
    for line in lines[1 : _MAX_HEADERS + 1]:
        name, colon, value = line[:_MAX_LINE].partition(b":")
        if not line:
            break
        if colon:
            headers.append((name.strip().lower(), value.strip()))
    return Ssdp(start=lines[0][:_MAX_LINE], headers=tuple(headers))


def encode_ssdp(message: Ssdp) -> bytes:
    """Write a message."""
    lines = [message.start, *(name.upper() + b": " + value for name, value in message.headers)]
    return b"\r\n".join(lines) + b"\r\n\r\n"


class WsDiscovery(NamedTuple):
    """What one message says; it is searched for three values, never parsed as XML, which hostile text could abuse."""

    is_answer: bool
    """Whether it comes from a device: a match or a hello."""
    types: bytes = b""
    xaddrs: tuple[bytes, ...] = ()
    name: bytes = b""


def decode_ws_discovery(data: bytes) -> WsDiscovery | Unreadable:
    """Read a message (WS-Discovery 1.1 section 5)."""
    data = data[:_SEARCHED]
    if b"discovery" not in data:
        return Unreadable("WS-Discovery", 0, "it does not name the protocol")
    xaddrs, types, name = _XADDRS.search(data), _TYPES.search(data), _SCOPE_NAME.search(data)
    return WsDiscovery(
        is_answer=any(each in data for each in _ANSWERS),
        types=types[1].strip() if types else b"",
        xaddrs=tuple(xaddrs[1].split()[:8]) if xaddrs else (),
        name=name[1] if name else b"",
    )


class WsVersion(NamedTuple):
    """What the two versions of WS-Discovery write differently."""

    addressing: str
    discovery: str
    to: str


WS_2005_04 = WsVersion(
    "http://schemas.xmlsoap.org/ws/2004/08/addressing",
    "http://schemas.xmlsoap.org/ws/2005/04/discovery",
    "urn:schemas-xmlsoap-org:ws:2005:04:discovery",
)
"""The one that cameras speak."""
WS_1_1 = WsVersion(
    "http://www.w3.org/2005/08/addressing",
    "http://docs.oasis-open.org/ws-dd/ns/discovery/2009/01",
    "urn:docs-oasis-open-org:ws-dd:ns:discovery:2009:01",
)
"""The OASIS standard (section 1.5)."""


WS_DEVICES = '<d:Types xmlns:wsdp="http://schemas.xmlsoap.org/ws/2006/02/devprof">wsdp:Device</d:Types>'
"""What computers and printers want to be asked for: they pass over a probe for anything (Devices Profile section 2),
and some compare the prefix too."""


def ws_discovery_probe(number: int, version: WsVersion = WS_2005_04, types: str = "") -> bytes:
    """Return a probe.

    Args:
        number: makes its message identifier, another one each time: who has seen it before does not answer.
        types: what is looked for, as an element; nothing for anything.
    """
    return (
        '<?xml version="1.0" encoding="UTF-8"?>'
        '<e:Envelope xmlns:e="http://www.w3.org/2003/05/soap-envelope" '
        f'xmlns:w="{version.addressing}" xmlns:d="{version.discovery}"><e:Header>'
        f"<w:MessageID>{UUID(int=number % (1 << 128), version=4).urn}</w:MessageID>"
        f"<w:To>{version.to}</w:To><w:Action>{version.discovery}/Probe</w:Action>"
        f"</e:Header><e:Body><d:Probe>{types}</d:Probe></e:Body></e:Envelope>"
    ).encode()


def ws_discovery_match(where: bytes) -> bytes:
    """Return the answer of a device that can be talked to at an address (WS-Discovery 1.1 section 5.3)."""
    return (
        b'<e:Envelope xmlns:e="http://www.w3.org/2003/05/soap-envelope" '
        b'xmlns:d="http://schemas.xmlsoap.org/ws/2005/04/discovery"><e:Body><d:ProbeMatches><d:ProbeMatch>'
        b"<d:XAddrs>" + where + b"</d:XAddrs></d:ProbeMatch></d:ProbeMatches></e:Body></e:Envelope>"
    )
