"""What the site's address server offers: asked for twice, and nothing of it taken (RFC 2131 section 3.1)."""

from dataclasses import dataclass, field
from ipaddress import IPv4Address

from askport.core import addresses, machine, wire
from askport.core.finding.greeting import discover
from askport.core.formats.dhcp import BootpOp, Dhcp, MessageType, OptionCode

_ASKS_AT_S = (0.0, 2.0)
_WANTED = bytes((OptionCode.SUBNET_MASK, OptionCode.ROUTER, OptionCode.DOMAIN_NAME_SERVER, OptionCode.LEASE_TIME))


@dataclass(slots=True)
class Server:
    """One address server, as its offers show it."""

    address: IPv4Address
    offered: set[IPv4Address] = field(default_factory=set)
    """They show how far its pool reaches at the least."""
    gateway: IPv4Address | None = None
    dns: tuple[IPv4Address, ...] = ()
    lease_s: int | None = None
    """Seconds."""


class OfferLook(machine.Machine):
    """Asks for an offer, and takes none."""

    def __init__(self, mac: addresses.MacAddress, xid: int, *, now: float) -> None:
        super().__init__()
        self._mac, self._xid, self._began_at, self._asks = mac, xid, now, 0
        self.servers: dict[IPv4Address, Server] = {}

    def next_deadline(self) -> float | None:
        return self._began_at + _ASKS_AT_S[self._asks] if self._asks < len(_ASKS_AT_S) else None

    def handle_timer(self, now: float) -> None:
        due = self.next_deadline()
        if due is None or now < due:
            return
        self._asks += 1
        self._send(discover(self._mac, self._xid, (OptionCode.PARAMETER_REQUEST_LIST, _WANTED)))

    def receive(self, heard: wire.Heard) -> None:
        reply = heard.packet.get(Dhcp)
        if reply is None or reply.op != BootpOp.BOOTREPLY or reply.xid != self._xid:
            return
        identifier = reply.address(OptionCode.SERVER_IDENTIFIER)
        if reply.message_type != MessageType.OFFER or identifier is None:
            return
        server = self.servers.setdefault(identifier, Server(identifier))
        server.offered.add(reply.yiaddr)
        server.gateway = reply.address(OptionCode.ROUTER) or server.gateway
        server.dns = addresses.addresses_of(reply.option(OptionCode.DOMAIN_NAME_SERVER) or b"") or server.dns
        lease = reply.option(OptionCode.LEASE_TIME)
        server.lease_s = int.from_bytes(lease) if lease and len(lease) == 4 else server.lease_s
