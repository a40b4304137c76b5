"""A small IP stack for stand-in devices: answers ARP and echoes, opens ports, looks for its gateway."""

from dataclasses import dataclass, field
from ipaddress import IPv4Address, IPv4Interface, IPv6Address

from askport.core.addresses import NO_MAC, UNSPECIFIED, MacAddress
from askport.core.formats.arp import Arp, Op, arp_frame, arp_question
from askport.core.formats.icmp import Icmp, IcmpType
from askport.core.formats.icmpv6 import PROTOCOL_ICMPV6, Icmpv6, Icmpv6Type, encode_icmpv6
from askport.core.formats.ipv4 import IPv4
from askport.core.formats.ipv6 import IPv6, ipv6_frame
from askport.core.formats.packet import Ends, Ends6, Packet, ends6_of, ends_of, frame_between, read_packet
from askport.core.formats.tcp import Tcp, TcpFlag, encode_timestamp, timestamp_of
from askport.core.formats.udp import Udp

_TICKS_A_SECOND = 100
_MAX_WAITING = 8
"""Answers held while their next hop is asked for; small stacks hold fewer."""


@dataclass(slots=True)
class Host:
    """What one interface of a device does by itself. ``receive`` returns the frames that it sends in answer."""

    mac: MacAddress
    interface: IPv4Interface | None = None
    gateway: IPv4Address | None = None
    answers_echo: bool = True
    ports: tuple[int, ...] | None = None
    """TCP ports that open; None where it has no TCP and stays silent."""
    up_for_s: float = 0.0
    """Since its start, for the clock that its TCP shows."""
    ipv6: IPv6Address | None = None
    """Its link-local address; None where it speaks no IPv6."""
    neighbours: dict[IPv4Address, MacAddress] = field(default_factory=dict)
    waiting: list[tuple[IPv4Address, Ends, Icmp | Tcp | Udp]] = field(default_factory=list)

    def receive(self, data: bytes) -> list[bytes]:
        """Take a frame from the wire."""
        packet = read_packet(data)
        if arp := packet.get(Arp):
            return self._arp(arp)
        if ends6 := ends6_of(packet):
            return self._over_ipv6(packet, ends6)
        ends, ipv4 = ends_of(packet), packet.get(IPv4)
        if self.interface is None or ends is None or ipv4 is None:
            return []
        if ends.dst_mac != self.mac or ends.dst != self.interface.ip:
            return []
        message = self._answer(packet)
        return self.send(ends.back.src, ends.back.dst, message) if message else []

    def look_for_gateway(self) -> list[bytes]:
        """Ask for the gateway, as stacks do before their first packet out of the subnet."""
        if self.interface is None or self.gateway is None:
            return []
        return [arp_question(self.mac, self.gateway, sender=self.interface.ip)]

    def announce(self) -> list[bytes]:
        """Say which address was just taken (RFC 5227 section 2.3)."""
        if self.interface is None:
            return []
        return [arp_frame(Arp(op=Op.REQUEST, sha=self.mac, spa=self.interface.ip, tha=NO_MAC, tpa=self.interface.ip))]

    def take(self, interface: IPv4Interface | None, gateway: IPv4Address | None) -> None:
        """Use other settings from now on."""
        self.interface, self.gateway = interface, gateway
        self.neighbours.clear()
        self.waiting.clear()

    def send(self, src: IPv4Address, dst: IPv4Address, message: Icmp | Tcp | Udp) -> list[bytes]:
        """Send a message through the routing rule: straight inside the subnet, else by the gateway, else not at all."""
        hop = self._next_hop(dst)
        if hop is None:
            return []
        ends = Ends(src_mac=self.mac, src=src, dst_mac=self.neighbours.get(hop, NO_MAC), dst=dst)
        if hop in self.neighbours:
            return [frame_between(ends, message)]
        self.waiting = [*self.waiting[-_MAX_WAITING + 1 :], (hop, ends, message)]
        return [arp_question(self.mac, hop, sender=src)]

    def _next_hop(self, dst: IPv4Address) -> IPv4Address | None:
        if self.interface is None:
            return None
        network = self.interface.network
        if network.prefixlen < 31 and dst == network.broadcast_address:  # RFC 1122 section 3.2.1.3
            return None
        return dst if dst in network else self.gateway

    def _arp(self, arp: Arp) -> list[bytes]:
        if self.interface is None or arp.sha == self.mac:
            return []
        frames: list[bytes] = []
        if arp.spa != UNSPECIFIED and (arp.tpa == self.interface.ip or arp.spa in self.neighbours):
            self.neighbours[arp.spa] = arp.sha
            ready = [each for each in self.waiting if each[0] == arp.spa]
            self.waiting = [each for each in self.waiting if each[0] != arp.spa]
            for _, ends, message in ready:
                known = Ends(src_mac=ends.src_mac, src=ends.src, dst_mac=arp.sha, dst=ends.dst)
                frames.append(frame_between(known, message))
        if arp.op == Op.REQUEST and arp.tpa == self.interface.ip:
            reply = Arp(op=Op.REPLY, sha=self.mac, spa=self.interface.ip, tha=arp.sha, tpa=arp.spa)
            frames.insert(0, arp_frame(reply, to=arp.sha))
        return frames

    def _over_ipv6(self, packet: Packet, ends: Ends6) -> list[bytes]:
        """Say who has its address, answer echoes to all, and open its ports."""
        asks, message, back = packet.get(Icmpv6), self._answer(packet), ends.back
        if self.ipv6 is None:
            return []
        if message and ends.dst == self.ipv6 and ends.dst_mac == self.mac:
            return [frame_between(back, message)]
        if asks is None or (asks.target or self.ipv6) != self.ipv6:
            return []
        if asks.type == Icmpv6Type.NEIGHBOUR_SOLICITATION:  # solicited, and with its MAC address (RFC 4861 section 4.4)
            kind, body = Icmpv6Type.NEIGHBOUR_ADVERTISEMENT, b"\x60\0\0\0" + self.ipv6.packed + b"\x02\x01" + self.mac
        elif asks.type == Icmpv6Type.ECHO:
            kind, body = Icmpv6Type.ECHO_REPLY, asks.body
        else:
            return []
        payload = encode_icmpv6(Icmpv6(kind, body=body), src=self.ipv6, dst=back.dst)
        whole = IPv6(src=self.ipv6, dst=back.dst, next_header=PROTOCOL_ICMPV6, payload=payload, hop_limit=255)
        return [ipv6_frame(whole, src=self.mac, dst=back.dst_mac)]

    def _answer(self, packet: Packet) -> Icmp | Tcp | None:
        icmp, tcp = packet.get(Icmp), packet.get(Tcp)
        if icmp and icmp.type == IcmpType.ECHO and self.answers_echo:
            return Icmp(
                type=IcmpType.ECHO_REPLY,
                identifier=icmp.identifier,
                sequence_number=icmp.sequence_number,
                data=icmp.data,
            )
        if tcp and tcp.flags & TcpFlag.SYN and not tcp.flags & TcpFlag.ACK and self.ports is not None:
            opens = tcp.dst_port in self.ports
            flags = TcpFlag.SYN | TcpFlag.ACK if opens else TcpFlag.RST | TcpFlag.ACK
            seq = 0x1000 if opens else 0
            clock = timestamp_of(tcp) is not None and opens
            return Tcp(
                src_port=tcp.dst_port, dst_port=tcp.src_port, seq=seq, ack=tcp.seq + 1, flags=flags, window=1024,
                options=encode_timestamp(int(self.up_for_s * _TICKS_A_SECOND)) if clock else b"",
            )  # fmt: skip
        return None
