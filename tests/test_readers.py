"""What each protocol tells: one frame of it, and what must be known after."""

import json
import subprocess
import sys
from ipaddress import IPv4Address, IPv6Address

import pytest

from askport.core.addresses import BROADCAST_MAC, LIMITED_BROADCAST, MacAddress
from askport.core.finding import greeting, quoting
from askport.core.finding.clues import ClueKind
from askport.core.finding.finder import Finder
from askport.core.finding.readers import read_clues
from askport.core.formats.capture import pcapng_frame, pcapng_start
from askport.core.formats.dcp import Block, Dcp, FrameId, encode_dcp
from askport.core.formats.dhcp import Dhcp, MessageType, OptionCode, encode_dhcp
from askport.core.formats.discovery import Ssdp, encode_ssdp
from askport.core.formats.dns import RESPONSE, Dns, Record, RecordType, encode_dns, name_of, netbios_label
from askport.core.formats.ethernet import Ethernet, encode_ethernet
from askport.core.formats.field_protocols import (
    ArtNet,
    Bacnet,
    EtherNetIp,
    Knx,
    encode_art_net,
    encode_bacnet,
    encode_ethernet_ip,
    encode_knx,
)
from askport.core.formats.frame_fields import fields_of
from askport.core.formats.icmpv6 import Icmpv6, encode_icmpv6
from askport.core.formats.igmp import Igmp, encode_igmp
from askport.core.formats.ipv4 import IPv4, ipv4_frame
from askport.core.formats.ipv6 import ALL_NODES, IPv6, ipv6_frame
from askport.core.formats.lldp import Lldp, encode_lldp
from askport.core.formats.packet import Ends, frame_between
from askport.core.formats.udp import Udp, encode_udp
from askport.core.wire import Frame, hear
from conftest import ASKPORT

IT, LAPTOP = MacAddress(bytes.fromhex("00005e005310")), MacAddress(bytes.fromhex("020000000001"))
HOME, OFF_LINK = IPv4Address("192.168.61.7"), IPv4Address("10.1.2.3")


def over(ethertype, payload):
    return encode_ethernet(Ethernet(dst=BROADCAST_MAC, src=IT, ethertype=ethertype, payload=payload))


def udp(port, payload, to=LIMITED_BROADCAST, source=HOME):
    ends = Ends(src_mac=IT, src=source, dst_mac=BROADCAST_MAC, dst=to)
    return frame_between(ends, Udp(src_port=port, dst_port=port, payload=payload))


def ipv4(protocol, payload, **more):
    return ipv4_frame(IPv4(src=HOME, dst=IPv4Address("224.0.0.22"), protocol=protocol, payload=payload, **more),
                      src=IT, dst=BROADCAST_MAC)  # fmt: skip


def icmpv6(kind, body, src="fe80::7"):
    source = IPv6Address(src)
    payload = encode_icmpv6(Icmpv6(type=kind, body=body), src=source, dst=ALL_NODES)
    return ipv6_frame(IPv6(src=source, dst=ALL_NODES, next_header=58, payload=payload, hop_limit=255), src=IT)


def udp6(port, payload):
    source = IPv6Address("fe80::7")
    data = encode_udp(Udp(src_port=port, dst_port=port, payload=payload), src=source, dst=ALL_NODES)
    return ipv6_frame(IPv6(src=source, dst=ALL_NODES, next_header=17, payload=data, hop_limit=255), src=IT)


def records(*answers):
    return encode_dns(Dns(flags=RESPONSE, answers=answers))


def dcp(name=b"feed hopper", mask="255.255.255.0"):
    ip = HOME.packed + IPv4Address(mask).packed + IPv4Address("192.168.61.254").packed
    blocks = ((Block.IP, b"\0\1" + ip), (Block.NAME_OF_STATION, b"\0\0" + name))
    return over(0x8892, encode_dcp(Dcp(frame_id=FrameId.IDENTIFY_RESPONSE, service_id=5, service_type=1, xid=1,
                                       blocks=blocks)))  # fmt: skip


def ws_match(name=b"horn"):
    return (b'<e xmlns:d="http://schemas.xmlsoap.org/ws/2005/04/discovery"><d:ProbeMatches><d:Scopes>'
            b"onvif://www.onvif.org/name/" + name + b"</d:Scopes><d:XAddrs>http://192.168.61.7:8080/on</d:XAddrs>"
            b"</d:ProbeMatches></e>")  # fmt: skip


def lldp(name=b"pump-room"):
    address = b"\5\1" + HOME.packed + b"\2\0\0\0\1\0"
    tlvs = ((1, b"\4" + IT), (5, name), (7, b"\0\4\0\4"), (8, address))
    return over(0x88CC, encode_lldp(Lldp(tlvs)))


def node_status(name=b"FEED"):
    data = b"\1" + name.ljust(15) + b"\0" + b"\4\0"
    return udp(137, records(Record(name=(netbios_label(b"*"),), type=RecordType.SRV, data=data)))


def dhcp(name=b"feed"):
    options = ((OptionCode.MESSAGE_TYPE, bytes((MessageType.DISCOVER,))), (OptionCode.HOST_NAME, name),
               (OptionCode.VENDOR_CLASS_IDENTIFIER, b"hopper 2"))  # fmt: skip
    return udp(68, encode_dhcp(Dhcp(op=1, xid=1, chaddr=IT, options=options)), source=IPv4Address(0))


def mdns(name=b"tank-1"):
    service = (name, b"_http", b"_tcp", b"local")
    srv = Record(name=service, type=RecordType.SRV, data=b"\0\0\0\0\0\x50", target=(name, b"local"))
    return udp(5353, records(srv, Record(name=(name, b"local"), type=RecordType.A, data=HOME.packed)))


def found(*frames):
    finder = Finder([LAPTOP], now=0.0)
    for at, data in enumerate(frames):
        finder.receive(hear(Frame(at=float(at), data=data)))
    return finder


BPDU = bytes.fromhex("424203 0000 02 02 3c 8000 00005e005310 00000000 8000 00005e005310 8001 0000 1400 0200 0f00")
TOLD = {
    "mdns": (mdns(), "likely", "It says that its address is 192.168.61.7 (mDNS, once)."),
    "mdns over ipv6": (udp6(5353, records(Record(name=name_of("tank-1.local"), type=RecordType.A, data=HOME.packed))),
                       "likely", "It says that its address is 192.168.61.7 (mDNS, once)."),
    "ws-discovery over ipv6": (udp6(3702, ws_match()), "likely",
                               "It says that its address is 192.168.61.7 (WS-Discovery, once)."),
    "mdns service": (mdns(), "likely", "It offers TCP port 80 (mDNS, once)."),
    "mdns reverse": (udp(5353, records(Record(name=name_of(HOME.reverse_pointer), type=RecordType.PTR,
                                              target=name_of("tank-1.local")))), "likely", "It calls itself tank-1"),
    "netbios": (node_status(), "likely", "It calls itself FEED (NetBIOS"),
    "netbios registration": (udp(137, encode_dns(Dns(answers=(Record(
        name=(netbios_label(b"hopper"),), type=RecordType.NB, data=b"\0\0" + HOME.packed),)))), "likely",
        "It calls itself HOPPER"),
    "ssdp": (udp(1900, encode_ssdp(Ssdp(start=b"NOTIFY * HTTP/1.1", headers=(
        (b"location", b"http://192.168.61.7:49152/d.xml"), (b"server", b"horn/1.0"))))), "likely",
        "It offers TCP port 49152 (SSDP"),
    "ws-discovery": (udp(3702, ws_match()), "likely", "It calls itself horn (WS-Discovery"),
    "lldp": (lldp(), "likely", "It is a switch (LLDP"),
    "stp": (encode_ethernet(Ethernet(dst=BROADCAST_MAC, src=IT, ethertype=None, payload=BPDU)), None, "It is a switch"),
    "eapol": (over(0x888E, b"\2\0\0\5\1\1\0\5\1"), None, "It wants a log-in"),
    "dcp": (dcp(), "likely", "It calls itself feed hopper (PROFINET DCP"),
    "ethernet/ip": (udp(44818, encode_ethernet_ip(EtherNetIp(address=HOME, product=b"drive"))), "likely",
                    "It says that it is: drive (EtherNet/IP"),
    "bacnet": (udp(47808, encode_bacnet(Bacnet(service=0, instance=77, vendor_id=9))), "likely",
               "It says that it is: BACnet device 77, vendor 9"),
    "knx": (udp(3671, encode_knx(Knx(service=0x0202, address=HOME, mac=IT, name=b"gate"))), "likely",
            "It calls itself gate (KNXnet/IP"),
    "art-net": (udp(6454, encode_art_net(ArtNet(op=0x2100, address=HOME, mac=IT, name=b"lamp"))), "likely",
                "It calls itself lamp (Art-Net"),
    "igmp": (ipv4(2, encode_igmp(Igmp(type=0x22, groups=(IPv4Address("239.1.2.3"),))), ttl=1), "certain",
             "It listens to the group 239.1.2.3"),
    "ntp": (udp(123, bytes(48), to=OFF_LINK), "likely", "It uses 10.1.2.3 for time (NTP)"),
    "page over TLS": (udp(1900, b"NOTIFY * HTTP/1.1\r\nLOCATION: https://10.1.2.3/d.xml\r\n\r\n"), "likely",
                      "It offers TCP port 443"),
    "dad": (icmpv6(135, bytes(4) + IPv6Address("fe80::7").packed, src="::"), None, "It uses fe80::7 (IPv6"),
    "router": (icmpv6(134, bytes(12)), None, "It says that it is a router"),
    "dhcp vendor": (dhcp(), None, "It says that it is: hopper 2 (DHCP"),
}  # fmt: skip


@pytest.mark.parametrize("name", TOLD)
def test_each_protocol_tells_what_it_can(name):
    frame, belief, sentence = TOLD[name]
    (device,) = found(frame).devices()
    assert device.mac == IT
    assert any(reason.sentence.startswith(sentence) for reason in device.reasons()), device.reasons()
    assert (str(device.best.belief) if device.best else None) == belief
    if belief:
        assert device.best.address == HOME


def test_a_station_states_its_mask_and_gateway():
    best = found(dcp()).devices()[0].best
    assert (best.prefix, str(best.prefix_basis), str(best.gateway)) == (24, "stated", "192.168.61.254")
    assert found(dcp(mask="255.0.255.0")).devices()[0].best.prefix is None


@pytest.mark.parametrize(
    ("frame", "code"),
    [(TOLD["router"][0], "router"), (TOLD["stp"][0], "switch"), (TOLD["eapol"][0], "port-login"),
     (mdns()[:12] + b"\x81\x00\x00\x07" + mdns()[12:], "tagged"),
     (mdns().replace(IT, bytes.fromhex("00005e000107")), "virtual-mac")],
)  # fmt: skip
def test_what_calls_for_care_is_said_with_what_to_do(frame, code):
    hazards = {hazard.code: hazard.text for hazard in found(frame).hazards()}
    assert code in hazards
    assert any(verb in hazards[code] for verb in ("onnect", "nplug", "leave it alone"))


def test_our_own_greeting_reflected_tells_nothing():
    """A looped cable brings our questions back: whoever they name, no device has spoken."""
    frames = [ask.frame(LAPTOP, 1) for ask in greeting.ASKS]
    assert found(*frames).devices() == []
    reflected = found(*(data[:6] + IT + data[12:] for data in frames))
    assert all(device.addresses == () for device in reflected.devices())


HOSTILE = [
    "\x1b]0;pwned\x07\x1b[2J",
    "[/][@click=app.quit]x",
    "\u202ernw\u2066\u200b",
    "=cmd|' /C calc'!A0",
    "a" * 64_000,
]


@pytest.mark.long
@pytest.mark.parametrize("text", HOSTILE, ids=["escapes", "markup", "right to left", "formula", "64 kB"])
def test_text_from_the_wire_is_harmless_in_every_protocol(text, tmp_path):
    raw = text.encode()
    tellers = {
        "dhcp": dhcp(raw[:200]), "mdns": mdns(raw[:60]), "lldp": lldp(raw[:500]), "dcp": dcp(raw[:1000]),
        "netbios": node_status(raw[:15].ljust(15)),
        "ws-discovery": udp(3702, ws_match(raw[:60_000].replace(b" ", b""))),
        "ssdp": udp(1900, encode_ssdp(Ssdp(start=b"NOTIFY * HTTP/1.1", headers=((b"server", raw[:60_000]),)))),
        "ethernet/ip": udp(44818, encode_ethernet_ip(EtherNetIp(address=HOME, product=raw[:200]))),
        "knx": udp(3671, encode_knx(Knx(service=0x0202, address=HOME, mac=IT, name=raw[:30]))),
        "art-net": udp(6454, encode_art_net(ArtNet(op=0x2100, address=HOME, mac=IT, name=raw[:60]))),
    }  # fmt: skip
    capture = tmp_path / "hostile.pcapng"
    capture.write_bytes(pcapng_start() + b"".join(pcapng_frame(1.0, data) for data in tellers.values()))
    for flags in (["--json"], []) if "@click" in text else (["--json"],):
        run = subprocess.run([*ASKPORT, "read", capture, *flags], capture_output=True, text=True)
        assert run.returncode == 0, run.stderr
        assert all(line.isprintable() for line in run.stdout.splitlines())
        assert max(map(len, run.stdout.splitlines())) < 400
        if flags:
            names = json.loads(run.stdout)["devices"][0]["names"]
            assert {"dhcp", "mdns", "lldp", "dcp", "art-net"} <= {each["source"] for each in names}
    for name, data in tellers.items():
        (device,) = found(data).devices()
        assert all(reason.sentence.isprintable() for reason in device.reasons()), name
    assert sys.getsizeof(device.names) < 10_000


@pytest.mark.parametrize("nobody", ["127.0.0.1", "0.0.0.0", "224.0.0.1", "255.255.255.255"])
def test_what_no_host_can_have_is_not_taken_from_a_message(nobody):
    record = Record(name=name_of("tank-1.local"), type=RecordType.A, data=IPv4Address(nobody).packed)
    (device,) = found(udp(5353, records(record))).devices()
    assert [each.address for each in device.addresses] == [HOME]


def test_a_first_fragment_is_readable():
    """It says how long the whole datagram is, and holds a part of it."""
    head = (5353).to_bytes(2, "big") * 2 + (3000).to_bytes(2, "big")
    assert hear(Frame(at=0.0, data=ipv4(17, head + bytes(1400), flags=1))).packet.unreadable is None


def test_a_frame_with_ipv6_extension_headers_is_opened_to_its_bytes():
    request = encode_udp(Udp(src_port=68, dst_port=67, payload=encode_dhcp(Dhcp(op=1, xid=1, chaddr=bytes(IT)))),
                          src=IPv6Address("fe80::7"), dst=ALL_NODES)  # fmt: skip
    packet = IPv6(src=IPv6Address("fe80::7"), dst=ALL_NODES, next_header=17, payload=request,
                  extensions=((0, b"\0" + bytes(6)), (60, b"\1" + bytes(14))))  # fmt: skip
    data = ipv6_frame(packet, src=IT)
    fields = {field.name: field for field in fields_of(data)}
    assert fields["client's MAC address"].value == str(IT)
    (asks,) = [clue for clue in read_clues(hear(Frame(at=0.0, data=data)).packet) if clue.kind is ClueKind.ASKS_BOOTP]
    assert any(each.says_so for each in quoting.bytes_behind(hear(Frame(at=0.0, data=data)), asks))


def test_two_with_one_link_local_address_are_twins_there_too():
    finder = Finder([LAPTOP], now=0.0)
    for number, mac in enumerate((IT, MacAddress(bytes(IT)[:5] + b"\x77"))):
        told = icmpv6(135, bytes(4) + IPv6Address("fe80::1").packed, src="::")
        finder.receive(hear(Frame(at=float(number), data=told[:6] + bytes(mac) + told[12:])))
    texts = {each.code: each.text for each in finder.hazards()}
    assert "2 twins use fe80::1 (IPv6)" in texts["duplicate-ipv6"]
