"""Each clue as a sentence for people."""

from askport.core.finding.clues import Clue, ClueKind
from askport.core.phrases import phrase, phrase_of
from askport.core.protocols import PROTOCOLS

_SHOWN = {
    "dhcp": "DHCP",
    "mdns": "mDNS",
    "llmnr": "LLMNR",
    "netbios": "NetBIOS",
    "lldp": "LLDP",
    "ssdp": "SSDP",
    "ws-discovery": "WS-Discovery",
    **{each.shown_as: each.words for each in PROTOCOLS.values()},
}
"""Protocols by the short words that stand in documents, as people write them."""


def shown_source(source: str) -> str:
    """Return a protocol as people write it."""
    return _SHOWN.get(source, source)


_ANSWERS_FOR_ALL = "It answered for {address}, but it answers for every address that it is asked for (ARP, {times})."


def sentence_of(clue: Clue, count: int, *, answers_for_all: bool = False) -> str:
    """Return what a clue says, and how often it came."""
    every = answers_for_all and clue.kind is ClueKind.ANSWERS
    template = _ANSWERS_FOR_ALL if every else clue.kind.sentence
    return phrase(
        template,
        address=clue.address,
        about=clue.about,
        text=clue.text,
        protocol=clue.text.upper(),
        port=clue.port,
        source=shown_source(clue.source) or "ARP",
        times=phrase_of(count, "once", "{count} times"),
    )
