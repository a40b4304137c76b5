"""Clues from neighbours that speak below IP: LLDP, spanning tree, port authentication, PROFINET DCP."""

from collections.abc import Iterator

from askport.core import addresses, text
from askport.core.finding.clues import Clue, ClueKind, Identity, states
from askport.core.formats.dcp import Block, Dcp, FrameId
from askport.core.formats.eapol import Eapol
from askport.core.formats.ethernet import Ethernet
from askport.core.formats.llc import Bpdu
from askport.core.formats.lldp import Lldp, Tlv
from askport.core.formats.packet import Packet
from askport.core.phrases import phrase

_MAX_NAME = 64
_ANSWERS = frozenset({FrameId.HELLO, FrameId.IDENTIFY_RESPONSE})
_EAP = 0


def read_lldp(lldp: Lldp, packet: Packet) -> Iterator[Clue]:
    """Read name, description and management address (IEEE 802.1AB clause 8.5)."""
    ethernet = packet.get(Ethernet)
    if ethernet is None:
        return
    name, description = lldp.get(Tlv.SYSTEM_NAME), lldp.get(Tlv.SYSTEM_DESCRIPTION)
    if name:
        yield Clue(ethernet.src, ClueKind.NAMED, text=text.display_text(name, _MAX_NAME), source="lldp")
    if description:
        yield Clue(ethernet.src, ClueKind.DESCRIBES, text=text.display_text(description, _MAX_NAME), source="lldp")
    if chassis := lldp.chassis_address:
        yield from states(ethernet.src, chassis, "LLDP")
    for address in lldp.management_addresses:
        yield from states(ethernet.src, address, "LLDP")
    if lldp.is_switch:
        yield Clue(ethernet.src, ClueKind.BRIDGES, source="LLDP")
    if lldp.takes_power:
        yield Clue(ethernet.src, ClueKind.TAKES_POWER, source="LLDP")


def read_bpdu(bpdu: Bpdu, packet: Packet) -> Iterator[Clue]:
    """Read that a switch speaks (IEEE 802.1D clause 9)."""
    ethernet = packet.get(Ethernet)
    if ethernet:
        yield Clue(ethernet.src, ClueKind.BRIDGES, source=phrase("spanning tree"))


def read_eapol(eapol: Eapol, packet: Packet) -> Iterator[Clue]:
    """Read a port that asks who is there (IEEE 802.1X clause 8)."""
    ethernet = packet.get(Ethernet)
    if ethernet and eapol.type == _EAP:
        yield Clue(ethernet.src, ClueKind.WANTS_LOGIN)


def read_dcp(dcp: Dcp, packet: Packet) -> Iterator[Clue]:
    """Read the address, mask, gateway and name that a device states (IEC 61158-6-10 clause 4.3.1)."""
    ethernet = packet.get(Ethernet)
    if ethernet is None or dcp.frame_id not in _ANSWERS:
        return
    vendor, product = dcp.device_id or (None, None)
    identity = Identity("dcp", vendor, product)
    yield Clue(ethernet.src, ClueKind.IDENTIFIES, text=identity.words, source="dcp", identity=identity)
    name, kind = dcp.get(Block.NAME_OF_STATION), dcp.get(Block.TYPE_OF_STATION)
    if name:
        yield Clue(ethernet.src, ClueKind.NAMED, text=text.display_text(name, _MAX_NAME), source="dcp")
    if kind:
        yield Clue(ethernet.src, ClueKind.DESCRIBES, text=text.display_text(kind, _MAX_NAME), source="dcp")
    if dcp.has_conflict:
        yield Clue(ethernet.src, ClueKind.SAYS_CONFLICT, source="dcp")
    stated = dcp.ip
    if stated:
        address, mask, gateway = stated
        # A station without a gateway states its own address there, or none.
        gateway_or_none = gateway if gateway not in (addresses.UNSPECIFIED, address) else None
        prefix = addresses.prefix_of_mask(mask)
        yield from states(ethernet.src, address, phrase("PROFINET DCP"), prefix=prefix, gateway=gateway_or_none)
