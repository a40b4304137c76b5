"""Each clue as a sentence for people."""

from askport.core.finding.clues import Clue, Tells

_SENTENCES: dict[Tells, str] = {
    Tells.ANSWERS: "It answered when asked for {address} (ARP, {times}).",
    Tells.ANNOUNCES: "It announced that {address} is its own (ARP, {times}).",
    Tells.LOOKS_FOR: "It asked for {about} from {address} (ARP, {times}).",
    Tells.LOOKS_FOR_US: "It asked for the laptop from {address} (ARP, {times}).",
    Tells.CLAIMS: "It asked whether {address} is free, to take it (ARP probe, {times}).",
    Tells.SENDS_ON_LINK: "It sent from {address} to everybody on this wire (IPv4, {times}).",
    Tells.SENDS_FROM: "It sent packets from {address} (IPv4, {times}).",
    Tells.SENDS_THROUGH: "It sent to {about} through another device, so that is outside its subnet (IPv4, {times}).",
    Tells.FORWARDS: "It passed on packets from {address}, which may be behind it (IPv4, {times}).",
    Tells.STATES: "It says that its address is {address} ({source}, {times}).",
    Tells.ASKS_BOOTP: "It asked for an address (BOOTP, {times}).",
    Tells.ASKS_DHCP: "It asked for an address (DHCP, {times}).",
    Tells.REMEMBERS: "It asked to have {address} again (DHCP, {times}).",
    Tells.REFLECTS: "It sent the laptop's own packets back (IPv4, {times}).",
    Tells.ACCEPTS: "It asked the address server {about} for {address} (DHCP, {times}).",
    Tells.GIVEN: "The address server {about} gave it {address} ({protocol}, {times}).",
    Tells.SERVES: "It answers address requests, or passes on the answers of {about} (DHCP, {times}).",
    Tells.NAMED: "It calls itself {text} ({source}, {times}).",
    Tells.DESCRIBES: "It says that it is: {text} ({source}, {times}).",
    Tells.OFFERS: "It offers {protocol} port {port} ({source}, {times}).",
    Tells.USES: "It uses {about} for {text} ({times}).",
    Tells.HAS_IPV6: "It uses {text} (IPv6, {times}).",
    Tells.JOINS: "It listens to the group {about} (IGMP, {times}).",
    Tells.ROUTES_IPV6: "It says that it is a router (IPv6, {times}).",
    Tells.BRIDGES: "It is a switch ({source}, {times}).",
    Tells.WANTS_LOGIN: "It wants a log-in before it passes anything on (802.1X, {times}).",
}
_SHOWN = {
    "dhcp": "DHCP",
    "mdns": "mDNS",
    "llmnr": "LLMNR",
    "netbios": "NetBIOS",
    "lldp": "LLDP",
    "dcp": "PROFINET DCP",
    "ssdp": "SSDP",
    "ws-discovery": "WS-Discovery",
    "ethernet/ip": "EtherNet/IP",
    "bacnet": "BACnet",
    "knx": "KNXnet/IP",
    "art-net": "Art-Net",
}
"""Protocols by the short words that stand in documents, as people write them."""
_ANSWERS_FOR_ALL = "It answered for {address}, but it answers for every address that it is asked for (ARP, {times})."


def sentence_of(clue: Clue, count: int, *, answers_for_all: bool = False) -> str:
    """Return what a clue says, and how often it came."""
    every = answers_for_all and clue.tells is Tells.ANSWERS
    template = _ANSWERS_FOR_ALL if every else _SENTENCES[clue.tells]
    return template.format(
        address=clue.address,
        about=clue.about,
        text=clue.text,
        protocol=clue.text.upper(),
        port=clue.port,
        source=_SHOWN.get(clue.source, clue.source) or "ARP",
        times="once" if count == 1 else f"{count} times",
    )
