"""Clues from SSDP and WS-Discovery: both name a page by its address."""

import re
from collections.abc import Iterator
from ipaddress import AddressValueError, IPv4Address
from urllib.parse import unquote_to_bytes

from askport.core.finding.clues import Clue, ClueKind, Identity, states
from askport.core.formats.discovery import Ssdp, WsDiscovery
from askport.core.formats.ethernet import Ethernet
from askport.core.formats.packet import Packet
from askport.core.text import display_text

_WHERE = re.compile(rb"http(s?)://(\d{1,3}\.\d{1,3}\.\d{1,3}\.\d{1,3})(?::(\d{1,5}))?")
_MAX_NAME, _MAX_URL = 64, 200
ONVIF_PATH = b"/onvif/"
"""In where a device service can be talked to (ONVIF Core section 5.1)."""


def read_ssdp(ssdp: Ssdp, packet: Packet) -> Iterator[Clue]:
    """Read where a device says its description is (UPnP Device Architecture 2.0 sections 1.2 and 1.3)."""
    ethernet = packet.get(Ethernet)
    if ethernet is None or ssdp.start.startswith(b"M-SEARCH"):
        return
    yield from _page(ethernet, ssdp.get(b"location") or b"", "SSDP")
    server = ssdp.get(b"server")
    if server:
        yield Clue(ethernet.src, ClueKind.DESCRIBES, text=display_text(server, _MAX_NAME), source="ssdp")


def read_ws_discovery(message: WsDiscovery, packet: Packet) -> Iterator[Clue]:
    """Read where a device says it can be talked to (WS-Discovery 1.1 sections 4.1 and 5.3)."""
    ethernet = packet.get(Ethernet)
    if ethernet is None or not message.is_answer:
        return
    if service := next((where for where in message.xaddrs if ONVIF_PATH in where), None):
        identity = Identity("onvif", where=display_text(service, _MAX_URL))
        yield Clue(ethernet.src, ClueKind.IDENTIFIES, text=identity.words, source="onvif", identity=identity)
    for where in message.xaddrs:
        yield from _page(ethernet, where, "WS-Discovery")
    if message.types:
        yield Clue(ethernet.src, ClueKind.DESCRIBES, text=_type_words(message.types), source="ws-discovery")
    if message.name:
        name = unquote_to_bytes(message.name)  # scopes are URIs (RFC 3986 section 2.1)
        yield Clue(ethernet.src, ClueKind.NAMED, text=display_text(name, _MAX_NAME), source="ws-discovery")


def _type_words(types: bytes) -> str:
    """Return the names of types without what stands for their namespaces."""
    return display_text(
        " ".join(each.rpartition(b":")[2].decode("utf-8", "replace") for each in types.split()), _MAX_NAME
    )


def _page(ethernet: Ethernet, url: bytes, source: str) -> Iterator[Clue]:
    found = _WHERE.match(url)
    if not found:
        return
    try:
        address = IPv4Address(found[2].decode())
    except AddressValueError:
        return
    yield from states(ethernet.src, address, source)
    port = int(found[3] or (443 if found[1] else 80))
    if 0 < port < 65536:
        yield Clue(ethernet.src, ClueKind.OFFERS, text="tcp", port=port, source=source.lower())
