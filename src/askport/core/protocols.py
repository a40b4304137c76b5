"""The field protocols, each declared once: what reads, asks, sets and names by it comes out of this table.

Whoever decodes a frame, greets a wire or sets a device looks here for its part. A part is named by where it stands
(``module:name``) and loaded when it is used, so that a command that reads frames loads no way of setting addresses.
"""

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from pkgutil import resolve_name
from typing import Any

from askport.core.phrases import phrase
from askport.core.text import display_text

_MAX_NAME = 64
_LATIN_1 = "latin-1"
"""ISO 8859-1, which most of them write their names in."""


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Protocol:
    """One field protocol."""

    name: str
    """Its name in kind files, in scripts and of its way."""
    words: str
    """As people write it."""
    source: str = ""
    """The word for it in documents, where that is not its name."""
    udp_port: int | None = None
    ethertype: int | None = None
    decoder: str = ""
    """What reads its message: from that port, or behind that EtherType."""
    clues: Mapping[str, str] = field(default_factory=dict)
    """What reads clues out of its messages, by the types of these."""
    greets: str = ""
    """What the question to everybody is called."""
    asks: str = ""
    """Makes what its port is asked: everybody's, or one device's, from the laptop's address that it can answer to."""
    asks_in_frame: str = ""
    """Makes the question to everybody as a frame, from the laptop's MAC address, where it is no datagram to all."""
    blinks: str = ""
    """Makes a frame that has a device show itself, from the laptop's MAC address, its own, and a number."""
    identifies: bool = True
    """Whether a device says by it what it is, so that kinds can name its numbers."""
    number: str = "serial"
    """What the number that each unit has of its own is called."""
    number_is_chosen: bool = False
    """Whether its users choose that number, so that two units may have the same one by mistake."""
    names_in: str = _LATIN_1
    """The character set of its names."""
    name_heads: tuple[str, ...] = ()
    """How the plan's column is headed that a device is told its name from."""
    way: str = ""
    """The entry of the way that sets a device by it."""
    goes_first: bool = False
    """Whether that way is tried before the console and the page that a kind knows."""
    log_in_as: str = ""
    """What all its devices are called together, where they want one log-in."""
    needs_log_in: bool = False
    """Whether nobody is let in without a password."""

    @property
    def shown_as(self) -> str:
        """The word for it in documents."""
        return self.source or self.name


_FORMATS = "askport.core.formats."
_FIELD, _CLUES = "askport.core.formats.field_protocols:", "askport.core.finding.readers."
_WAYS = "askport.core.ways."

PROTOCOLS: dict[str, Protocol] = {
    each.name: each
    for each in (
        Protocol(
            name="dcp",
            words=phrase("PROFINET DCP"),
            ethertype=0x8892,
            decoder=_FORMATS + "dcp:decode_profinet",
            clues={_FORMATS + "dcp:Dcp": _CLUES + "layer2_clues:read_dcp"},
            greets=phrase("PROFINET stations (DCP)"),
            asks_in_frame=_FORMATS + "dcp:identify_frame",
            blinks=_FORMATS + "dcp:blink_frame",
            name_heads=("station name", "name of station", "profinet name"),
            way=_WAYS + "dcp_way:ENTRY",
            goes_first=True,
        ),
        Protocol(
            name="cip",
            words="EtherNet/IP",
            source="ethernet/ip",
            udp_port=44818,
            decoder=_FIELD + "decode_ethernet_ip",
            clues={_FIELD + "EtherNetIp": _CLUES + "field_clues:read_ethernet_ip"},
            greets=phrase("EtherNet/IP identities"),
            asks=_FIELD + "ask_ethernet_ip",
            name_heads=("host name", "hostname"),
            way=_WAYS + "cip_way:ENTRY",
            goes_first=True,
        ),
        Protocol(
            name="onvif",
            words="ONVIF",
            names_in="utf-8",
            way=_WAYS + "onvif_way:ENTRY",
            goes_first=True,
            log_in_as=phrase("ONVIF devices"),
        ),
        Protocol(
            name="bacnet",
            words="BACnet",
            udp_port=47808,
            decoder=_FIELD + "decode_bacnet",
            clues={_FIELD + "Bacnet": _CLUES + "field_clues:read_bacnet"},
            greets=phrase("BACnet devices"),
            asks=_FIELD + "ask_bacnet",
            number="instance",
            number_is_chosen=True,
            way=_WAYS + "bacnet_way:ENTRY",
        ),
        Protocol(
            name="artnet",
            words="Art-Net",
            source="art-net",
            udp_port=6454,
            decoder=_FIELD + "decode_art_net",
            clues={_FIELD + "ArtNet": _CLUES + "field_clues:read_art_net"},
            greets=phrase("Art-Net nodes"),
            asks=_FIELD + "ask_art_net",
            way=_WAYS + "artnet_way:ENTRY",
        ),
        Protocol(
            name="snmp",
            words="SNMP",
            identifies=False,
            way=_WAYS + "snmp_way:ENTRY",
            needs_log_in=True,
        ),
        Protocol(
            name="knx",
            words="KNXnet/IP",
            udp_port=3671,
            decoder=_FIELD + "decode_knx",
            clues={_FIELD + "Knx": _CLUES + "field_clues:read_knx"},
            greets=phrase("KNXnet/IP servers"),
            asks_in_frame="askport.core.finding.greeting:search_knx",
            asks=_FIELD + "ask_knx",
        ),
        Protocol(name="modbus", words="Modbus/TCP"),
    )
}
"""By name; where several of their ways fit one device, the first is offered first."""


def part(where: str) -> Any:
    """Return a part of a protocol, loaded now if it is not yet."""
    return resolve_name(where)


def later(where: str) -> Callable[..., Any]:
    """Return a part of a protocol that is a function, loaded when it is called for the first time."""
    found: Callable[..., Any] | None = None

    def call(*given: Any) -> Any:
        nonlocal found
        found = found or part(where)
        return found(*given)

    return call


def text_of(protocol: str, name: bytes) -> str:
    """Return a name that a device says by a field protocol, in the character set that its names are in."""
    return display_text(name.decode(PROTOCOLS[protocol].names_in, "replace"), _MAX_NAME)


def words_of(name: str) -> str:
    """Return a protocol as people write it; one that is none of these stays as it is."""
    found = PROTOCOLS.get(name)
    return found.words if found else name


def told_name(way: str, columns: Mapping[str, str]) -> str:
    """Return what a way tells a device to be called, or nothing."""
    known = PROTOCOLS.get(way)
    heads = known.name_heads if known else ()
    return next((text.strip() for head, text in columns.items() if head.strip().casefold() in heads), "")
