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
from askport.core.formats import arp, dhcp, discovery, dns, eapol, icmpv6, igmp, ipv4, ipv6, llc, lldp
from askport.core.formats.packet import Packet
from askport.core.protocols import PROTOCOLS, part

Reader = Callable[[Any, Packet], Iterable[Clue]]
"""Takes a layer of the type it stands beside and the whole packet, and says what that tells."""

READERS: dict[type, Reader] = {
    arp.Arp: read_arp,
    ipv4.IPv4: read_ipv4,
    ipv6.IPv6: read_ipv6,
    icmpv6.Icmpv6: read_icmpv6,
    igmp.Igmp: read_igmp,
    dhcp.Dhcp: read_dhcp,
    dns.Dns: read_names,
    discovery.Ssdp: read_ssdp,
    discovery.WsDiscovery: read_ws_discovery,
    lldp.Lldp: read_lldp,
    llc.Bpdu: read_bpdu,
    eapol.Eapol: read_eapol,
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
