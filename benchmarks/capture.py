"""A mixed capture as a device, its neighbours and a busy wire make it, built from the product's own encoders."""

from ipaddress import IPv4Address
from random import Random
from struct import pack

from askport.core.addresses import BROADCAST_MAC, LIMITED_BROADCAST, MacAddress
from askport.core.finding.greeting import ASKS
from askport.core.formats import dcp
from askport.core.formats import field_protocols as fp
from askport.core.formats.arp import Arp, Op, arp_frame, arp_question
from askport.core.formats.dhcp import BootpOp, Dhcp, MessageType, OptionCode, encode_dhcp
from askport.core.formats.discovery import PORT_WS_DISCOVERY, ws_discovery_match
from askport.core.formats.dns import RESPONSE, Dns, Record, RecordType, encode_dns, name_of
from askport.core.formats.ethernet import Ethernet, encode_ethernet
from askport.core.formats.icmp import Icmp
from askport.core.formats.packet import Ends, frame_between
from askport.core.formats.tcp import Tcp, TcpFlag
from askport.core.formats.udp import Udp

_LAPTOP = MacAddress(b"\2\0\0\0\0\1")
_MDNS_MAC = MacAddress(bytes.fromhex("01005e0000fb"))


def kinds(mac: MacAddress, address: IPv4Address) -> list[bytes]:
    """Return one frame of every kind from one device."""
    straight = Ends(src_mac=mac, src=address, dst_mac=_LAPTOP, dst=address + 1)
    to_all = Ends(src_mac=mac, src=IPv4Address(0), dst_mac=BROADCAST_MAC, dst=LIMITED_BROADCAST)
    group = Ends(src_mac=mac, src=address, dst_mac=_MDNS_MAC, dst=IPv4Address("224.0.0.251"))
    options = ((OptionCode.MESSAGE_TYPE, bytes((MessageType.DISCOVER,))), (OptionCode.HOST_NAME, b"feed-hopper"))
    request = Dhcp(op=BootpOp.BOOTREQUEST, xid=7, chaddr=mac, options=options)
    record = Record(name=name_of("tank-1.local"), type=RecordType.A, data=address.packed)
    answer = encode_dns(Dns(flags=RESPONSE, answers=(record,)))
    return [
        arp_question(mac, address + 9, sender=address),
        arp_frame(Arp(op=Op.REPLY, sha=mac, spa=address, tha=_LAPTOP, tpa=address + 1), to=_LAPTOP),
        frame_between(to_all, Udp(src_port=68, dst_port=67, payload=encode_dhcp(request))),
        frame_between(group, Udp(src_port=5353, dst_port=5353, payload=answer)),
        frame_between(straight, Icmp(type=8, data=bytes(32))),
        frame_between(straight, Tcp(src_port=49152, dst_port=80, seq=1, flags=TcpFlag.SYN)),
        frame_between(straight, Tcp(src_port=80, dst_port=49152, seq=1, flags=TcpFlag.ACK, payload=bytes(900))),
        frame_between(straight, Udp(src_port=5000, dst_port=6000, payload=bytes(700))),
        *(ask.frame(mac, 1) for ask in ASKS[:6]),
    ]


def field_answers() -> list[bytes]:
    """Return what a device answers in each field protocol, as frames."""
    mac, address = MacAddress(bytes.fromhex("00005e005361")), IPv4Address("192.168.61.7")
    name = pack("!HH", dcp.Block.NAME_OF_STATION, 8) + b"\0\0valves"
    kind = pack("!HHHHH", dcp.Block.DEVICE_ID, 6, 0, 4094, 258)
    ip = pack("!HH", dcp.Block.IP, 14) + b"\0\1" + address.packed + b"\xff\xff\xff\0" + address.packed
    head = pack("!HBBIHH", dcp.FrameId.IDENTIFY_RESPONSE, 5, 1, 7, 0, len(name + kind + ip))
    station = Ethernet(dst=_LAPTOP, src=mac, ethertype=dcp.ETHERTYPE_PROFINET, payload=head + name + kind + ip)
    identity = fp.EtherNetIp(address=address, vendor_id=4094, product_code=7, serial=99, product=b"Valve island")
    described = fp.Knx(fp.KnxService.SEARCH_RESPONSE, address, mac=mac, name=b"feed lane", serial=b"\0\1\2\3\4\5")
    told = (
        (fp.PORT_ETHERNET_IP, fp.encode_ethernet_ip(identity)),
        (fp.PORT_BACNET, fp.encode_bacnet(fp.Bacnet(fp.BacnetService.I_AM, 1234, vendor_id=999))),
        (fp.PORT_KNX, fp.encode_knx(described)),
        (fp.PORT_KNX, fp.encode_knx(described._replace(service=fp.KnxService.DESCRIPTION_RESPONSE))),
        (fp.PORT_ART_NET, fp.encode_art_net(fp.ArtNet(fp.ArtNetOp.POLL_REPLY, address, b"lane lights", mac))),
        (PORT_WS_DISCOVERY, ws_discovery_match(b"http://192.168.61.7/onvif/device_service")),
    )
    ends = Ends(src_mac=mac, src=address, dst_mac=_LAPTOP, dst=address + 1)
    spoken = [frame_between(ends, Udp(src_port=port, dst_port=port, payload=data)) for port, data in told]
    return [encode_ethernet(station), *spoken]


def mixed(count: int, seed: int = 7) -> list[bytes]:
    """Return ``count`` frames of many devices in a fixed random order."""
    random = Random(seed)
    frames = [
        frame
        for number in range(16)
        for frame in kinds(MacAddress(bytes((0, 0, 0x5E, 0, 0x53, number))), IPv4Address(0xC0A83D00 + number))
    ]
    return random.choices(frames, k=count)
