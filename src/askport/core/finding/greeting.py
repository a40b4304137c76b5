"""Greeting: discovery requests (multicast and broadcast), which need no address, so that devices show themselves."""

from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass
from ipaddress import IPv4Address, IPv6Address

from askport.core import machine, wire
from askport.core.addresses import BROADCAST_MAC, LIMITED_BROADCAST, UNSPECIFIED, MacAddress
from askport.core.formats import dhcp, discovery, dns, field_protocols, igmp
from askport.core.formats.ethernet import Ethernet
from askport.core.formats.icmp import Icmp, IcmpType, encode_icmp
from askport.core.formats.icmpv6 import PROTOCOL_ICMPV6, Icmpv6, Icmpv6Type, encode_icmpv6
from askport.core.formats.ipv4 import PROTOCOL_ICMP, PROTOCOL_UDP, IPv4, ipv4_frame
from askport.core.formats.ipv6 import ALL_NODES, IPv6, ipv6_frame, link_local
from askport.core.formats.packet import Ends, frame_between, read_packet
from askport.core.formats.udp import Udp, encode_udp
from askport.core.phrases import phrase
from askport.core.protocols import PROTOCOLS, Protocol, later, part

GREETING_SOURCE = IPv4Address("192.0.2.174")
"""From a block for documentation (RFC 5737), so it is in no device's subnet: to answer it, a device looks for its
gateway, and so shows its own address and the gateway's."""
GREETING_LINK_LOCAL = IPv4Address("169.254.174.2")
"""Another for everybody who has fallen back to a link-local address and has no gateway (RFC 3927): they look for it
straight. Nobody is told that it is somebody's."""
OWN_SOURCES = frozenset({GREETING_SOURCE, GREETING_LINK_LOCAL})
_ALL_HOSTS = IPv4Address("224.0.0.1")
_ANSWER_WITHIN_MS = 300
_HOP_BY_HOP, _ROUTER_ALERT = 0, bytes((0, 5, 2, 0, 0, 1, 0))
"""A query without this option is not answered (RFC 2711, RFC 3810 section 5)."""
_MDNS_GROUP6 = IPv6Address("ff02::fb")
_WS_GROUP6 = IPv6Address("ff02::c")
_SOLICITED = IPv6Address("ff02::1:ff00:0").packed[:13]
"""The group of all whose address ends alike (RFC 4291 section 2.7.1)."""
_OUR_MAC = b"\x01\x01"
"""The option source link-layer address, in units of 8 bytes (RFC 4861 section 4.6.1)."""
_SPACING_S = 0.03
"""Between two questions: a small device reads frames one by one."""
_ROUNDS_AFTER_S = (0.0, 3.0, 10.0, 30.0, 60.0)
"""A device that is just starting misses the first rounds."""
_XID = 0x41_50_47_31
"""Fixed, so that answers to it are known to be ours."""


@dataclass(frozen=True, slots=True)
class Ask:
    """One question."""

    name: str
    frame: Callable[[MacAddress, int], bytes]
    """Takes the laptop's MAC address, and a number that is another one each time."""


def _group_mac(group: IPv4Address) -> MacAddress:
    """Return the Ethernet address of an IPv4 group (RFC 1112 section 6.4)."""
    if group == LIMITED_BROADCAST:
        return BROADCAST_MAC
    return MacAddress(b"\x01\x00\x5e" + (int(group) & 0x7F_FFFF).to_bytes(3, "big"))


def _udp(mac: MacAddress, group: IPv4Address, port: int, payload: bytes, ttl: int = 4) -> bytes:
    """Return a frame from and to the same port, so that the kernel's filter lets the answer through."""
    data = encode_udp(Udp(src_port=port, dst_port=port, payload=payload), src=GREETING_SOURCE, dst=group)
    packet = IPv4(src=GREETING_SOURCE, dst=group, protocol=PROTOCOL_UDP, payload=data, ttl=ttl)
    return ipv4_frame(packet, src=mac, dst=_group_mac(group))


def everybody_echo(mac: MacAddress) -> bytes:
    """Return an echo to all IPv6 nodes, from the link-local address that the laptop's MAC address gives."""
    src = link_local(mac)
    echo = encode_icmpv6(Icmpv6(type=Icmpv6Type.ECHO, body=b"APG1" + bytes(8)), src=src, dst=ALL_NODES)
    packet = IPv6(src=src, dst=ALL_NODES, next_header=PROTOCOL_ICMPV6, payload=echo, hop_limit=255)
    return ipv6_frame(packet, src=mac)


def listener_query(mac: MacAddress) -> bytes:
    """Return the question who listens to which multicast groups (RFC 2710 section 3): every IPv6 node answers it."""
    src, asks = link_local(mac), _ANSWER_WITHIN_MS.to_bytes(2, "big") + bytes(2) + IPv6Address(0).packed
    query = encode_icmpv6(Icmpv6(type=Icmpv6Type.LISTENER_QUERY, body=asks), src=src, dst=ALL_NODES)
    packet = IPv6(
        src=src, dst=ALL_NODES, next_header=PROTOCOL_ICMPV6, payload=query, hop_limit=1,
        extensions=((_HOP_BY_HOP, _ROUTER_ALERT),),
    )  # fmt: skip
    return ipv6_frame(packet, src=mac)


def _echo(group: IPv4Address, source: IPv4Address = GREETING_SOURCE) -> Callable[[MacAddress, int], bytes]:
    def frame(mac: MacAddress, _: int) -> bytes:
        echo = encode_icmp(Icmp(type=IcmpType.ECHO, identifier=0x4150, sequence_number=1, data=bytes(24)))
        packet = IPv4(src=source, dst=group, protocol=PROTOCOL_ICMP, payload=echo, ttl=4)
        return ipv4_frame(packet, src=mac, dst=_group_mac(group))

    return frame


def _igmp(mac: MacAddress) -> bytes:
    """Ask who listens to groups; from 0.0.0.0 it elects no querier (RFC 4541 section 2.1.1)."""
    payload = igmp.encode_igmp(igmp.Igmp(type=igmp.IgmpType.QUERY, max_response=10))
    packet = IPv4(
        src=UNSPECIFIED, dst=_ALL_HOSTS, protocol=igmp.PROTOCOL_IGMP, payload=payload, ttl=1, options=b"\x94\x04\0\0"
    )
    return ipv4_frame(packet, src=mac, dst=_group_mac(_ALL_HOSTS))


_SERVICES = dns.encode_dns(
    dns.Dns(questions=(dns.DnsQuestion(name=dns.name_of("_services._dns-sd._udp.local"), type=dns.RecordType.PTR),))
)


def _udp6(mac: MacAddress, group: IPv6Address, port: int, payload: bytes) -> bytes:
    src = link_local(mac)
    data = encode_udp(Udp(src_port=port, dst_port=port, payload=payload), src=src, dst=group)
    packet = IPv6(src=src, dst=group, next_header=PROTOCOL_UDP, payload=data, hop_limit=255)
    return ipv6_frame(packet, src=mac)


def _ssdp(mac: MacAddress) -> bytes:
    headers = (
        (b"host", b"239.255.255.250:1900"),
        (b"man", b'"ssdp:discover"'),
        (b"mx", b"1"),
        (b"st", b"ssdp:all"),
    )
    message = discovery.encode_ssdp(discovery.Ssdp(start=b"M-SEARCH * HTTP/1.1", headers=headers))
    return _udp(mac, discovery.SSDP_GROUP, discovery.PORT_SSDP, message)


def search_knx(mac: MacAddress) -> bytes:
    """Return what asks all KNXnet/IP servers, in their group, who is there (ISO 22510)."""
    request = field_protocols.Knx(service=field_protocols.KnxService.SEARCH_REQUEST, address=GREETING_SOURCE)
    return _udp(mac, field_protocols.KNX_GROUP, field_protocols.PORT_KNX, field_protocols.encode_knx(request), ttl=16)


_STATUS = dns.encode_dns(
    dns.Dns(id=0x4150, questions=(dns.DnsQuestion(name=(dns.netbios_label(b"*"),), type=dns.RecordType.SRV),))
)
"""Asks for all names that a node has (RFC 1002 section 4.2.17)."""


def discover(mac: MacAddress, xid: int = _XID, *more: tuple[int, bytes]) -> bytes:
    """Return what looks for address servers; what they offer is never taken (RFC 2131 section 3.1)."""
    message = dhcp.Dhcp(
        op=dhcp.BootpOp.BOOTREQUEST,
        xid=xid,
        chaddr=bytes(mac),
        flags=dhcp.BROADCAST_FLAG,
        options=((dhcp.OptionCode.MESSAGE_TYPE, bytes((dhcp.MessageType.DISCOVER,))), *more),
    )
    datagram = Udp(src_port=dhcp.CLIENT_PORT, dst_port=dhcp.SERVER_PORT, payload=dhcp.encode_dhcp(message))
    data = encode_udp(datagram, src=UNSPECIFIED, dst=LIMITED_BROADCAST)
    packet = IPv4(src=UNSPECIFIED, dst=LIMITED_BROADCAST, protocol=PROTOCOL_UDP, payload=data)
    return ipv4_frame(packet, src=mac, dst=BROADCAST_MAC)


def _to_all(port: int, payload: bytes) -> Callable[[MacAddress, int], bytes]:
    return lambda mac, _: _udp(mac, LIMITED_BROADCAST, port, payload)


def _same(frame: Callable[[MacAddress], bytes]) -> Callable[[MacAddress, int], bytes]:
    """Return what asks in the same words each time."""
    return lambda mac, _: frame(mac)


def _probe(version: discovery.WsVersion = discovery.WS_2005_04, types: str = "") -> Callable[[MacAddress, int], bytes]:
    return lambda mac, number: _udp(
        mac, discovery.SSDP_GROUP, discovery.PORT_WS_DISCOVERY, discovery.ws_discovery_probe(number, version, types)
    )


def _probe6(mac: MacAddress, number: int) -> bytes:
    return _udp6(
        mac, _WS_GROUP6, discovery.PORT_WS_DISCOVERY, discovery.ws_discovery_probe(number, discovery.WS_2005_04, "")
    )


def _number(mac: MacAddress, now: float, place: int = 0) -> int:
    """Return a number that is another one each time, on each laptop."""
    return int.from_bytes(mac, "big") << 72 | int(now * 1e6) << 8 | place


def _asks_of(protocol: Protocol) -> Ask:
    """Return the question to everybody by a field protocol."""
    asks, port = later(protocol.asks_in_frame or protocol.asks), protocol.udp_port or 0
    if protocol.asks_in_frame:
        return Ask(protocol.greets, lambda mac, _: asks(mac))
    return Ask(protocol.greets, lambda mac, _: _udp(mac, LIMITED_BROADCAST, port, asks(None)))


ASKS: tuple[Ask, ...] = (
    Ask(phrase("IPv6, all nodes"), _same(everybody_echo)),
    Ask(phrase("address servers (DHCP)"), _same(discover)),
    Ask(
        phrase("names and services (mDNS)"), lambda mac, _: _udp(mac, dns.MDNS_GROUP, dns.PORT_MDNS, _SERVICES, ttl=255)
    ),
    Ask(
        phrase("names and services (mDNS over IPv6)"), lambda mac, _: _udp6(mac, _MDNS_GROUP6, dns.PORT_MDNS, _SERVICES)
    ),
    Ask(phrase("descriptions (SSDP)"), _same(_ssdp)),
    Ask(phrase("devices (WS-Discovery)"), _probe()),
    Ask(phrase("devices (WS-Discovery over IPv6)"), _probe6),
    Ask(phrase("devices (WS-Discovery 1.1)"), _probe(discovery.WS_1_1)),
    Ask(phrase("computers and printers (WS-Discovery)"), _probe(types=discovery.WS_DEVICES)),
    *(_asks_of(each) for each in PROTOCOLS.values() if each.greets),
    Ask(phrase("group members (IGMP)"), _same(_igmp)),
    Ask(phrase("everybody (ping)"), _echo(_ALL_HOSTS)),
    Ask(phrase("everybody (broadcast ping)"), _echo(LIMITED_BROADCAST)),
    Ask(phrase("fallbacks (ping)"), _echo(_ALL_HOSTS, GREETING_LINK_LOCAL)),
    Ask(phrase("fallbacks (broadcast ping)"), _echo(LIMITED_BROADCAST, GREETING_LINK_LOCAL)),
    Ask(phrase("names (NetBIOS)"), _to_all(dns.PORT_NETBIOS_NAMES, _STATUS)),
)
"""To greet by one protocol more, write one line here; field protocols declare theirs."""


def ask_for_link_local(laptop: MacAddress, device: MacAddress) -> bytes:
    """Return the question who has the link-local address that a device's MAC address gives (RFC 4861 section 4.3)."""
    guess, src = link_local(device), link_local(laptop)
    group = IPv6Address(_SOLICITED + guess.packed[13:])
    asks = Icmpv6(Icmpv6Type.NEIGHBOUR_SOLICITATION, body=bytes(4) + guess.packed + _OUR_MAC + laptop)
    payload = encode_icmpv6(asks, src=src, dst=group)
    return ipv6_frame(IPv6(src=src, dst=group, next_header=PROTOCOL_ICMPV6, payload=payload, hop_limit=255), src=laptop)


def service_question(laptop_mac: MacAddress, name: dns.Name, kind: dns.RecordType) -> bytes:
    """Return a question for the services of a type, or for the port of one (RFC 6762)."""
    question = dns.encode_dns(dns.Dns(questions=(dns.DnsQuestion(name=name, type=kind),)))
    return _udp(laptop_mac, dns.MDNS_GROUP, dns.PORT_MDNS, question, ttl=255)


def name_questions(laptop_mac: MacAddress, mac: MacAddress, address: IPv4Address) -> list[bytes]:
    """Return questions for the name of whoever holds an address: mDNS (RFC 6762) and NetBIOS (RFC 1002)."""
    reverse = dns.name_of(f"{address.reverse_pointer}")
    mdns = dns.encode_dns(dns.Dns(questions=(dns.DnsQuestion(name=reverse, type=dns.RecordType.PTR),)))
    src = GREETING_SOURCE
    data = encode_udp(
        Udp(src_port=dns.PORT_NETBIOS_NAMES, dst_port=dns.PORT_NETBIOS_NAMES, payload=_STATUS), src=src, dst=address
    )
    straight = IPv4(src=src, dst=address, protocol=PROTOCOL_UDP, payload=data)
    return [
        _udp(laptop_mac, dns.MDNS_GROUP, dns.PORT_MDNS, mdns, ttl=255),
        ipv4_frame(straight, src=laptop_mac, dst=mac),
    ]


class Greeting(machine.Machine):
    """Asks everything in the table, in rounds that come less and less often, and anew when the link comes up."""

    def __init__(self, mac: MacAddress, *, now: float, own: Callable[[], Iterable[IPv4Address]] = lambda: ()) -> None:
        """Begin now.

        Args:
            own: tells which addresses the laptop has on this adapter: whoever is in their subnet can answer those.
        """
        super().__init__()
        self._mac, self._own = mac, own
        self._began_at = now
        self._rounds = 0
        self._asks: Iterator[Ask] = iter(())
        self._next_at: float | None = now

    @property
    def done(self) -> bool:
        return self._next_at is None

    def link_changed(self, link: wire.Link, now: float) -> None:
        if link.up:
            self._began_at, self._rounds, self._asks, self._next_at = now, 0, iter(()), now

    def next_deadline(self) -> float | None:
        return self._next_at

    def handle_timer(self, now: float) -> None:
        if self._next_at is None or now < self._next_at:
            return
        ask = next(self._asks, None)
        if ask:
            frame = ask.frame(self._mac, _number(self._mac, now))
            self._send(frame)
            for source in self._own():
                if again := _from(frame, source):
                    self._send(again)
            self._next_at = now + _SPACING_S
            return
        if self._rounds == len(_ROUNDS_AFTER_S):
            self._next_at = None
            return
        due_at = self._began_at + _ROUNDS_AFTER_S[self._rounds]
        if now < due_at:
            self._next_at = due_at
            return
        self._rounds += 1
        self._asks, self._next_at = iter(ASKS), now


def _from(frame: bytes, source: IPv4Address) -> bytes | None:
    """Return a greeting as it goes out from another address, or None where it has none of that kind."""
    packet = read_packet(frame)
    ethernet, ipv4, udp = packet.get(Ethernet), packet.get(IPv4), packet.get(Udp)
    if ethernet is None or ipv4 is None or ipv4.src != GREETING_SOURCE:
        return None
    payload = encode_udp(udp, src=source, dst=ipv4.dst) if udp else ipv4.payload
    return ipv4_frame(ipv4._replace(src=source, payload=payload), src=ethernet.src, dst=ethernet.dst)


def ask_for_numbers(ends: Ends, now: float) -> list[bytes]:
    """Return questions to one device for the numbers by which its field protocols know it.

    Args:
        ends: from the laptop's address in the device's subnet: asked from elsewhere, a device without a gateway that
            answers could not.
        now: which moment it is.
    """
    probes = ((discovery.WS_2005_04, ""), (discovery.WS_1_1, ""), (discovery.WS_2005_04, discovery.WS_DEVICES))
    asked = [(each.udp_port, part(each.asks)(ends.src)) for each in PROTOCOLS.values() if each.asks and each.udp_port]
    for place, probe in enumerate(probes):
        asked.append(
            (discovery.PORT_WS_DISCOVERY, discovery.ws_discovery_probe(_number(ends.src_mac, now, place), *probe))
        )
    told = [frame_between(ends, Udp(src_port=port, dst_port=port, payload=data)) for port, data in asked]
    in_frames = [each for each in PROTOCOLS.values() if each.asks_in_frame and not each.asks]
    return [*(part(each.asks_in_frame)(ends.src_mac) for each in in_frames), *told]
