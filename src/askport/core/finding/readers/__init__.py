"""The table of clue readers: adding a protocol is one module and one line here."""

from collections.abc import Callable, Iterable
from ipaddress import IPv4Address
from typing import Any

from askport.core.addresses import MacAddress
from askport.core.finding.clues import SHOWS_HOLDING, Clue
from askport.core.finding.readers.arp import read_arp
from askport.core.finding.readers.dhcp import read_dhcp
from askport.core.finding.readers.ipv4 import read_ipv4
from askport.core.formats.arp import Arp
from askport.core.formats.dhcp import Dhcp
from askport.core.formats.ipv4 import IPv4
from askport.core.formats.packet import Packet

Reader = Callable[[Any, Packet], Iterable[Clue]]
"""Takes a layer of the type it stands beside and the whole packet, and says what that tells."""

READERS: dict[type, Reader] = {Arp: read_arp, IPv4: read_ipv4, Dhcp: read_dhcp}


def read_clues(packet: Packet) -> list[Clue]:
    """Return everything that a frame tells, layer by layer."""
    return [clue for layer in packet.layers if (reader := READERS.get(type(layer))) for clue in reader(layer, packet)]


def addresses_shown(packet: Packet, mac: MacAddress) -> set[IPv4Address]:
    """Return the addresses that a device itself shows with this frame that it holds."""
    clues = read_clues(packet)
    return {clue.address for clue in clues if clue.mac == mac and clue.tells in SHOWS_HOLDING and clue.address}
