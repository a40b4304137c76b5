"""Codecs: any bytes are survived, and what is written is read back."""

from ipaddress import IPv4Address, IPv6Address
from struct import pack

import pytest
from hypothesis import given
from hypothesis import strategies as st

from askport.core.addresses import MacAddress
from askport.core.finding import quoting, sentences
from askport.core.finding.readers import read_clues
from askport.core.formats.arp import Arp, arp_question, decode_arp, encode_arp
from askport.core.formats.capture import pcapng_frame, pcapng_start, read_capture
from askport.core.formats.dcp import Dcp, FrameId, decode_profinet, encode_dcp
from askport.core.formats.dhcp import Dhcp, MessageType, OptionCode, decode_dhcp, encode_dhcp
from askport.core.formats.discovery import (
    Ssdp,
    WsDiscovery,
    decode_ssdp,
    decode_ws_discovery,
    encode_ssdp,
)
from askport.core.formats.dns import Dns, DnsQuestion, Record, decode_dns, encode_dns
from askport.core.formats.eapol import Eapol, decode_eapol, encode_eapol
from askport.core.formats.ethernet import Ethernet, decode_ethernet, encode_ethernet
from askport.core.formats.field_protocols import (
    ArtNet,
    Bacnet,
    EtherNetIp,
    Knx,
    decode_art_net,
    decode_bacnet,
    decode_ethernet_ip,
    decode_knx,
    encode_art_net,
    encode_bacnet,
    encode_ethernet_ip,
    encode_knx,
)
from askport.core.formats.icmp import Icmp, decode_icmp, encode_icmp
from askport.core.formats.icmpv6 import Icmpv6, decode_icmpv6, encode_icmpv6
from askport.core.formats.igmp import Igmp, decode_igmp, encode_igmp
from askport.core.formats.ipv4 import IPv4, decode_ipv4, encode_ipv4
from askport.core.formats.ipv6 import IPv6, decode_ipv6, encode_ipv6
from askport.core.formats.llc import Bpdu, Llc, decode_bpdu, decode_llc, encode_bpdu, encode_llc
from askport.core.formats.lldp import Lldp, decode_lldp, encode_lldp
from askport.core.formats.packet import BY_UDP_PORT, Ends, frame_between, read_packet
from askport.core.formats.tcp import Tcp, decode_tcp, encode_tcp
from askport.core.formats.udp import Udp, decode_udp, encode_udp
from askport.core.formats.unreadable import Unreadable
from askport.core.wire import Heard

A, B = IPv4Address("10.84.16.40"), IPv4Address("10.84.16.9")
byte, short, word = st.integers(0, 255), st.integers(0, 0xFFFF), st.integers(0, 0xFFFFFFFF)


def names_only(message):
    """A request for values has no data behind their names."""
    is_get = (message.service_id, message.service_type) == (3, 0)
    return message._replace(blocks=tuple((kind, b"") for kind, _ in message.blocks)) if is_get else message


def made(kind, **parts):
    """Values of a kind, with its own defaults for what is not given (``builds`` would invent those too)."""
    return st.fixed_dictionaries(parts).map(lambda given: kind(**given))


macs = st.binary(min_size=6, max_size=6).map(MacAddress)
addresses = word.map(IPv4Address)
payloads = st.binary(max_size=64)
words_of_options = st.integers(0, 10).flatmap(lambda n: st.binary(min_size=4 * n, max_size=4 * n))
A6 = IPv6Address("fe80::1")
addresses6 = st.binary(min_size=16, max_size=16).map(IPv6Address)
eight = st.binary(min_size=8, max_size=8)
names = st.lists(st.binary(min_size=1, max_size=20), min_size=1, max_size=4).map(tuple)
tokens = st.binary(min_size=1, max_size=17).map(lambda raw: bytes(0x61 + each % 26 for each in raw))


def ws_match(where):
    """A probe match as cameras send it, written here by hand."""
    return (b'<e:Envelope xmlns:d="http://schemas.xmlsoap.org/ws/2005/04/discovery"><d:ProbeMatches><d:ProbeMatch>'
            b"<d:XAddrs>" + where + b"</d:XAddrs></d:ProbeMatch></d:ProbeMatches></e:Envelope>")  # fmt: skip


options = st.lists(
    st.tuples(st.integers(1, 254).filter(lambda code: code != OptionCode.OVERLOAD), payloads), max_size=5
)

CODECS = {
    # An 802.3 length or a tag type as EtherType would be read as what it says.
    "ethernet": (decode_ethernet, encode_ethernet, made(
        Ethernet, dst=macs, src=macs, ethertype=st.integers(0x0600, 0x80FF),
        tags=st.lists(short, max_size=2).map(tuple),
        payload=st.binary(min_size=46, max_size=99))),
    "802.3": (decode_ethernet, encode_ethernet, made(
        Ethernet, dst=macs, src=macs, ethertype=st.none(), tags=st.just(()), payload=payloads)),
    "arp": (decode_arp, encode_arp, made(Arp, op=short, sha=macs, spa=addresses, tha=macs, tpa=addresses)),
    "ipv4": (decode_ipv4, encode_ipv4, made(
        IPv4, src=addresses, dst=addresses, protocol=byte, payload=payloads, ttl=byte, tos=byte, identification=short,
        flags=st.integers(0, 7), fragment_offset=st.integers(0, 0x1FFF), options=words_of_options)),
    "icmp": (decode_icmp, encode_icmp, made(
        Icmp, type=byte, code=byte, identifier=short, sequence_number=short, data=payloads)),
    "udp": (decode_udp, lambda x: encode_udp(x, src=A, dst=B), made(
        Udp, src_port=short, dst_port=short, payload=payloads)),
    "tcp": (decode_tcp, lambda x: encode_tcp(x, src=A, dst=B), made(
        Tcp, src_port=short, dst_port=short, seq=word, ack=word, flags=st.integers(0, 0x1FF), window=short,
        options=words_of_options, payload=payloads)),
    "dhcp": (decode_dhcp, encode_dhcp, made(
        Dhcp, op=st.sampled_from([1, 2]), xid=word, chaddr=st.binary(min_size=16, max_size=16), htype=byte, hlen=byte,
        hops=byte, secs=short, flags=short, ciaddr=addresses, yiaddr=addresses, siaddr=addresses, giaddr=addresses,
        sname=st.binary(min_size=64, max_size=64), file=st.binary(min_size=128, max_size=128),
        options=options.map(tuple), has_cookie=st.just(True))),
    "ipv6": (decode_ipv6, encode_ipv6, made(
        IPv6, src=addresses6, dst=addresses6, next_header=byte.filter(lambda kind: kind not in (0, 43, 60)),
        hop_limit=byte, payload=payloads,
        extensions=st.sampled_from([(), ((0, b"\0\5\2\0\0\1\0"),)]))),
    "icmpv6": (decode_icmpv6, lambda x: encode_icmpv6(x, src=A6, dst=A6), made(
        Icmpv6, type=byte, code=byte, body=payloads)),
    "llc": (decode_llc, encode_llc, made(Llc, dsap=byte, ssap=byte, control=byte, payload=payloads)),
    "stp": (decode_bpdu, encode_bpdu, made(
        Bpdu, version=byte, type=st.just(2), root=eight, bridge=eight, port=short)),
    "lldp": (decode_lldp, encode_lldp, st.lists(st.tuples(st.integers(2, 127), payloads), max_size=5).map(
        lambda more: Lldp(((1, b"\4chassis"), *more)))),
    "eapol": (decode_eapol, encode_eapol, made(Eapol, version=byte, type=byte, body=payloads)),
    "igmp": (decode_igmp, encode_igmp, made(
        Igmp, type=st.sampled_from([0x11, 0x16, 0x22]), groups=addresses.filter(int).map(lambda group: (group,)),
        max_response=byte)),
    "dns": (decode_dns, encode_dns, made(
        Dns, id=short, flags=short, questions=st.lists(made(
            DnsQuestion, name=names, type=short, class_=st.integers(0, 0x7FFF)), max_size=3).map(tuple),
        answers=st.lists(st.one_of(
            made(Record, name=names, type=st.just(1), ttl=word, data=st.binary(min_size=4, max_size=4)),
            made(Record, name=names, type=st.just(12), ttl=word, target=names),
            made(Record, name=names, type=st.just(33), ttl=word, data=st.binary(min_size=6, max_size=6),
                      target=names)), max_size=3).map(tuple)).filter(lambda x: x.questions or x.answers)),
    "ssdp": (decode_ssdp, encode_ssdp, st.lists(st.tuples(
        st.sampled_from([b"location", b"server"]), tokens), max_size=4).map(
            lambda headers: Ssdp(start=b"HTTP/1.1 200 OK", headers=tuple(headers)))),
    "ws-discovery": (decode_ws_discovery, lambda x: ws_match(b" ".join(x.xaddrs)), st.lists(
        tokens, min_size=1, max_size=3).map(lambda where: WsDiscovery(is_answer=True, xaddrs=tuple(where)))),
    "dcp": (decode_profinet, encode_dcp, made(
        Dcp, frame_id=st.sampled_from(list(map(int, FrameId))), service_id=byte, service_type=byte, xid=word,
        response_delay=short, blocks=st.lists(st.tuples(short, payloads), max_size=3).map(tuple)).map(names_only)),
    "ethernet/ip": (decode_ethernet_ip, encode_ethernet_ip, made(
        EtherNetIp, address=addresses, vendor_id=short, serial=word, product=payloads, product_code=short)),
    "bacnet": (decode_bacnet, encode_bacnet, made(
        Bacnet, service=st.just(0), instance=st.integers(0, 0x3FFFFF), vendor_id=short)),
    "knx": (decode_knx, encode_knx, made(
        Knx, service=st.just(0x0202), address=addresses, port=short, mac=macs, name=tokens)),
    "art-net": (decode_art_net, encode_art_net, made(
        ArtNet, op=st.just(0x2100), address=addresses, mac=macs, name=tokens)),
}  # fmt: skip


@pytest.mark.parametrize("name", CODECS)
@given(data=st.data())
def test_what_is_written_is_read_back(name, data):
    decode, encode, values = CODECS[name]
    value = data.draw(values)
    assert decode(encode(value)) == value


@pytest.mark.parametrize("name", CODECS)
@given(data=st.data())
def test_no_bytes_are_too_bad(name, data):
    """Arbitrary, cut and bent bytes are read or said to be unreadable, never an exception."""
    decode, encode, values = CODECS[name]
    good = encode(data.draw(values))
    cut = good[: data.draw(st.integers(0, len(good)))]
    at = data.draw(st.integers(0, len(good) - 1))
    bent = good[:at] + bytes([data.draw(byte)]) + good[at + 1 :]
    for raw in (data.draw(st.binary(max_size=400)), cut, bent):
        result = decode(raw)
        assert isinstance(str(result), str)
        if isinstance(result, Unreadable):
            assert 0 <= result.offset <= len(raw)


@given(data=st.data())
def test_frames_are_survived_through_all_layers(data):
    """A frame with any payload under a believable header never raises, in the layers and in the clue readers."""
    inner = data.draw(
        st.one_of(*(values.map(encode) for _, encode, values in CODECS.values()), st.binary(max_size=300))
    )
    kind = data.draw(st.sampled_from([0x0800, 0x0806, 0x8100, 0x86DD, 0x88CC, 0x888E, 0x8892, 64]))
    port = data.draw(st.sampled_from(sorted(BY_UDP_PORT)))
    datagram = encode_udp(Udp(src_port=port, dst_port=port, payload=inner), src=A, dst=B)
    ip = encode_ipv4(
        IPv4(
            src=A,
            dst=B,
            protocol=data.draw(st.sampled_from([1, 2, 6, 17])),
            payload=data.draw(st.sampled_from([inner, datagram])),
        )
    )
    for raw in (
        inner,
        encode_ethernet(
            Ethernet(
                dst=MacAddress(b"\xff" * 6),
                src=MacAddress(bytes(6)),
                ethertype=kind,
                payload=data.draw(st.sampled_from([inner, ip])),
            )
        ),
    ):
        for clue in read_clues(read_packet(raw)):
            assert clue.text.isprintable()
            assert sentences.sentence_of(clue, 2).isprintable()
            assert quoting.bytes_behind(Heard(0.0, raw, read_packet(raw)), clue)


def test_a_real_echo_request_is_read_as_its_standard_says():
    """A frame written down byte by byte from RFC 791 and 792, not by our own encoder."""
    raw = bytes.fromhex(
        "00005e005310 00005e005301 0800"
        "4500 001e 0001 0000 40 01 4606 0a541009 0a541028"
        "0800 4e45 4150 0001 6869"
        "00000000000000000000000000000000"
    )
    packet = read_packet(raw)
    assert packet.unreadable is None
    ip, icmp = packet.get(IPv4), packet.get(Icmp)
    assert (ip.src, ip.dst, ip.ttl) == (B, A, 64)
    assert (icmp.type, icmp.identifier, icmp.sequence_number, icmp.data) == (8, 0x4150, 1, b"hi")


@pytest.mark.parametrize("spoil", [24, 34])
def test_a_wrong_checksum_is_not_believed(spoil):
    ends = Ends(src_mac=MacAddress(bytes(6)), src=A, dst_mac=MacAddress(bytes(6)), dst=B)
    raw = bytearray(frame_between(ends, Icmp(type=8)))
    raw[spoil] ^= 1
    assert "checksum" in str(read_packet(bytes(raw)).unreadable)


@given(src=st.ip_addresses(v=4), dst=st.ip_addresses(v=4), payload=st.binary(max_size=40))
def test_segments_and_datagrams_sum_up_as_their_standards_say(src, dst, payload):
    """RFC 9293 section 3.1 and RFC 768: word by word over the pseudo-header too, the sum is all ones."""
    for protocol, data in (
        (6, encode_tcp(Tcp(src_port=49152, dst_port=80, payload=payload), src=src, dst=dst)),
        (17, encode_udp(Udp(src_port=68, dst_port=67, payload=payload), src=src, dst=dst)),
    ):
        covered = src.packed + dst.packed + bytes((0, protocol, 0, len(data))) + data + b"\0" * (len(data) % 2)
        total = sum(int.from_bytes(covered[at : at + 2]) for at in range(0, len(covered), 2))
        while total >> 16:
            total = (total & 0xFFFF) + (total >> 16)
        assert total == 0xFFFF


def test_dhcp_details_of_the_field():
    """No cookie means plain BOOTP, a split option is joined, an overflowed one found, the reply is long enough."""
    split = Dhcp(op=1, xid=1, chaddr=bytes(16), options=((12, b"feed-"), (12, b"hopper"), (OptionCode.OVERLOAD, b"\1")),
                 file=bytes((53, 1, MessageType.DISCOVER, 255)).ljust(128, b"\0"))  # fmt: skip
    read = decode_dhcp(encode_dhcp(split))
    assert read.option(OptionCode.HOST_NAME) == b"feed-hopper"
    assert read.message_type == MessageType.DISCOVER
    plain = Dhcp(op=1, xid=1, chaddr=bytes(16), has_cookie=False)
    assert decode_dhcp(encode_dhcp(plain)).message_type is None
    assert len(encode_dhcp(plain)) == 300


def test_short_frames_are_padded_and_tags_are_kept():
    frame = arp_question(MacAddress(b"\2" * 6), A)
    assert len(frame) == 60
    tagged = frame[:12] + b"\x81\x00\x20\x05" + frame[12:]
    packet = read_packet(tagged)
    assert packet.get(Ethernet).vlan == 5
    assert packet.get(Arp).tpa == A


@pytest.mark.parametrize("version", [1, 2])
@pytest.mark.parametrize("ng", [False, True])
def test_a_cooked_capture_is_read_as_ethernet(version, ng):
    """What Linux writes of all its adapters at once, with a checksum that was left to the adapter."""
    mac, to_all = bytes.fromhex("020000000099"), IPv4Address("255.255.255.255")
    packet = bytearray(encode_ipv4(IPv4(src=IPv4Address("192.168.61.7"), dst=to_all, protocol=17, payload=bytes(8))))
    packet[10:12] = b"\0\0"
    other = pack(">HHH", 1, 772, 6) + mac + bytes(2) + b"\x08\0" + packet  # from the loopback: no frame of a wire
    cooked = pack(">HHH", 1, 1, 6) + mac + bytes(2) + b"\x08\0" + packet
    link_type = 113
    if version == 2:
        cooked = b"\x08\0" + bytes(2) + pack(">IHBB", 3, 1, 1, 6) + mac + bytes(2) + packet
        other, link_type = cooked[:8] + pack(">H", 772) + cooked[10:], 276
    if ng:
        start = pcapng_start()
        file = start[:36] + pack("<HH", link_type, 0) + start[40:]  # behind the section, and the head of its interface
        file += pcapng_frame(1.0, cooked) + pcapng_frame(2.0, other)
    else:
        file = pack("<IHHiIII", 0xA1B2C3D4, 2, 4, 0, 0, 65_535, link_type)
        file += b"".join(pack("<IIII", 1, 0, len(each), len(each)) + each for each in (cooked, other))
    (captured,) = read_capture(file)
    read = read_packet(captured.data)
    assert (read.get(Ethernet).src, read.get(Ethernet).dst.is_group) == (mac, True)
    assert str(read.get(IPv4).src) == "192.168.61.7"
