"""Each clue as a sentence for people."""

from askport.core.finding.clues import Clue, ClueKind
from askport.core.protocols import PROTOCOLS

_SENTENCES: dict[ClueKind, str] = {
    ClueKind.ANSWERS: "It answered when asked for {address} (ARP, {times}).",
    ClueKind.ANNOUNCES: "It announced that {address} is its own (ARP, {times}).",
    ClueKind.LOOKS_FOR: "It asked for {about} from {address} (ARP, {times}).",
    ClueKind.LOOKS_FOR_US: "It asked for the laptop from {address} (ARP, {times}).",
    ClueKind.CLAIMS: "It asked whether {address} is free, to take it (ARP probe, {times}).",
    ClueKind.SENDS_ON_LINK: "It sent from {address} to everybody on this wire (IPv4, {times}).",
    ClueKind.SENDS_TO_ALL: "It sent a datagram from {address} to everybody, its own or a relayed one (UDP, {times}).",
    ClueKind.SENDS_FROM: "It sent packets from {address} (IPv4, {times}).",
    ClueKind.SENDS_THROUGH: "It sent to {about} through another device, so that is outside its subnet (IPv4, {times}).",
    ClueKind.FORWARDS: "It passed on packets from {address}, which may be behind it (IPv4, {times}).",
    ClueKind.STATES: "It says that its address is {address} ({source}, {times}).",
    ClueKind.ASKS_BOOTP: "It asked for an address (BOOTP, {times}).",
    ClueKind.ASKS_DHCP: "It asked for an address (DHCP, {times}).",
    ClueKind.REMEMBERS: "It asked to have {address} again (DHCP, {times}).",
    ClueKind.REFLECTS: "It sent the laptop's own packets back (IPv4, {times}).",
    ClueKind.ACCEPTS: "It asked the address server {about} for {address} (DHCP, {times}).",
    ClueKind.GIVEN: "The address server {about} gave it {address} ({protocol}, {times}).",
    ClueKind.SERVES: "It answers address requests, or passes on the answers of {about} (DHCP, {times}).",
    ClueKind.NAMED: "It calls itself {text} ({source}, {times}).",
    ClueKind.DESCRIBES: "It says that it is: {text} ({source}, {times}).",
    ClueKind.OFFERS: "It offers {protocol} port {port} ({source}, {times}).",
    ClueKind.USES: "It uses {about} for {text} ({times}).",
    ClueKind.HAS_IPV6: "It uses {text} (IPv6, {times}).",
    ClueKind.JOINS: "It listens to the group {about} (IGMP, {times}).",
    ClueKind.SPEAKS_FOR: "It is the shared MAC address of a group of routers; {about} speaks for it ({times}).",
    ClueKind.ROUTES_IPV6: "It says that it is a router (IPv6, {times}).",
    ClueKind.BRIDGES: "It is a switch ({source}, {times}).",
    ClueKind.SAYS_CONFLICT: "It says that somebody else has its address ({source}, {times}).",
    ClueKind.TAKES_POWER: "It takes its power through the cable ({source}, {times}).",
    ClueKind.IDENTIFIES: "It speaks {source}: {text} ({times}).",
    ClueKind.WANTS_LOGIN: "It wants a log-in before it passes anything on (802.1X, {times}).",
}
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
    template = _ANSWERS_FOR_ALL if every else _SENTENCES[clue.kind]
    return template.format(
        address=clue.address,
        about=clue.about,
        text=clue.text,
        protocol=clue.text.upper(),
        port=clue.port,
        source=shown_source(clue.source) or "ARP",
        times="once" if count == 1 else f"{count} times",
    )
