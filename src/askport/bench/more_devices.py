"""More stand-ins of the scenario: twins, a client that falls back, a switch, a horn, a slow reader, a mast."""

from ipaddress import IPv4Interface, IPv6Address

from askport.bench import consoles, host, page_device, pages, stand_in
from askport.core.addresses import BROADCAST_MAC, LIMITED_BROADCAST, UNSPECIFIED, MacAddress, prefix_of_mask
from askport.core.errors import Refused
from askport.core.formats import arp, dhcp, dns, icmpv6, ipv6, udp
from askport.core.formats.ethernet import Ethernet, encode_ethernet
from askport.core.formats.icmp import Icmp, IcmpType
from askport.core.formats.llc import SAP_SPANNING_TREE, Bpdu, Llc, encode_bpdu, encode_llc
from askport.core.formats.lldp import ETHERTYPE_LLDP, Lldp, Tlv, encode_lldp
from askport.core.formats.packet import Ends, ends_of, frame_between, read_packet
from askport.core.plan.target import Target

LOG_IN = ("fitter", "hatchery")
"""Of the switch's console."""
_LLDP_GROUP = MacAddress(bytes.fromhex("0180c200000e"))
_SOLICITED = IPv6Address("ff02::1:ff00:0").packed[:13]
_ALL_ROUTERS = IPv6Address("ff02::2")
_NO_ADDRESS6 = IPv6Address("::")
_LOOK_UP = dns.encode_dns(
    dns.Dns(questions=(dns.DnsQuestion(name=dns.name_of("time.sallowbeck.example"), type=dns.RecordType.A),))
)
_BRIDGE_GROUP = MacAddress(bytes.fromhex("0180c2000000"))


class OxygenProbe(page_device.PageDevice):
    """OX-01 to OX-06: every unit of the crate has the same address; its page has four fields for one."""

    title = "Oxygen Probe Head"
    by_octets = True


class GateReader(page_device.PageDevice):
    """DR-01: takes no settings without a gateway, and two minutes to start."""

    boot_s = 120.0
    restart_s = 120.0
    title = "Gate Reader"
    says_saved = "Saved. It restarts, which takes two minutes."
    _insists = "Its page says: gateway required. Where the site has none, enter the device's own address."

    def save(self, settings: stand_in.Settings) -> pages.Answer | None:
        """Insist on a gateway."""
        return super().save(settings) if settings.gateway else pages.Answer(400, self._insists)

    def type_in(self, target: Target, now: float, *, over_the_cable: bool) -> str:
        """Fill in its page, which insists on a gateway."""
        if target.gateway is None:
            raise Refused(self._insists)
        return super().type_in(target, now, over_the_cable=over_the_cable)


class PagingHorn(page_device.PageDevice):
    """PA-01: two MAC and two IP addresses, one for the service and one for its page."""

    title = "Paging Horn"

    def __init__(self, mac: MacAddress, factory: stand_in.Settings, service: IPv4Interface) -> None:
        super().__init__(mac, factory)
        self.service = host.Host(MacAddress(mac[:5] + bytes((mac[5] + 1,))), service)

    def has(self, mac: MacAddress) -> bool:
        """Whether a MAC address is one of its two."""
        return mac in (self.host.mac, self.service.mac)

    def started(self, now: float) -> list[bytes]:
        """Come up at both addresses, and say its name from its page's."""
        return [*super().started(now), *self.service.announce(), self._name_itself()]

    def receive(self, data: bytes, now: float) -> list[bytes]:
        return [*super().receive(data, now), *self.service.receive(data)] if self.up else []

    def _name_itself(self) -> bytes:
        address = self.saved.interface.ip if self.saved.interface else UNSPECIFIED
        record = dns.Record(name=dns.name_of("paging-horn.local"), type=dns.RecordType.A, data=address.packed)
        ends = Ends(
            src_mac=self.mac, src=address, dst_mac=MacAddress(bytes.fromhex("01005e0000fb")), dst=dns.MDNS_GROUP
        )
        payload = dns.encode_dns(dns.Dns(flags=dns.RESPONSE, answers=(record,)))
        return frame_between(ends, udp.Udp(src_port=dns.PORT_MDNS, dst_port=dns.PORT_MDNS, payload=payload))


class FeedController(page_device.PageDevice):
    """FD-01: asks by DHCP, falls back to a link-local address, and uses its page's settings after a restart only."""

    boot_s = 5.0
    title = "Feed Hopper"
    says_saved = "Saved. Its page says: restart to use the new settings."
    _asks_at_s = (0.0, 2.0, 6.0, 12.0)
    _fallback_s = 20.0
    _fallback = IPv4Interface("169.254.83.12/16")

    def started(self, now: float) -> list[bytes]:
        frames = super().started(now)
        self.host.ports = (80,)
        self._asked, self._began_at = 0, now
        if self.host.interface is None:
            return self.due(now)
        self.next_at = now + 1.0
        return frames

    def due(self, now: float) -> list[bytes]:
        """Ask four times, then try out a link-local address and take it (RFC 3927 section 2.2).

        With an address of its own it looks a name up once it has started.
        """
        if self.host.interface:
            datagram = udp.Udp(src_port=49_153, dst_port=53, payload=_LOOK_UP)
            servers = self.saved.dns if self.saved.interface else ()
            return [frame for each in servers for frame in self.host.send(self.host.interface.ip, each, datagram)]
        self._asked += 1
        if self._asked <= len(self._asks_at_s):
            later = self._asks_at_s[self._asked] if self._asked < len(self._asks_at_s) else self._fallback_s
            self.next_at = self._began_at + later
            return [self._request(dhcp.MessageType.DISCOVER)]
        if self._asked <= len(self._asks_at_s) + 3:
            self.next_at = now + 1.5
            return [arp.arp_question(self.mac, self._fallback.ip)]
        self.host.take(self._fallback, None)
        return self.host.announce()

    def _request(self, kind: dhcp.MessageType, *options: tuple[int, bytes]) -> bytes:
        message = dhcp.Dhcp(
            op=dhcp.BootpOp.BOOTREQUEST,
            xid=0xFD_0001,
            chaddr=bytes(self.mac),
            options=(
                (dhcp.OptionCode.MESSAGE_TYPE, bytes((kind,))),
                (dhcp.OptionCode.HOST_NAME, b"feed-hopper"),
                *options,
            ),
        )
        ends = Ends(src_mac=self.mac, src=UNSPECIFIED, dst_mac=BROADCAST_MAC, dst=LIMITED_BROADCAST)
        return frame_between(
            ends, udp.Udp(src_port=dhcp.CLIENT_PORT, dst_port=dhcp.SERVER_PORT, payload=dhcp.encode_dhcp(message))
        )

    def receive(self, data: bytes, now: float) -> list[bytes]:
        """Take an offer, and then the lease (RFC 2131 section 3.1)."""
        if not self.up:
            return []
        reply = read_packet(data).get(dhcp.Dhcp)
        if reply is None or reply.op != dhcp.BootpOp.BOOTREPLY or reply.client != self.mac:
            return super().receive(data, now)
        server = reply.option(dhcp.OptionCode.SERVER_IDENTIFIER)
        if reply.message_type == dhcp.MessageType.OFFER and server:
            wanted = (dhcp.OptionCode.REQUESTED_IP_ADDRESS, reply.yiaddr.packed)
            return [self._request(dhcp.MessageType.REQUEST, wanted, (dhcp.OptionCode.SERVER_IDENTIFIER, server))]
        mask = reply.address(dhcp.OptionCode.SUBNET_MASK)
        prefix = prefix_of_mask(mask) if mask else None
        if reply.message_type != dhcp.MessageType.ACK or prefix is None:
            return []
        self.host.take(IPv4Interface((reply.yiaddr, prefix)), reply.address(dhcp.OptionCode.ROUTER))
        self.next_at = None
        return self.host.announce()

    def save(self, settings: stand_in.Settings) -> pages.Answer | None:
        """Keep it; what is used changes at the next start."""
        self.saved = settings
        return pages.Answer(200, self.says_saved)

    @property
    def needs_restart(self) -> bool:
        """Whether its page was told another address than it uses."""
        return self.up and self.saved.interface not in (None, self.host.interface)

    @property
    def unsaved(self) -> str | None:
        """A lease is gone at the next power cycle until its page was told the address."""
        return None if self.saved.interface else "its page does not have the address yet"


class PumpRoomSwitch(stand_in.StandIn):
    """SW-01: its line console changes the running configuration; what was not saved is gone after a power cycle."""

    boot_s = 8.0
    hand = "console"
    _hello_s = 2.0

    def started(self, now: float) -> list[bytes]:
        super().started(now)
        self.host.ports = (22, 23)
        self._hellos = 0
        return [*self.host.announce(), *self.due(now)]

    def due(self, now: float) -> list[bytes]:
        """Say that it is a switch: spanning tree every two seconds, LLDP every other time."""
        self.next_at = now + self._hello_s
        self._hellos += 1
        bridge = b"\x80\x00" + self.mac
        bpdu = Llc(
            dsap=SAP_SPANNING_TREE,
            ssap=SAP_SPANNING_TREE,
            control=3,
            payload=encode_bpdu(Bpdu(version=2, type=2, root=bridge, bridge=bridge, port=0x8001)),
        )
        frames = [encode_ethernet(Ethernet(dst=_BRIDGE_GROUP, src=self.mac, ethertype=None, payload=encode_llc(bpdu)))]
        return [*frames, self._lldp()] if self._hellos % 2 else frames

    def _lldp(self) -> bytes:
        address = self.host.interface.ip if self.host.interface else UNSPECIFIED
        tlvs = (
            (Tlv.CHASSIS_ID, b"\x04" + self.mac),
            (Tlv.PORT_ID, b"\x07port 1"),
            (Tlv.TIME_TO_LIVE, b"\x00\x78"),
            (Tlv.SYSTEM_NAME, b"pump-room"),
            (Tlv.SYSTEM_DESCRIPTION, b"eight-port managed switch"),
            (Tlv.SYSTEM_CAPABILITIES, b"\x00\x04\x00\x04"),
            (Tlv.MANAGEMENT_ADDRESS, b"\x05\x01" + address.packed + b"\x02\0\0\0\x01\0"),
        )
        frame = Ethernet(dst=_LLDP_GROUP, src=self.mac, ethertype=ETHERTYPE_LLDP, payload=encode_lldp(Lldp(tlvs)))
        return encode_ethernet(frame)

    def talk(self, port: int) -> stand_in.Talk | None:
        """Offer its line console on the Telnet port."""
        return consoles.LineConsole("pump-room", "pump-room# ", self._verb, log_in=LOG_IN) if port == 23 else None

    def _verb(self, line: str) -> str | None:
        match line.split():
            case ["show", "running"]:
                return f"address {self.host.interface}\r\ngateway {self.host.gateway or '0.0.0.0'}"
            case ["address", address, "gateway", gateway] if "/" in address:
                at, prefix = address.split("/", 1)
                wrong = consoles.take(self, at, prefix, gateway)
                return f"refused: {wrong}" if wrong else "running configuration changed"
            case ["save", "running"]:
                consoles.keep(self)
                return "running configuration saved"
            case ["exit"]:
                return None
        return f"refused: {line.split()[0]} is no command"

    def type_in(self, target: Target, now: float, *, over_the_cable: bool) -> str:
        """Change the running configuration on its console; once it is as planned, save it."""
        self._need_power()
        if self.host.interface == target.interface:
            self.saved = stand_in.Settings(self.host.interface, self.host.gateway)
            return "Console: running configuration saved."
        self.host.take(target.interface, target.gateway)
        return "Console: taken into the running configuration, not saved yet."

    @property
    def unsaved(self) -> str | None:
        """Whether the running configuration is another than the saved one."""
        same = self.host.interface == self.saved.interface
        return None if same else "its running configuration is not saved"


class WeatherMast(stand_in.StandIn):
    """WX-01: no IPv4 address at all; as any IPv6 node it tries out a link-local one (RFC 4862 section 5.4)."""

    boot_s = 5.0
    hand = "ping"
    _payload, _listens_s, _prefix = 127, 60.0, 22

    def started(self, now: float) -> list[bytes]:
        """Come up, and try out the address that is made from its MAC address."""
        super().started(now)
        self._tried, self._began_at = 0, now
        return [*self.host.announce(), *self.due(now)]

    def receive(self, data: bytes, now: float) -> list[bytes]:
        """Take the address of an echo of its length while it listens for one; answer straight to whoever asks."""
        packet = read_packet(data)
        icmp, ends = packet.get(Icmp), ends_of(packet)
        if not self.up or icmp is None or ends is None or icmp.type != IcmpType.ECHO or ends.dst_mac != self.mac:
            return super().receive(data, now)
        frames: list[bytes] = []
        if len(icmp.data) == self._payload and now <= self._began_at + self._listens_s:
            interface = IPv4Interface((ends.dst, self._prefix))
            if self.host.interface != interface:
                self.saved = stand_in.Settings(interface)
                self.host.take(interface, None)
                frames = self.host.announce()
        if self.host.interface and self.host.interface.ip == ends.dst:
            reply = icmp._replace(type=IcmpType.ECHO_REPLY)
            frames.append(frame_between(ends.back, reply))
        return frames

    def due(self, now: float) -> list[bytes]:
        own = ipv6.link_local(self.mac)
        self._tried += 1
        self.next_at = now + (1.0 if self._tried == 1 else 8.0)
        if self._tried == 1:
            # The group of all nodes whose address ends alike (RFC 4291 section 2.7.1).
            src, dst = _NO_ADDRESS6, IPv6Address(_SOLICITED + own.packed[13:])
            message = icmpv6.Icmpv6(type=icmpv6.Icmpv6Type.NEIGHBOUR_SOLICITATION, body=bytes(4) + own.packed)
        else:
            src, dst = own, _ALL_ROUTERS
            message = icmpv6.Icmpv6(type=icmpv6.Icmpv6Type.ROUTER_SOLICITATION, body=bytes(4))
        payload = icmpv6.encode_icmpv6(message, src=src, dst=dst)
        whole = ipv6.IPv6(src=src, dst=dst, next_header=icmpv6.PROTOCOL_ICMPV6, payload=payload, hop_limit=255)
        return [ipv6.ipv6_frame(whole, src=self.mac)]

    def type_in(self, target: Target, now: float, *, over_the_cable: bool) -> str:
        """There is nothing to type into."""
        raise Refused("It has neither page nor keypad: it takes its address from a ping sent to its MAC address.")
