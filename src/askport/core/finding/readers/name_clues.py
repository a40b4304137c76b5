"""Clues from mDNS and DNS-SD (RFC 6762, 6763), LLMNR (RFC 4795) and NetBIOS names (RFC 1002)."""

from collections.abc import Iterator
from ipaddress import IPv4Address

from askport.core.finding.clues import Clue, ClueKind, states
from askport.core.formats.dns import (
    PORT_LLMNR,
    PORT_MDNS,
    PORT_NETBIOS_NAMES,
    Dns,
    Name,
    Record,
    RecordType,
    netbios_name,
)
from askport.core.formats.ethernet import Ethernet
from askport.core.formats.packet import Packet
from askport.core.formats.udp import Udp
from askport.core.text import display_text

_SOURCES = {PORT_MDNS: "mdns", PORT_LLMNR: "llmnr", PORT_NETBIOS_NAMES: "netbios"}
_MAX_NAME = 64
_MAX_CLUES = 32
_TRANSPORTS = (b"_tcp", b"_udp")
_NODE_NAME = 18
"""Bytes of one name in a node status answer (RFC 1002 section 4.2.18)."""
_GROUP_NAME = 0x8000


def read_names(dns: Dns, packet: Packet) -> Iterator[Clue]:
    """Read host names, addresses and services out of what a device says about itself."""
    ethernet, udp = packet.get(Ethernet), packet.get(Udp)
    if ethernet is None or udp is None:
        return
    source = _SOURCES.get(udp.src_port) or _SOURCES.get(udp.dst_port)
    if source == "netbios":
        clues = _netbios(dns, ethernet)
    elif dns.is_response and source:
        clues = (clue for record in dns.answers for clue in _record(record, ethernet, source))
    else:
        return
    for count, clue in enumerate(clues):
        if count == _MAX_CLUES:
            return
        yield clue


def _text(name: Name) -> str:
    return display_text(b".".join(name), _MAX_NAME)


def _record(record: Record, ethernet: Ethernet, source: str) -> Iterator[Clue]:
    if record.ttl == 0:
        return  # it takes the record back (RFC 6762 section 10.1)
    name = record.name
    if record.type == RecordType.A and record.address:
        yield Clue(ethernet.src, ClueKind.NAMED, text=_text(name[:1]), source=source)
        yield from states(ethernet.src, record.address, "mDNS" if source == "mdns" else "LLMNR")
    elif record.type == RecordType.PTR and record.target and name[-2:] == (b"in-addr", b"arpa"):
        yield Clue(ethernet.src, ClueKind.NAMED, text=_text(record.target[:1]), source=source)
    elif record.type == RecordType.SRV and record.target and len(name) >= 3 and name[-2] in _TRANSPORTS:
        port = int.from_bytes(record.data[4:6], "big")
        transport = name[-2][1:].decode()
        yield Clue(ethernet.src, ClueKind.OFFERS, text=transport, port=port, source=source)
        if len(name) > 3:
            yield Clue(ethernet.src, ClueKind.NAMED, text=_text(name[:1]), source=source)


def _netbios(dns: Dns, ethernet: Ethernet) -> Iterator[Clue]:
    for record in dns.answers:
        label = netbios_name(record.name[0]) if record.name else None
        if record.type == RecordType.NB and label and len(record.data) >= 6 and record.ttl:
            # A registration or an answer: flags, then the address that it stands for (RFC 1002 section 4.2.2).
            if int.from_bytes(record.data[:2], "big") & _GROUP_NAME:
                continue
            yield Clue(ethernet.src, ClueKind.NAMED, text=display_text(label[0], _MAX_NAME), source="netbios")
            yield from states(ethernet.src, IPv4Address(record.data[2:6]), "NetBIOS")
        elif record.type == RecordType.SRV and dns.is_response and record.data:
            for at in range(1, min(len(record.data) - _NODE_NAME + 1, record.data[0] * _NODE_NAME), _NODE_NAME):
                entry = record.data[at : at + _NODE_NAME]
                if entry[15] == 0 and not int.from_bytes(entry[16:18], "big") & _GROUP_NAME:
                    name = display_text(entry[:15].rstrip(b" \0"), _MAX_NAME)
                    yield Clue(ethernet.src, ClueKind.NAMED, text=name, source="netbios")
