"""The table of clue readers: adding a protocol is one module and one line here; field protocols declare theirs."""

from collections.abc import Callable, Iterable
from functools import cache
from typing import Any

from askport.core.finding.clues import Clue
from askport.core.finding.readers.arp_clues import read_arp
from askport.core.finding.readers.dhcp_clues import read_dhcp
from askport.core.finding.readers.discovery_clues import read_ssdp, read_ws_discovery
from askport.core.finding.readers.igmp_clues import read_igmp
from askport.core.finding.readers.ipv4_clues import read_ipv4
from askport.core.finding.readers.ipv6_clues import read_icmpv6, read_ipv6
from askport.core.finding.readers.layer2_clues import read_bpdu, read_eapol, read_lldp
from askport.core.finding.readers.name_clues import read_names
from askport.core.formats.arp import Arp
from askport.core.formats.dhcp import Dhcp
from askport.core.formats.discovery import Ssdp, WsDiscovery
from askport.core.formats.dns import Dns
from askport.core.formats.eapol import Eapol
from askport.core.formats.icmpv6 import Icmpv6
from askport.core.formats.igmp import Igmp
from askport.core.formats.ipv4 import IPv4
from askport.core.formats.ipv6 import IPv6
from askport.core.formats.llc import Bpdu
from askport.core.formats.lldp import Lldp
from askport.core.formats.packet import Packet
from askport.core.protocols import PROTOCOLS, part

Reader = Callable[[Any, Packet], Iterable[Clue]]
"""Takes a layer of the type it stands beside and the whole packet, and says what that tells."""

READERS: dict[type, Reader] = {
    Arp: read_arp,
    IPv4: read_ipv4,
    IPv6: read_ipv6,
    Icmpv6: read_icmpv6,
    Igmp: read_igmp,
    Dhcp: read_dhcp,
    Dns: read_names,
    Ssdp: read_ssdp,
    WsDiscovery: read_ws_discovery,
    Lldp: read_lldp,
    Bpdu: read_bpdu,
    Eapol: read_eapol,
}


@cache
def _readers() -> dict[type, Reader]:
    """Return all readers; those of field protocols are loaded with the first frame."""
    field = {part(message): part(reads) for each in PROTOCOLS.values() for message, reads in each.clues.items()}
    return READERS | field


def read_clues(packet: Packet) -> list[Clue]:
    """Return everything that a frame tells, layer by layer."""
    readers = _readers()
    return [clue for layer in packet.layers if (reader := readers.get(type(layer))) for clue in reader(layer, packet)]
