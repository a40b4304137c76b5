"""Clues from EtherNet/IP, BACnet/IP, KNXnet/IP and Art-Net."""

from collections.abc import Iterator

from askport.core.finding.clues import Clue, ClueKind, Identity, states
from askport.core.formats import field_protocols
from askport.core.formats.ethernet import Ethernet
from askport.core.formats.packet import Packet
from askport.core.phrases import phrase
from askport.core.protocols import text_of


def read_ethernet_ip(message: field_protocols.EtherNetIp, packet: Packet) -> Iterator[Clue]:
    """Read an identity (CIP volume 2 section 2-4.2)."""
    ethernet = packet.get(Ethernet)
    if ethernet is None or message.address is None:
        return
    yield from states(ethernet.src, message.address, "EtherNet/IP")
    yield Clue(ethernet.src, ClueKind.OFFERS, text="tcp", port=field_protocols.PORT_ETHERNET_IP, source="ethernet/ip")
    identity = Identity("cip", message.vendor_id, message.product_code, message.serial)
    yield Clue(ethernet.src, ClueKind.IDENTIFIES, text=identity.words, source="ethernet/ip", identity=identity)
    if message.product:
        yield Clue(ethernet.src, ClueKind.DESCRIBES, text=text_of("cip", message.product), source="ethernet/ip")


def read_bacnet(message: field_protocols.Bacnet, packet: Packet) -> Iterator[Clue]:
    """Read an I-Am (ASHRAE 135 clause 16.10.2)."""
    ethernet = packet.get(Ethernet)
    if ethernet is None or message.service != field_protocols.BacnetService.I_AM or message.instance is None:
        return
    if message.origin is None and not message.is_behind:  # those are about somebody else
        yield Clue(ethernet.src, ClueKind.OFFERS, text="udp", port=field_protocols.PORT_BACNET, source="bacnet")
        identity = Identity("bacnet", message.vendor_id, None, message.instance)
        yield Clue(ethernet.src, ClueKind.IDENTIFIES, text=identity.words, source="bacnet", identity=identity)
        text = phrase(
            "BACnet device {instance}, vendor {vendor_id}", instance=message.instance, vendor_id=message.vendor_id
        )
        yield Clue(ethernet.src, ClueKind.DESCRIBES, text=text, source="bacnet")


def read_knx(message: field_protocols.Knx, packet: Packet) -> Iterator[Clue]:
    """Read the answer to a search, or to a request for its description (ISO 22510)."""
    ethernet = packet.get(Ethernet)
    if ethernet is None or message.service not in (
        field_protocols.KnxService.SEARCH_RESPONSE,
        field_protocols.KnxService.DESCRIPTION_RESPONSE,
    ):
        return
    if message.service == field_protocols.KnxService.SEARCH_RESPONSE:
        yield from states(ethernet.src, message.address, "KNXnet/IP")
        yield Clue(ethernet.src, ClueKind.OFFERS, text="udp", port=message.port, source="knx")
    if message.mac is not None:
        bus = message.individual_address
        at = phrase("at {place} on its bus", place=f"{bus >> 12}.{bus >> 8 & 15}.{bus & 255}")
        manufacturer, number = int.from_bytes(message.serial[:2], "big"), int.from_bytes(message.serial[2:], "big")
        known = any(message.serial)
        identity = Identity("knx", manufacturer if known else None, None, number if known else None, at)
        yield Clue(ethernet.src, ClueKind.IDENTIFIES, text=identity.words, source="knx", identity=identity)
    if message.name:
        yield Clue(ethernet.src, ClueKind.NAMED, text=text_of("knx", message.name), source="knx")


def read_art_net(packet_: field_protocols.ArtNet, packet: Packet) -> Iterator[Clue]:
    """Read a poll reply (Art-Net 4)."""
    ethernet = packet.get(Ethernet)
    if ethernet is None or packet_.op != field_protocols.ArtNetOp.POLL_REPLY or packet_.address is None:
        return
    yield from states(ethernet.src, packet_.address, "Art-Net")
    identity = Identity("artnet")
    yield Clue(ethernet.src, ClueKind.IDENTIFIES, text=identity.words, source="art-net", identity=identity)
    if packet_.name:
        yield Clue(ethernet.src, ClueKind.NAMED, text=text_of("artnet", packet_.name), source="art-net")
