"""Clues from group membership (RFC 3376): what a device listens to names its trade."""

from collections.abc import Iterator

from askport.core.finding.clues import Clue, ClueKind
from askport.core.formats.ethernet import Ethernet
from askport.core.formats.igmp import Igmp, IgmpType
from askport.core.formats.packet import Packet

_REPORTS = frozenset({IgmpType.REPORT_V1, IgmpType.REPORT_V2, IgmpType.REPORT_V3})


def read_igmp(igmp: Igmp, packet: Packet) -> Iterator[Clue]:
    """Read which groups it listens to; everybody listens to 224.0.0.1."""
    ethernet = packet.get(Ethernet)
    if ethernet and igmp.type in _REPORTS:
        yield from (Clue(ethernet.src, ClueKind.JOINS, about=group) for group in igmp.groups if group.is_multicast)
