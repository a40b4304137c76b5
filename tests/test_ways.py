"""Setting an address: the address server for one MAC address, and watching by hand."""

from ipaddress import IPv4Address, IPv4Interface
from itertools import islice

import pytest
from hypothesis import given
from hypothesis import strategies as st

from askport.core.addresses import BROADCAST_MAC, MacAddress
from askport.core.channels import Fetch, Fetched
from askport.core.formats import ipv4, udp
from askport.core.formats.arp import Arp, Op, arp_frame, arp_question
from askport.core.formats.dhcp import BROADCAST_FLAG, BootpOp, Dhcp, MessageType, encode_dhcp
from askport.core.formats.ethernet import Ethernet
from askport.core.formats.packet import Ends, frame_between, read_packet
from askport.core.kinds.kind_reading import read_kind
from askport.core.plan.landings import landings
from askport.core.plan.target import Target
from askport.core.reach.can_talk import can_talk
from askport.core.reach.free_address import FreeAddressSearch, from_the_top, near
from askport.core.ways.answering_requests import AnsweringRequests
from askport.core.ways.by_hand import ByHand
from askport.core.ways.start import Start
from askport.core.ways.table import WAYS
from askport.core.ways.way import Result
from askport.core.wire import Frame, Link, hear

US, IT, OTHER = (MacAddress(bytes((2, 0, 0, 0, 0, n))) for n in (1, 9, 8))
LAPTOP, NEW, ANY = IPv4Interface("10.84.19.240/22"), IPv4Address("10.84.16.21"), IPv4Address(0)
TARGET = Target(
    interface=IPv4Interface("10.84.16.21/22"), gateway=IPv4Address("10.84.19.254"), dns=(IPv4Address("10.84.19.253"),)
)


class Talk:
    """One address server and what it sends, on a clock that a test moves."""

    def __init__(self, **options):
        self.way = AnsweringRequests(IT, TARGET, laptop_mac=US, laptop=LAPTOP, xid=lambda: 5, now=0.0, **options)
        self.now = 0.0

    def until(self, now):
        """Let time pass, calling at every deadline; no deadline may be skipped or stand still."""
        while (due := self.way.next_deadline()) is not None and due <= now:
            assert due >= self.now
            self.way.handle_timer(due)
            self.now = due
            assert self.way.next_deadline() != due or self.way.done
        self.now = now
        return self.sent()

    def sent(self):
        return [read_packet(effect.data) for effect in self.way.poll()]

    def hear(self, frame):
        self.way.receive(hear(Frame(at=self.now, data=frame)))
        return self.sent()

    def says(self, kind, mac=IT, src_mac=None, ciaddr=ANY, **fields):
        options = () if kind is None else ((53, bytes([kind])),)
        options += tuple((code, IPv4Address(value).packed) for code, value in fields.pop("tell", {}).items())
        options += fields.pop("more", ())
        vlan = fields.pop("vlan", 0)
        message = Dhcp(
            op=fields.pop("op", BootpOp.BOOTREQUEST),
            xid=77,
            chaddr=bytes(mac),
            ciaddr=ciaddr,
            options=options,
            **fields,
        )
        ends = Ends(src_mac=src_mac or mac, src=ciaddr, dst_mac=BROADCAST_MAC, dst=IPv4Address("255.255.255.255"))
        data = frame_between(ends, udp.Udp(src_port=68, dst_port=67, payload=encode_dhcp(message)))
        return self.hear(data[:12] + b"\x81\0" + vlan.to_bytes(2, "big") + data[12:] if vlan else data)

    @classmethod
    def ready(cls, **options):
        talk = cls(**options)
        talk.until(6.5)
        return talk


ANSWERS_AT_NEW = arp_frame(Arp(op=Op.REPLY, sha=IT, spa=NEW, tha=US, tpa=LAPTOP.ip), to=US)
SPEAKS_AT_NEW = arp_question(IT, TARGET.gateway, sender=NEW)


def answer(packets):
    replies = [packet for packet in packets if packet.get(Dhcp)]
    assert len(replies) == 1
    return replies[0].get(Dhcp), replies[0].get(Ethernet), replies[0].get(ipv4.IPv4)


def test_dhcp_in_full():
    talk = Talk.ready()
    offer, _, _ = answer(talk.says(MessageType.DISCOVER))
    assert (offer.message_type, offer.yiaddr, offer.xid) == (MessageType.OFFER, NEW, 77)
    assert offer.address(54) == LAPTOP.ip
    ack, ethernet, ip = answer(talk.says(MessageType.REQUEST, tell={50: NEW, 54: LAPTOP.ip}))
    assert ack.message_type == MessageType.ACK
    assert [int.from_bytes(each.option(51)) for each in (offer, ack)] == [86_400, 86_400]
    assert (ack.address(1), ack.address(3), ack.address(6)) == (
        IPv4Address("255.255.252.0"),
        TARGET.gateway,
        TARGET.dns[0],
    )
    assert (ethernet.dst, ip.dst) == (IT, NEW)
    # It looks, from its own address so that a device that is probing sees no conflict, and believes only the device.
    looked = talk.until(7.5)
    assert all(packet.get(Arp).spa == LAPTOP.ip for packet in looked)
    assert looked
    talk.hear(ANSWERS_AT_NEW)
    assert talk.way.result is None, "it may answer for everything: its neighbours are asked for first"
    talk.until(10.0)
    assert talk.way.result is Result.TAKEN
    assert talk.way.next_deadline() is None


def test_bootp_answers_are_long_enough_and_alternate_for_those_who_take_only_one():
    talk = Talk.ready()
    reply, ethernet, ip = answer(talk.says(None))
    assert (reply.message_type, reply.yiaddr, reply.has_cookie) == (None, NEW, True)
    assert (ethernet.dst, ip.dst) == (IT, NEW)
    assert len(encode_dhcp(reply)) >= 300
    _, ethernet, ip = answer(talk.says(None))
    assert (ethernet.dst, str(ip.dst)) == (BROADCAST_MAC, "255.255.255.255")
    _, ethernet, _ = answer(Talk.ready().says(None, flags=BROADCAST_FLAG))
    assert ethernet.dst == BROADCAST_MAC


@pytest.mark.parametrize(
    ("kind", "fields", "said"),
    [
        (MessageType.REQUEST, {"tell": {50: "192.168.1.9"}}, MessageType.NAK),  # INIT-REBOOT with a foreign address
        (MessageType.REQUEST, {"ciaddr": IPv4Address("192.168.1.9")}, MessageType.NAK),
        (MessageType.REQUEST, {"ciaddr": NEW}, MessageType.ACK),  # renewing
        (MessageType.INFORM, {"ciaddr": IPv4Address("192.168.1.9")}, MessageType.ACK),
        (MessageType.REQUEST, {"tell": {54: str(LAPTOP.ip)}}, MessageType.ACK),  # it names us, and forgot option 50
        (MessageType.RELEASE, {"ciaddr": NEW}, None),
        (MessageType.DISCOVER, {"giaddr": IPv4Address("10.0.0.1")}, None),  # through a relay: not this cable
    ],
)
def test_every_message_has_its_answer(kind, fields, said):
    packets = Talk.ready().says(kind, **fields)
    replies = [packet.get(Dhcp) for packet in packets if packet.get(Dhcp)]
    assert [reply.message_type for reply in replies] == ([said] if said else [])
    if said == MessageType.NAK:
        assert replies[0].yiaddr == ANY
        assert packets[0].get(Ethernet).dst == BROADCAST_MAC
    if kind == MessageType.INFORM:
        assert (replies[0].yiaddr, replies[0].option(51)) == (ANY, None)


def test_an_inform_is_no_taking():
    """It has its address from elsewhere, and holding the planned one then is not this way's doing."""
    talk = Talk.ready()
    talk.says(MessageType.INFORM, ciaddr=IPv4Address("192.168.1.9"))
    talk.hear(SPEAKS_AT_NEW)
    assert talk.way.result is None


@pytest.mark.parametrize("kind", [None, MessageType.DISCOVER])
def test_the_client_identifier_comes_back_as_it_came(kind):
    reply, _, _ = answer(Talk.ready().says(kind, more=((61, b"\1feed"),)))
    assert reply.option(61) == (None if kind is None else b"\1feed")


def test_a_tagged_request_is_refused_with_what_to_do():
    talk = Talk.ready()
    assert not [each for each in talk.says(MessageType.DISCOVER, vlan=7) if each.get(Dhcp)]
    assert "a tag for VLAN 7" in talk.way.because


@pytest.mark.parametrize(
    ("kind", "tell"), [(MessageType.DISCOVER, {}), (MessageType.DECLINE, {}), (MessageType.REQUEST, {54: "10.0.0.1"})]
)
def test_who_only_claims_to_be_the_chosen_is_not(kind, tell):
    """The frame's own source says who sent it: neither is it answered, nor does it end the way."""
    talk = Talk.ready(allow_others=True)
    assert not [each for each in talk.says(kind, src_mac=OTHER, tell=tell) if each.get(Dhcp)]
    assert talk.way.result is None


@pytest.mark.parametrize(
    ("kind", "fields", "why"),
    [
        (MessageType.DECLINE, {}, "somebody else holds"),
        (MessageType.REQUEST, {"tell": {54: "10.0.0.1", 50: "10.0.0.9"}}, "server answers here (10.0.0.1, whose offer"),
        (MessageType.OFFER, {"op": BootpOp.BOOTREPLY, "src_mac": OTHER}, "Another address server answers"),
        (MessageType.DISCOVER, {"mac": OTHER}, "Another device speaks"),
    ],
)
def test_safety_comes_first(kind, fields, why):
    talk = Talk.ready()
    assert not [packet for packet in talk.says(kind, **fields) if packet.get(Dhcp)]
    assert talk.way.result is Result.REFUSED
    assert why in talk.way.because
    assert not talk.says(MessageType.DISCOVER)


def test_others_are_let_be_when_the_technician_says_so_and_still_get_nothing():
    talk = Talk.ready(allow_others=True)
    assert not talk.says(MessageType.DISCOVER, mac=OTHER)
    assert answer(talk.says(MessageType.DISCOVER))[0].client == IT


def test_a_server_is_looked_for_first_and_the_one_request_meanwhile_is_not_lost():
    talk = Talk()
    questions = talk.until(3.0)
    assert [packet.get(Dhcp).message_type for packet in questions] == [MessageType.DISCOVER] * 3
    assert not talk.says(None)
    assert not talk.until(5.9)
    assert answer(talk.until(6.1))[0].yiaddr == NEW
    assert "in 6 s" in talk.way.steps[0].text


@pytest.mark.parametrize("kind", [MessageType.OFFER, MessageType.ACK, None, MessageType.REQUEST])
def test_a_server_that_speaks_to_anybody_is_one_even_where_others_are_fine(kind):
    """Late, because it pings what it offers first; or heard only through a client that takes its offer."""
    talk = Talk(allow_others=True)
    talk.until(5.5)
    op = BootpOp.BOOTREQUEST if kind == MessageType.REQUEST else BootpOp.BOOTREPLY
    talk.says(kind, mac=OTHER, op=op, tell={54: "10.0.0.1"})
    assert (talk.way.result, "answers here (10.0.0.1, " in talk.way.because) == (Result.REFUSED, True)


def test_a_server_that_was_heard_before_is_asked_first_and_forgotten_with_the_cable():
    """Silent to the laptop, it may still serve those whom it knows; in another socket it is not."""
    talk = Talk(servers=[IPv4Address("10.0.0.1")])
    assert len(talk.until(3.0)) == 3
    talk.until(6.1)
    assert (talk.way.result, "(10.0.0.1, " in talk.way.because) == (Result.REFUSED, True)
    talk = Talk(servers=[IPv4Address("10.0.0.1")])
    bounce(talk, 2.0, 2.4)
    talk.until(9.0)
    assert answer(talk.says(MessageType.DISCOVER))[0].client == IT


def bounce(talk, down, up):
    talk.until(down)
    talk.way.link_changed(Link(up=False, since=down), down)
    talk.until(up)
    talk.way.link_changed(Link(up=True, since=up), up)


def test_a_link_that_drops_starts_the_check_anew():
    """The cable may be in another socket now."""
    talk = Talk.ready()
    bounce(talk, 7.0, 8.0)
    assert not [each for each in talk.says(None) if each.get(Dhcp) and each.get(Dhcp).op == BootpOp.BOOTREPLY]
    talk.says(MessageType.OFFER, op=BootpOp.BOOTREPLY, src_mac=OTHER)
    assert talk.way.result is Result.REFUSED


@pytest.mark.parametrize("then", ["speaks", "asks again", "stays away"])
def test_a_link_that_drops_right_after_the_answer_is_looked_into(then):
    """Some devices reset their port to take an address."""
    talk = Talk.ready()
    talk.says(None)
    if then == "stays away":
        talk.until(7.0)
        talk.way.link_changed(Link(up=False, since=7.0), 7.0)
        talk.until(40.0)
        assert (talk.way.result, "has not come back" in talk.way.because) == (Result.SENT, True)
        return
    bounce(talk, 7.0, 8.0)
    if then == "speaks":
        talk.hear(SPEAKS_AT_NEW)
        assert talk.way.result is Result.TAKEN
    else:
        talk.says(None)
        assert [each for each in talk.until(14.5) if each.get(Dhcp) and each.get(Dhcp).op == BootpOp.BOOTREPLY]


def test_taken_is_not_said_of_a_box_that_answers_for_everything():
    talk = Talk.ready()
    talk.says(None)
    for arp in [each.get(Arp) for each in talk.until(9.0) if each.get(Arp)] + [None]:
        if arp:
            talk.hear(arp_frame(Arp(op=Op.REPLY, sha=IT, spa=arp.tpa, tha=US, tpa=arp.spa), to=US))
        for more in [each.get(Arp) for each in talk.until(talk.now + 0.4) if each.get(Arp)]:
            talk.hear(arp_frame(Arp(op=Op.REPLY, sha=IT, spa=more.tpa, tha=US, tpa=more.spa), to=US))
    assert talk.way.result is not Result.TAKEN
    assert "answers for addresses that are not its own" in talk.way.because


EVENTS = st.lists(
    st.tuples(
        # Weighted, so that most conversations come to an answer, whatever is drawn first.
        st.sampled_from([None, None, MessageType.DISCOVER, MessageType.DISCOVER, *MessageType]),
        st.sampled_from([*[IT] * 9, OTHER]),
        st.sampled_from([*[IT] * 9, OTHER]),
        st.sampled_from([*[None] * 8, *[LAPTOP.ip] * 4, IPv4Address("10.0.0.1")]),
        st.floats(0, 2),
    ),
    min_size=4, max_size=12,
)  # fmt: skip


def test_nobody_but_the_chosen_is_ever_answered():
    """Whatever comes in whatever order, every answer is for the chosen device and gives only the target."""
    cases = []

    @given(EVENTS)
    def converse(events):
        talk, answers = Talk.ready(allow_others=True), 0
        for kind, mac, src_mac, server, pause in events:
            tell = {50: NEW, **({54: server} if server else {})} if kind == MessageType.REQUEST else {}
            packets = talk.says(kind, mac=mac, src_mac=src_mac, tell=tell) + talk.until(talk.now + pause)
            for packet in packets:
                dhcp = packet.get(Dhcp)
                if dhcp and dhcp.op == BootpOp.BOOTREPLY:
                    answers += 1
                    assert (dhcp.client, dhcp.yiaddr in (NEW, ANY), mac, src_mac) == (IT, True, IT, IT)
                    assert packet.get(Ethernet).dst in (IT, BROADCAST_MAC)
        cases.append(answers > 0)

    converse()
    assert sum(cases) * 2 > len(cases), "most conversations must have come to an answer"


SLIP, FALLBACK = IPv4Address("10.84.61.21"), IPv4Address("169.254.3.4")
AT_OLD = arp_question(IT, ANY, sender=IPv4Address("192.168.61.7"))


def by_hand(*events):
    way = ByHand(IT, TARGET, laptop_mac=US, laptop=None, old=IPv4Address("192.168.61.7"), now=0.0)
    for at, frame in events:
        while way.next_deadline() is not None and way.next_deadline() < at:
            way.handle_timer(way.next_deadline())
        if frame:
            way.receive(hear(Frame(at=at, data=frame)))
    return way


@pytest.mark.parametrize(
    ("events", "result", "said"),
    [
        ([(1.0, arp_question(IT, TARGET.gateway, sender=NEW))], Result.TAKEN, ""),
        ([(1.0, arp_question(OTHER, TARGET.gateway, sender=NEW))], None, "Type these"),  # not this device
        ([(1.0, AT_OLD), (9.0, None)], None, "has left 192.168.61.7"),
        ([(6.0, None)], None, "has not answered at 192.168.61.7 yet. Waiting for it at"),  # it may hear nothing there
        ([(1.0, arp_question(IT, ANY, sender=SLIP)), (9.0, None)], None, "moved to 10.84.61.21, not to"),
        ([(1.0, arp_question(IT, ANY, sender=SLIP)), (2.0, AT_OLD), (4.0, AT_OLD)], None, "Type these"),  # a second one
        ([(5.0, None), (6.0, arp_question(IT, ANY, sender=FALLBACK)), (9.0, AT_OLD)], None, "Type these"),  # restarted
        ([(5.0, None), (6.0, arp_question(IT, ANY, sender=FALLBACK))], None, "fell back to 169.254.3.4"),
        ([(1.0, arp_question(IT, NEW))], None, "Type these"),  # a probe is no move yet
    ],
)
def test_a_move_by_hand_is_seen(events, result, said):
    way = by_hand(*events)
    assert way.result is result
    assert said in way.waits_for
    if "10.84.61.21" in said:
        assert "swapped" in way.steps[-1].text


@pytest.mark.parametrize(
    "landed", ["10.84.61.21", "10.16.84.21", "10.84.16.12", "10.84.16.22", "192.168.61.21", "10.84.16.1", "172.26.40.2"]
)
def test_one_that_landed_elsewhere_and_says_nothing_is_found_in_seconds(landed):
    """Swapped digits or octets, the plan's neighbour, only the last number typed, a key missed, its default."""
    old, default, landed = IPv4Address("192.168.61.7"), IPv4Address("172.26.40.2"), IPv4Address(landed)
    way = ByHand(IT, TARGET, laptop_mac=US, laptop=LAPTOP, old=old, now=0.0, landings=landings(NEW, old, default))
    asked = []
    while way.moved_to is None and way.next_deadline() < 20.0:
        now = way.next_deadline()
        way.handle_timer(now)
        for effect in way.poll():
            arp = read_packet(effect.data).get(Arp)
            asked.append(now)
            if arp.tpa == landed or (arp.tpa == old and now < 5.0):
                answer = Arp(op=Op.REPLY, sha=IT, spa=arp.tpa, tha=US, tpa=LAPTOP.ip)
                if arp.tpa == old or now > 6.0:
                    way.receive(hear(Frame(at=now + 0.01, data=arp_frame(answer, to=US))))
    assert (way.moved_to, f"It moved to {landed} instead" in way.steps[-1].text) == (landed, True)
    assert way.steps[-1].at - 5.0 < 10.0
    assert max(asked.count(each) for each in asked) <= 24  # a bounded load


@pytest.mark.parametrize(
    ("laptop", "device", "prefix", "can", "said"),
    [
        ([], "192.168.61.7", 24, False, "no address"),
        (["10.84.16.9/22"], "192.168.61.7", 24, False, "laptop is in 10.84.16.0/22, device in 192.168.61.0/24"),
        (["10.84.16.9/22", "192.168.61.9/24"], "192.168.61.7", 24, True, "192.168.61.0/24"),
        (["192.168.61.9/24"], "192.168.61.7", None, True, "can talk"),
        (["192.168.61.99/24"], "192.168.61.7", 28, False, "sends its answers for 192.168.61.99 to a gateway"),
        (["192.168.61.9/29"], "192.168.61.7", 24, False, "leaves out"),
        (["192.168.61.7/24"], "192.168.61.7", 24, False, "laptop itself has"),
    ],
)
def test_whether_they_can_talk(laptop, device, prefix, can, said):
    verdict = can_talk([IPv4Interface(each) for each in laptop], IPv4Address(device), prefix)
    assert verdict.can is can
    assert said in verdict.sentence


def test_choosing_takes_the_first_that_nobody_holds_or_claims():
    """Held, or being probed by somebody else (RFC 5227): either way it is not ours."""
    choosing = FreeAddressSearch(US, near(IPv4Address("192.168.61.9"), 24, set()), now=0.0)
    for frame in (arp_frame(Arp(op=Op.REPLY, sha=IT, spa=IPv4Address("192.168.61.10"), tha=US, tpa=ANY)),
                  arp_question(OTHER, IPv4Address("192.168.61.8"))):  # fmt: skip
        choosing.handle_timer(0.0)
        choosing.receive(hear(Frame(at=0.0, data=frame)))
    while not choosing.done:
        choosing.handle_timer(choosing.next_deadline())
    assert str(choosing.chosen) == "192.168.61.11/24"
    assert set(map(str, choosing.taken)) == {"192.168.61.8", "192.168.61.10"}


@given(st.integers(0xC0A80000, 0xC0A8FFFF), st.one_of(st.none(), st.integers(16, 30)))
def test_a_laptop_address_is_always_one_that_a_device_answers(number, prefix):
    device = IPv4Address(number)
    for candidate in islice(near(device, prefix, {device}), 5):
        assert device in candidate.network
        assert candidate.ip not in (device, candidate.network[0], candidate.network[-1])
        if prefix is None:
            assert int(candidate.ip) & 7 not in (0, 7)


def test_in_the_sites_subnet_the_top_is_left_to_gateways():
    found = list(from_the_top(IPv4Interface("10.84.16.0/22").network, set()))
    assert str(found[0].ip) == "10.84.19.239"
    assert len(found) == 1022


TWO_REQUESTS = """
schema = "askport.kind/1"
name = "gauge"
[[way]]
by = "page"
set = [{ get = "/net" }, { post = "/mask", form = { m = "{mask}" } }, { post = "/net", form = { ip = "{address}" } }]
read = [{ get = "/net", find = "ip=(?P<address>[0-9.]+)" }]
"""


@pytest.mark.parametrize(
    ("statuses", "taken", "said"),
    [
        ([200, 200, 500], True, "It had taken by then: POST /mask. It says that it has 192.168.61.9 now."),
        ([200, 500], False, "refused: it answered 500"),
    ],
)
def test_a_page_that_refuses_halfway_says_how_far_it_was_changed(statuses, taken, said):
    kind = read_kind(TWO_REQUESTS, "gauge.toml")
    start = Start(
        mac=IT, target=TARGET, laptop_mac=US, laptop=LAPTOP, old=IPv4Address("192.168.61.9"), now=0.0, xid=lambda: 5,
        kind=kind,
    )  # fmt: skip
    way = WAYS["page"].begin(start)
    for now, status in enumerate([*statuses, 200], 1):
        (asked,) = (each for each in way.poll() if isinstance(each, Fetch)) if not way.done else (None,)
        if asked:
            way.channel_event(Fetched(asked.channel, status, "ip=192.168.61.9"), float(now))
    assert (way.result, way.has_changed, said in way.because) == (Result.REFUSED, taken, True), way.because
