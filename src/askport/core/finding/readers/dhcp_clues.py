"""Clues from BOOTP and DHCP, of clients and of servers (RFC 951, 2131, 2132)."""

from collections.abc import Iterator

from askport.core import addresses, text
from askport.core.finding.clues import Clue, ClueKind
from askport.core.formats.dhcp import BootpOp, Dhcp, MessageType, OptionCode
from askport.core.formats.ethernet import Ethernet
from askport.core.formats.ipv4 import IPv4
from askport.core.formats.packet import Packet

_MAX_NAME = 64
_ASKING = frozenset({MessageType.DISCOVER, MessageType.REQUEST})


def read_dhcp(dhcp: Dhcp, packet: Packet) -> Iterator[Clue]:
    """Read who asks, what it had before, and who answers."""
    if dhcp.op == BootpOp.BOOTREQUEST:
        yield from _client(dhcp)
    else:
        yield from _server(dhcp, packet)


def _client(dhcp: Dhcp) -> Iterator[Clue]:
    mac, kind = dhcp.client, dhcp.message_type
    if mac is None or mac.is_group:
        return
    server, requested = dhcp.address(OptionCode.SERVER_IDENTIFIER), dhcp.address(OptionCode.REQUESTED_IP_ADDRESS)
    if kind == MessageType.REQUEST and server and requested and not addresses.host_fault_of(requested):
        yield Clue(mac, ClueKind.ACCEPTS, requested, about=server)
    if dhcp.ciaddr == addresses.UNSPECIFIED and (kind is None or kind in _ASKING):
        yield Clue(mac, ClueKind.ASKS_BOOTP if kind is None else ClueKind.ASKS_DHCP)
    # In a RELEASE or a DECLINE the address is what it no longer has (RFC 2131 section 4.4).
    if kind in (None, MessageType.DISCOVER, MessageType.REQUEST, MessageType.INFORM):
        remembered = dhcp.ciaddr if dhcp.ciaddr != addresses.UNSPECIFIED else requested
        # After an offer, option 50 repeats what the server chose; only without one is it the client's own memory.
        if remembered and not addresses.host_fault_of(remembered) and dhcp.option(OptionCode.SERVER_IDENTIFIER) is None:
            yield Clue(mac, ClueKind.REMEMBERS, remembered)
    for name in {dhcp.option(OptionCode.HOST_NAME), (dhcp.option(OptionCode.CLIENT_FQDN) or b"")[3:]}:
        if name:
            yield Clue(mac, ClueKind.NAMED, text=text.display_text(name.strip(b"\0"), _MAX_NAME), source="dhcp")
    vendor = dhcp.option(OptionCode.VENDOR_CLASS_IDENTIFIER)
    if vendor:
        yield Clue(mac, ClueKind.DESCRIBES, text=text.display_text(vendor.rstrip(b"\0"), _MAX_NAME), source="dhcp")


def _server(dhcp: Dhcp, packet: Packet) -> Iterator[Clue]:
    ethernet, ipv4 = packet.get(Ethernet), packet.get(IPv4)
    if ethernet is None or ipv4 is None:
        return
    server = dhcp.address(OptionCode.SERVER_IDENTIFIER) or ipv4.src
    # A relay passes on what a server elsewhere says: that server's address is not the relay's (RFC 1542 section 4.1.2).
    here = server == ipv4.src and dhcp.giaddr == addresses.UNSPECIFIED and not addresses.host_fault_of(server)
    yield Clue(ethernet.src, ClueKind.SERVES, server if here else None, about=server)
    mac = dhcp.client
    if mac and dhcp.message_type in (None, MessageType.ACK) and not addresses.host_fault_of(dhcp.yiaddr):
        mask = dhcp.address(OptionCode.SUBNET_MASK)
        yield Clue(
            mac,
            ClueKind.GIVEN,
            dhcp.yiaddr,
            about=server,
            text="bootp" if dhcp.message_type is None else "dhcp",
            prefix=addresses.prefix_of_mask(mask) if mask else None,
            gateway=dhcp.address(OptionCode.ROUTER),
        )
