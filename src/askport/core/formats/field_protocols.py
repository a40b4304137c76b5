"""Four open field protocols over UDP, as far as being found by them goes."""

from enum import IntEnum
from ipaddress import IPv4Address
from struct import pack, unpack_from
from typing import NamedTuple

from askport.core.addresses import UNSPECIFIED, MacAddress
from askport.core.formats.unreadable import Unreadable

PORT_ETHERNET_IP = 44818
PORT_BACNET = 47808
PORT_KNX = 3671
PORT_ART_NET = 6454
KNX_GROUP = IPv4Address("224.0.23.12")

_LIST_IDENTITY = 0x63
_IDENTITY_ITEM = 0x0C
_ENIP_HEADER = 24
_ART_NET = b"Art-Net\0"


class EtherNetIp(NamedTuple):
    """An encapsulation message (CIP volume 2 section 2-3), with what a ListIdentity answer says."""

    command: int = _LIST_IDENTITY
    address: IPv4Address | None = None
    """None in a request."""
    vendor_id: int = 0
    serial: int = 0
    product: bytes = b""
    product_code: int = 0


def decode_ethernet_ip(data: bytes) -> EtherNetIp | Unreadable:
    """Read a message (CIP volume 2 section 2-4.2 for the identity item)."""
    if len(data) < _ENIP_HEADER:
        return Unreadable("EtherNet/IP", len(data), f"it has {len(data)} of at least {_ENIP_HEADER} bytes")
    command, length = unpack_from("<HH", data)
    if _ENIP_HEADER + length > len(data):
        return Unreadable("EtherNet/IP", 2, f"it claims {length} bytes and has {len(data) - _ENIP_HEADER}")
    body = data[_ENIP_HEADER : _ENIP_HEADER + length]
    if command != _LIST_IDENTITY or len(body) < 6:
        return EtherNetIp(command=command)
    identity = _identity_item(body)
    if len(identity) < 33:
        return EtherNetIp(command=command)
    name = identity[33 : 33 + identity[32]]
    vendor_id = int(unpack_from("<H", identity, 18)[0])
    serial = int(unpack_from("<I", identity, 28)[0])
    code, address = int(unpack_from("<H", identity, 22)[0]), IPv4Address(identity[6:10])
    return EtherNetIp(command, address, vendor_id, serial, name, code)


def _identity_item(body: bytes) -> bytes:
    """Return the identity among the items of an answer, wherever it stands, or nothing (section 2-6.1)."""
    at = 2
    for _ in range(int.from_bytes(body[:2], "little")):
        if at + 4 > len(body):
            break
        item, size = unpack_from("<HH", body, at)
        if item == _IDENTITY_ITEM:
            return body[at + 4 : at + 4 + size]
        at += 4 + size
    return b""


def encode_ethernet_ip(message: EtherNetIp) -> bytes:
    """Write a ListIdentity request, or an answer where there is an address."""
    body = b""
    if message.address is not None:
        socket_address = pack("!HH", 2, PORT_ETHERNET_IP) + message.address.packed + bytes(8)
        identity = (
            pack("<H", 1)
            + socket_address
            + pack("<HHHBBHI", message.vendor_id, 0, message.product_code, 1, 1, 0, message.serial)
        )
        identity += bytes((len(message.product),)) + message.product + b"\0"
        body = pack("<HHH", 1, _IDENTITY_ITEM, len(identity)) + identity
    return pack("<HHII8sI", message.command, len(body), 0, 0, b"", 0) + body


def ask_ethernet_ip(_: IPv4Address | None) -> bytes:
    """Return what asks for an identity."""
    return encode_ethernet_ip(EtherNetIp())


class BacnetService(IntEnum):
    """Unconfirmed services (ASHRAE 135 clause 21)."""

    I_AM = 0
    WHO_IS = 8


class Bacnet(NamedTuple):
    """An unconfirmed request over BACnet/IP (ASHRAE 135 annex J)."""

    service: int | None
    """None for anything that is no unconfirmed request."""
    instance: int | None = None
    """The device's instance number, in an I-Am."""
    vendor_id: int | None = None
    origin: IPv4Address | None = None
    """The real sender of a forwarded message (annex J.2.5)."""
    is_behind: bool = False
    """Whether it comes from a network behind the sender of the frame, which is a router to it (clause 6.2.2)."""


def decode_bacnet(data: bytes) -> Bacnet | Unreadable:
    """Read a message (clauses 6.2, 20.1.3 and annex J.2)."""
    if len(data) < 6 or data[0] != 0x81:
        return Unreadable("BACnet", 0, "it is no BACnet/IP message")
    at, origin = 4, None
    if data[1] == 0x04:
        if len(data) < 12:
            return Unreadable("BACnet", len(data), "it ends inside the forwarder's address")
        at, origin = 10, IPv4Address(data[4:8])
    if len(data) < at + 2 or data[at] != 1:
        return Unreadable("BACnet", at, "its network version is not 1")
    control, at = data[at + 1], at + 2
    for bit in (0x20, 0x08):  # destination, source: network number and address
        if control & bit:
            if at + 3 > len(data):
                return Unreadable("BACnet", at, "it ends inside a network address")
            at += 3 + data[at + 2]
    at += bool(control & 0x20)
    apdu = data[at:]
    if control & 0x80 or len(apdu) < 2 or apdu[0] != 0x10:
        return Bacnet(service=None, origin=origin, is_behind=bool(control & 0x08))
    instance = vendor_id = None
    if apdu[1] == BacnetService.I_AM and len(apdu) >= 7 and apdu[2] == 0xC4:
        instance = int.from_bytes(apdu[3:7], "big") & 0x3FFFFF
        if len(apdu) >= 14 and apdu[-3] == 0x22:
            vendor_id = int.from_bytes(apdu[-2:], "big")
        elif len(apdu) >= 13 and apdu[-2] == 0x21:
            vendor_id = apdu[-1]
    return Bacnet(apdu[1], instance, vendor_id, origin, bool(control & 0x08))


def encode_bacnet(message: Bacnet, *, to_one: bool = False) -> bytes:
    """Write a Who-Is, or an I-Am where there is an instance number; to all, or to one (annex J.2.11, J.2.10)."""
    apdu = bytes((0x10, message.service or 0))
    if message.instance is not None:
        apdu += b"\xc4" + (8 << 22 | message.instance).to_bytes(4, "big") + bytes.fromhex("2201e09103")
        apdu += b"\x22" + (message.vendor_id or 0).to_bytes(2, "big")
    npdu = bytes((1, 0)) + apdu
    return bytes((0x81, 0x0A if to_one else 0x0B)) + (4 + len(npdu)).to_bytes(2, "big") + npdu


def ask_bacnet(source: IPv4Address | None) -> bytes:
    """Return what asks everybody for instance numbers, or one device, from an address that it can answer to."""
    return encode_bacnet(Bacnet(service=BacnetService.WHO_IS), to_one=source is not None)


class KnxService(IntEnum):
    """Service types (ISO 22510)."""

    SEARCH_REQUEST = 0x0201
    SEARCH_RESPONSE = 0x0202
    DESCRIPTION_REQUEST = 0x0203
    DESCRIPTION_RESPONSE = 0x0204


_KNX_SERVICES = frozenset(map(int, KnxService))
_KNX_DESCRIBES = (KnxService.SEARCH_RESPONSE, KnxService.DESCRIPTION_RESPONSE)
_KNX_FAMILIES = bytes.fromhex("060202010301")
"""The part that has to follow a device's description: it speaks the core services and device management."""
_KNX_HEADER, _KNX_DEVICE = 6, 54
"""Bytes of the header, and of a device's description."""


class Knx(NamedTuple):
    """A KNXnet/IP message, with what the answer to a search says, or to a request for a description."""

    service: int
    address: IPv4Address = UNSPECIFIED
    """Where it can be talked to; a description does not say that."""
    port: int = PORT_KNX
    mac: MacAddress | None = None
    name: bytes = b""
    individual_address: int = 0
    """On the bus: area and line of four bits each, and the device."""
    serial: bytes = bytes(6)
    """Its first two bytes are the manufacturer."""


def decode_knx(data: bytes) -> Knx | Unreadable:
    """Read a message: header, host protocol address and device description (ISO 22510)."""
    if len(data) < 6 or data[:2] != b"\x06\x10":
        return Unreadable("KNXnet/IP", 0, "it has no KNXnet/IP header")
    service = int.from_bytes(data[2:4], "big")
    message = Knx(service=service)
    if service not in _KNX_SERVICES:
        return message
    described = data[_KNX_HEADER:]
    if service != KnxService.DESCRIPTION_RESPONSE:
        if len(data) < 14 or data[6] != 8:
            return message
        message = message._replace(address=IPv4Address(data[8:12]), port=int.from_bytes(data[12:14], "big"))
        described = data[14:]
    if service in _KNX_DESCRIBES and len(described) >= _KNX_DEVICE and described[1] == 1:
        message = message._replace(
            mac=MacAddress(described[18:24]),
            name=described[24:_KNX_DEVICE].rstrip(b"\0"),
            individual_address=int.from_bytes(described[4:6], "big"),
            serial=described[8:14],
        )
    return message


def encode_knx(message: Knx) -> bytes:
    """Write a request, or an answer where there is a MAC address."""
    body = bytes((8, 1)) + message.address.packed + message.port.to_bytes(2, "big")
    if message.service == KnxService.DESCRIPTION_RESPONSE:
        body = b""
    if message.mac is not None:
        on_bus = message.individual_address.to_bytes(2, "big")
        head = bytes((_KNX_DEVICE, 1, 2, 0)) + on_bus + bytes(2) + message.serial + KNX_GROUP.packed
        body += head + message.mac + message.name[:30].ljust(30, b"\0") + _KNX_FAMILIES
    return b"\x06\x10" + message.service.to_bytes(2, "big") + (6 + len(body)).to_bytes(2, "big") + body


def ask_knx(source: IPv4Address | None) -> bytes:
    """Return what asks a server for its description."""
    return encode_knx(Knx(KnxService.DESCRIPTION_REQUEST, source or UNSPECIFIED))


class ArtNetOp(IntEnum):
    """Operation codes."""

    POLL = 0x2000
    POLL_REPLY = 0x2100


class ArtNet(NamedTuple):
    """An Art-Net 4 packet, with what a poll reply says."""

    op: int
    address: IPv4Address | None = None
    name: bytes = b""
    mac: MacAddress | None = None


def decode_art_net(data: bytes) -> ArtNet | Unreadable:
    """Read a packet."""
    if len(data) < 10 or data[:8] != _ART_NET:
        return Unreadable("Art-Net", 0, "it does not begin with its name")
    op = int.from_bytes(data[8:10], "little")
    if op != ArtNetOp.POLL_REPLY or len(data) < 108:
        return ArtNet(op=op)
    mac = MacAddress(data[201:207]) if len(data) >= 207 else None
    long, short = data[44:108].split(b"\0")[0], data[26:44].split(b"\0")[0]
    return ArtNet(op=op, address=IPv4Address(data[10:14]), name=long or short, mac=mac)


def encode_art_net(packet: ArtNet) -> bytes:
    """Write a poll, or a reply where there is an address."""
    head = _ART_NET + packet.op.to_bytes(2, "little")
    if packet.address is None:
        return head + bytes((0, 14, 0, 0))
    reply = head + packet.address.packed + PORT_ART_NET.to_bytes(2, "little")
    reply = reply.ljust(26, b"\0") + packet.name[:17].ljust(18, b"\0") + packet.name[:63].ljust(64, b"\0")
    return (reply.ljust(201, b"\0") + (packet.mac or bytes(6))).ljust(239, b"\0")


def ask_art_net(_: IPv4Address | None) -> bytes:
    """Return what asks a node to say what it is."""
    return encode_art_net(ArtNet(op=ArtNetOp.POLL))
