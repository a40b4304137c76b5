"""The site LAN behind the wrong socket: an address server that is also the router, and people's computers."""

from ipaddress import IPv4Address, IPv4Interface

from askport.bench.stand_in import Settings, StandIn
from askport.core.addresses import BROADCAST_MAC, LIMITED_BROADCAST, MacAddress, mask_of_prefix
from askport.core.formats import dhcp, ipv6, udp
from askport.core.formats.icmpv6 import PROTOCOL_ICMPV6, Icmpv6, Icmpv6Type, encode_icmpv6
from askport.core.formats.packet import Ends, frame_between, read_packet


class HouseRouter(StandIn):
    """Routes, advertises itself over IPv6, and offers addresses to whoever asks."""

    boot_s = 0.5
    _advertises_every_s = 12.0

    def __init__(self, mac: MacAddress, factory: Settings, offers: IPv4Address) -> None:
        super().__init__(mac, factory)
        self._offers = offers

    def started(self, now: float) -> list[bytes]:
        super().started(now)
        return [*self.host.announce(), *self.due(now)]

    def due(self, now: float) -> list[bytes]:
        """Advertise itself as an IPv6 router (RFC 4861 section 4.2)."""
        self.next_at = now + self._advertises_every_s
        src = ipv6.link_local(self.mac)
        body = bytes((64, 0)) + (1800).to_bytes(2, "big") + bytes(8)
        message = encode_icmpv6(Icmpv6(type=Icmpv6Type.ROUTER_ADVERTISEMENT, body=body), src=src, dst=ipv6.ALL_NODES)
        packet = ipv6.IPv6(src=src, dst=ipv6.ALL_NODES, next_header=PROTOCOL_ICMPV6, payload=message, hop_limit=255)
        return [ipv6.ipv6_frame(packet, src=self.mac)]

    def receive(self, data: bytes, now: float) -> list[bytes]:
        """Offer an address to whoever looks for one (RFC 2131 section 4.3.1)."""
        request = read_packet(data).get(dhcp.Dhcp) if self.up else None
        interface = self.host.interface
        if request is None or interface is None or request.message_type != dhcp.MessageType.DISCOVER:
            return super().receive(data, now)
        offer = dhcp.Dhcp(
            op=dhcp.BootpOp.BOOTREPLY,
            xid=request.xid,
            chaddr=request.chaddr,
            flags=request.flags,
            yiaddr=self._offers,
            options=(
                (dhcp.OptionCode.MESSAGE_TYPE, bytes((dhcp.MessageType.OFFER,))),
                (dhcp.OptionCode.SERVER_IDENTIFIER, interface.ip.packed),
                (dhcp.OptionCode.SUBNET_MASK, mask_of_prefix(interface.network.prefixlen).packed),
            ),
        )
        ends = Ends(src_mac=self.mac, src=interface.ip, dst_mac=BROADCAST_MAC, dst=LIMITED_BROADCAST)
        return [
            frame_between(
                ends, udp.Udp(src_port=dhcp.SERVER_PORT, dst_port=dhcp.CLIENT_PORT, payload=dhcp.encode_dhcp(offer))
            )
        ]


class HouseComputer(StandIn):
    """A computer at its owner's work: it looks for the router now and then."""

    boot_s = 1.0
    _looks_every_s = 7.0

    def __init__(self, mac: MacAddress, interface: IPv4Interface, gateway: IPv4Address) -> None:
        super().__init__(mac, Settings(interface, gateway))

    def started(self, now: float) -> list[bytes]:
        super().started(now)
        return self.due(now)

    def due(self, now: float) -> list[bytes]:
        self.next_at = now + self._looks_every_s + self.mac[5] % 5
        return self.host.look_for_gateway()
