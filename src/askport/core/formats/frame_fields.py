"""Where in a frame each field stands, so that a sentence can be shown in the bytes that say so."""

from collections.abc import Iterator
from ipaddress import IPv4Address
from typing import NamedTuple

from askport.core import addresses, text
from askport.core.formats import arp, icmp, ipv4, ipv6, udp
from askport.core.formats.dhcp import Dhcp, MessageType, OptionCode
from askport.core.formats.ethernet import Ethernet
from askport.core.formats.packet import read_packet

_MAX_OPTIONS = 64


class Field(NamedTuple):
    """Some bytes of a frame with what they are."""

    offset: int
    length: int
    name: str
    value: str

    @property
    def end(self) -> int:
        """The place behind it."""
        return self.offset + self.length


def fields_of(data: bytes) -> list[Field]:
    """Return the fields of a frame, in the order of its bytes."""
    packet = read_packet(data)
    ethernet = packet.get(Ethernet)
    if ethernet is None:
        return [Field(0, len(data), "unreadable frame", str(packet.unreadable))]
    fields = list(_ethernet(data, ethernet))
    at = fields[-1].end
    for layer in packet.layers[1:]:
        match layer:
            case arp.Arp():
                fields += _arp(data, at)
            case ipv4.IPv4():
                header = (data[at] & 15) * 4
                fields += _ipv4(data, at, layer)
                at += header
            case ipv6.IPv6():
                fields += _ipv6(data, at, layer)
                at += 40 + sum(1 + len(raw) for _, raw in layer.extensions)
            case udp.Udp():
                fields += _udp(data, at)
                at += 8
            case icmp.Icmp():
                fields.append(Field(at, 1, "ICMP type", str(data[at])))
            case Dhcp():
                fields += _dhcp(data, at)
            case _:
                fields.append(Field(at, len(data) - at, type(packet.layers[-1]).__name__, "the message"))
                break
    return [each for each in fields if each.end <= len(data) and each.length > 0]


def _mac(data: bytes, at: int, name: str) -> Field:
    return Field(at, 6, name, str(addresses.MacAddress(data[at : at + 6])))


def _address(data: bytes, at: int, name: str) -> Field:
    return Field(at, 4, name, str(IPv4Address(data[at : at + 4])))


def _number(data: bytes, at: int, size: int, name: str) -> Field:
    return Field(at, size, name, str(int.from_bytes(data[at : at + size], "big")))


def _ethernet(data: bytes, ethernet: Ethernet) -> Iterator[Field]:
    yield _mac(data, 0, "to MAC address")
    yield _mac(data, 6, "from MAC address")
    at = 12
    for tag in ethernet.tags:
        yield Field(at, 4, "802.1Q tag", f"VLAN {tag & 0xFFF}")
        at += 4
    kind = int.from_bytes(data[at : at + 2], "big")
    yield Field(
        at, 2, "EtherType" if ethernet.ethertype else "length", f"0x{kind:04x}" if ethernet.ethertype else str(kind)
    )


def _arp(data: bytes, at: int) -> Iterator[Field]:
    operation = {1: "a question", 2: "an answer"}.get(int.from_bytes(data[at + 6 : at + 8], "big"), "another operation")
    yield Field(at + 6, 2, "ARP operation", operation)
    yield _mac(data, at + 8, "sender's MAC address")
    yield _address(data, at + 14, "sender's address")
    yield _mac(data, at + 18, "target's MAC address")
    yield _address(data, at + 24, "target's address")


def _ipv4(data: bytes, at: int, packet: ipv4.IPv4) -> Iterator[Field]:
    yield _number(data, at + 8, 1, "time to live")
    yield Field(
        at + 9, 1, "protocol", {1: "ICMP", 2: "IGMP", 6: "TCP", 17: "UDP"}.get(packet.protocol, str(packet.protocol))
    )
    yield _address(data, at + 12, "source address")
    yield _address(data, at + 16, "destination address")


def _ipv6(data: bytes, at: int, packet: ipv6.IPv6) -> Iterator[Field]:
    yield Field(at + 8, 16, "source address", str(packet.src))
    yield Field(at + 24, 16, "destination address", str(packet.dst))


def _udp(data: bytes, at: int) -> Iterator[Field]:
    yield _number(data, at, 2, "source port")
    yield _number(data, at + 2, 2, "destination port")


_ADDRESS_OPTIONS = frozenset(
    {
        OptionCode.SUBNET_MASK,
        OptionCode.ROUTER,
        OptionCode.DOMAIN_NAME_SERVER,
        OptionCode.REQUESTED_IP_ADDRESS,
        OptionCode.SERVER_IDENTIFIER,
    }
)
_TEXT_OPTIONS = frozenset({OptionCode.HOST_NAME, OptionCode.VENDOR_CLASS_IDENTIFIER, OptionCode.CLIENT_FQDN})
_CODES = {int(code): code for code in OptionCode}
_TYPES = {int(kind): kind.name for kind in MessageType}


def _dhcp(data: bytes, at: int) -> Iterator[Field]:
    yield Field(at, 1, "operation", {1: "a request", 2: "a reply"}.get(data[at], str(data[at])))
    yield Field(at + 4, 4, "transaction", data[at + 4 : at + 8].hex())
    yield _address(data, at + 12, "client's address")
    yield _address(data, at + 16, "address given")
    yield _mac(data, at + 28, "client's MAC address")
    place = at + 240
    for _ in range(_MAX_OPTIONS):
        if place + 1 >= len(data) or data[place] == 255:
            return
        if data[place] == 0:
            place += 1
            continue
        code, size = data[place], data[place + 1]
        yield Field(place, 2 + size, f"option {code}", _option(code, data[place + 2 : place + 2 + size]))
        place += 2 + size


def _option(code: int, value: bytes) -> str:
    known = _CODES.get(code)
    name = known.name.lower().replace("_", " ") if known else "not read here"
    if known is OptionCode.MESSAGE_TYPE and value:
        return f"{name}: {_TYPES.get(value[0], value[0])}"
    if known in _ADDRESS_OPTIONS and len(value) >= 4:
        return f"{name}: {IPv4Address(value[:4])}"
    if known in _TEXT_OPTIONS:
        return f"{name}: {text.display_text(value, 40)}"
    return name
