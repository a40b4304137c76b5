"""Clues from ARP (RFC 826, 5227)."""

from collections.abc import Iterator

from askport.core.addresses import host_fault_of
from askport.core.finding.clues import Clue, ClueKind
from askport.core.formats.arp import Arp, Op
from askport.core.formats.ethernet import Ethernet
from askport.core.formats.packet import Packet


def read_arp(arp: Arp, packet: Packet) -> Iterator[Clue]:
    """Read who holds, looks for or claims an address.

    A packet whose sender field differs from the frame's own source was made for somebody else (a proxy, a bridge
    with its own idea of addresses); it shows nothing about either for certain and is left out.
    """
    ethernet = packet.get(Ethernet)
    if ethernet is None or arp.sha != ethernet.src or arp.sha.is_group:
        return
    if arp.is_probe:
        if not host_fault_of(arp.tpa):
            yield Clue(arp.sha, ClueKind.CLAIMS, arp.tpa)
    elif host_fault_of(arp.spa):
        return  # no host can hold it (RFC 1122 section 3.2.1.3)
    elif arp.is_announcement:
        yield Clue(arp.sha, ClueKind.ANNOUNCES, arp.spa)
    elif arp.op == Op.REPLY:
        yield Clue(arp.sha, ClueKind.ANSWERS, arp.spa)
    elif arp.op == Op.REQUEST:
        yield Clue(arp.sha, ClueKind.LOOKS_FOR, arp.spa, about=arp.tpa)
