"""Clues and beliefs: never sure and wrong."""

import re
from ipaddress import IPv4Address, IPv4Network

import pytest

from askport.core.addresses import BROADCAST_MAC, NO_MAC, MacAddress
from askport.core.finding import further_questions, likely
from askport.core.finding.beliefs import MAX_OF_A_KIND, Origin
from askport.core.finding.clues import Belief
from askport.core.finding.finder import MAX_DEVICES, Finder
from askport.core.finding.hazards import wire_hazards
from askport.core.finding.loudness import Loudness
from askport.core.finding.shedding import Shedding
from askport.core.formats import icmp, icmpv6, ipv6
from askport.core.formats.arp import Arp, Op, arp_frame, arp_question, decode_arp
from askport.core.formats.dhcp import BootpOp, Dhcp, MessageType, OptionCode, encode_dhcp
from askport.core.formats.dns import Dns, Record, RecordType, encode_dns, name_of
from askport.core.formats.ipv4 import PROTOCOL_ICMP, PROTOCOL_UDP, IPv4, ipv4_frame
from askport.core.formats.packet import Ends, frame_between, read_packet
from askport.core.formats.udp import Udp
from askport.core.wire import Counts, Frame, Link, hear

US, IT, OTHER = (MacAddress(bytes((2, 0, 0, 0, 0, n))) for n in (1, 9, 8))
HOME, GATEWAY = IPv4Address("192.168.61.7"), IPv4Address("192.168.61.254")


def finder(*frames, loudness=Loudness.LISTEN, **options):
    made = Finder([US], now=0.0, loudness=loudness, **options)
    for at, frame in enumerate(frames):
        made.receive(hear(Frame(at=float(at), data=frame)))
    return made


def reply(mac=IT, address=HOME, source=None):
    arp = Arp(op=Op.REPLY, sha=mac, spa=address, tha=US, tpa=IPv4Address(0))
    return arp_frame(arp, to=US) if source is None else arp_frame(arp, to=US).replace(mac, source, 1)


def ip(ttl=64, src=HOME, mac=IT, dst=GATEWAY):
    packet = IPv4(src=src, dst=IPv4Address(dst), protocol=PROTOCOL_ICMP, payload=b"", ttl=ttl)
    return ipv4_frame(packet, src=mac, dst=OTHER)


def dhcp(mac=IT, kind=MessageType.DISCOVER, options=(), src_mac=None, **fields):
    told = ((OptionCode.MESSAGE_TYPE, bytes([kind])),) if kind else ()
    message = Dhcp(
        op=fields.pop("op", BootpOp.BOOTREQUEST), xid=7, chaddr=bytes(mac), options=(*told, *options), **fields
    )
    ends = Ends(
        src_mac=src_mac or mac,
        src=fields.get("siaddr", IPv4Address(0)),
        dst_mac=BROADCAST_MAC,
        dst=IPv4Address("255.255.255.255"),
    )
    return frame_between(ends, Udp(src_port=68, dst_port=67, payload=encode_dhcp(message)))


SERVER = IPv4Address("10.84.19.253")
ACK = dhcp(kind=MessageType.ACK, op=BootpOp.BOOTREPLY, src_mac=OTHER, siaddr=SERVER, yiaddr=IPv4Address("10.84.18.5"),
           options=((54, SERVER.packed), (1, bytes((255, 255, 252, 0))), (3, GATEWAY.packed)))  # fmt: skip


@pytest.mark.parametrize(
    ("frames", "address", "belief", "origin"),
    [
        ([arp_question(IT, GATEWAY, sender=HOME)], HOME, "certain", "unknown"),
        ([arp_question(IT, HOME, sender=HOME)], HOME, "certain", "unknown"),
        ([reply()], HOME, "likely", "unknown"),  # nobody has checked what else it answers for
        ([ip()], HOME, "likely", "unknown"),  # a router may have passed it on, with any time to live
        ([ip(dst="255.255.255.255")], HOME, "certain", "unknown"),
        ([ip(dst="224.0.0.251")], HOME, "certain", "unknown"),
        ([ip(dst="239.1.2.3")], HOME, "likely", "unknown"),  # groups that routers pass on
        ([dhcp(kind=MessageType.REQUEST, options=((50, HOME.packed), (54, GATEWAY.packed)))], HOME, "likely", "dhcp"),
        *(
            ([arp_question(IT, GATEWAY, sender=IPv4Address(nobody))], None, None, None)
            for nobody in ("255.255.255.255", "127.0.0.1", "224.0.0.5", "240.0.0.1", "0.1.2.3")
        ),
        ([ip(ttl=63)], HOME, "possible", "unknown"),  # passed on: its source is somebody behind it
        ([arp_question(IT, HOME)], HOME, "likely", "unknown"),  # a probe: about to take it
        ([dhcp(options=((50, HOME.packed),))], HOME, "possible", "dhcp"),
        ([ACK], IPv4Address("10.84.18.5"), "likely", "dhcp"),
        (
            [arp_question(IT, GATEWAY, sender=IPv4Address("169.254.3.4"))],
            IPv4Address("169.254.3.4"),
            "certain",
            "link-local",
        ),
        ([reply(source=OTHER)], None, None, None),  # made for somebody else
        ([arp_question(US, GATEWAY, sender=HOME)], None, None, None),  # our own frame, come back
        ([dhcp(kind=MessageType.RELEASE, ciaddr=HOME)], None, None, None),  # what it no longer has
    ],
)
def test_what_one_frame_is_worth(frames, address, belief, origin):
    beliefs = [each for device in finder(*frames).devices() for each in device.addresses if device.mac == IT]
    if address is None:
        assert not beliefs
        return
    assert (beliefs[0].address, str(beliefs[0].belief), str(beliefs[0].origin)) == (address, belief, origin)
    assert beliefs[0].because[0].frames[0].data == frames[0]


def test_looking_for_a_gateway_bounds_the_mask_and_names_it():
    device = finder(*[arp_question(IT, GATEWAY, sender=HOME)] * 4).devices()[0]
    best = device.best
    assert best.because[0].sentence == "It asked for 192.168.61.254 from 192.168.61.7 (ARP, 4 times)."
    assert (best.prefix, str(best.prefix_basis), best.prefix_range) == (None, "bounded", (8, 24))
    assert (best.gateway, str(best.gateway_basis)) == (GATEWAY, "heard")


def test_looking_for_the_laptop_names_no_gateway():
    """What the laptop caused is no habit of the device."""
    made = finder()
    made.laptop_addresses.add(GATEWAY)
    for at in range(3):
        made.receive(hear(Frame(at=at, data=arp_question(IT, GATEWAY, sender=HOME))))
    best = made.devices()[0].best
    assert best.belief is Belief.CERTAIN
    assert best.gateway is None


def test_a_lease_states_mask_and_gateway_and_betrays_the_server():
    made = finder(ACK)
    best = made.device(IT).best
    assert (best.prefix, str(best.prefix_basis), best.gateway) == (22, "stated", GATEWAY)
    codes = [hazard.code for hazard in made.hazards()]
    assert set(codes) == {"address-server", "several-devices"}


@pytest.mark.parametrize(("kind", "protocol"), [(None, "bootp"), (MessageType.DISCOVER, "dhcp")])
def test_asking_is_counted_until_it_shows_an_address(kind, protocol):
    made = finder(dhcp(kind=kind), dhcp(kind=kind, options=((12, b"\x1b[2Jfeed[/]\0"),)))
    asking = made.devices()[0].request
    assert (asking.protocol, asking.requests, asking.names) == (protocol, 2, ("·[2Jfeed[/]",))
    assert made.devices()[0].is_found
    made.receive(hear(Frame(at=9.0, data=arp_question(IT, HOME, sender=HOME))))
    assert made.devices()[0].request is None


def run_on(made, until, answer=lambda arp: (), coming=None):
    """Let time pass; ``answer`` gives what comes back to an ARP question, each with how long it takes."""
    coming = [] if coming is None else coming
    while True:
        dues = [each for each in (made.next_deadline(), min(coming, default=(None,))[0]) if each is not None]
        if not dues or min(dues) > until:
            return made
        now = min(dues)
        for at, frame in sorted(coming):
            if at <= now:
                coming.remove((at, frame))
                made.receive(hear(Frame(at=at, data=frame)))
        made.handle_timer(now)
        for effect in made.poll():
            if effect.data[12:14] == b"\x08\x06":
                coming += [(now + took, frame) for took, frame in answer(decode_arp(effect.data[14:]))]


def answers(arp, address, mac=IT):
    return arp_frame(Arp(op=Op.REPLY, sha=mac, spa=address, tha=arp.sha, tpa=arp.spa), to=arp.sha)


BOXES = {
    "honest": (lambda arp: [(0.01, answers(arp, HOME))] if arp.tpa == HOME else [], "certain", None),
    "slow": (lambda arp: [(0.9, answers(arp, HOME))] if arp.tpa == HOME else [], "certain", None),
    "for all": (lambda arp: [(0.01, answers(arp, arp.tpa))], "possible", "answers-for-all"),
    "for all, late": (lambda arp: [(0.8, answers(arp, arp.tpa))], "possible", "answers-for-all"),
    "for all, very late": (lambda arp: [(2.0, answers(arp, arp.tpa))], "possible", "answers-for-all"),
    "for a range": (
        lambda arp: [(0.01, answers(arp, arp.tpa))] if arp.tpa in IPv4Network("192.168.61.0/24") else [],
        "possible", "answers-for-all",
    ),
    "for some, one by one": (
        lambda arp: [(0.01, answers(arp, arp.tpa))] if arp.tpa in (HOME, GATEWAY) else [], "possible",
        "answers-for-others",
    ),
}  # fmt: skip


@pytest.mark.parametrize("name", BOXES)
def test_an_answer_is_believed_only_after_its_neighbours_were_asked_for(name):
    answer, belief, hazard = BOXES[name]
    made = finder(loudness=Loudness.CALL, known=[HOME, GATEWAY], within=[IPv4Network("192.168.61.0/24")], rate=200.0)
    coming = []
    run_on(made, 1.0, answer, coming)
    assert all(each.best.belief is not Belief.CERTAIN for each in made.devices() if each.best)
    run_on(made, 12.0, answer, coming)
    best = next(each for each in made.devices()[0].addresses if each.address == HOME)
    assert str(best.belief) == belief
    codes = {each.code for each in made.hazards()}
    assert (hazard in codes) if hazard else not codes


def test_a_box_that_begins_to_answer_for_all_later_is_found_out():
    late = []
    answer = lambda arp: [(0.01, answers(arp, arp.tpa))] if late or arp.tpa == HOME else []  # noqa: E731
    made = finder(loudness=Loudness.CALL, known=[HOME], rate=20.0, measures=False)
    run_on(made, 2.0, answer)
    assert made.devices()[0].best.belief is Belief.CERTAIN
    late.append(True)
    run_on(made, 12.0, answer)
    assert "answers-for-all" in {each.code for each in made.hazards()}
    assert not made.devices()[0].is_found


NEXT = IPv4Address("192.168.61.9")
SPEAKS = arp_question(IT, GATEWAY, sender=HOME)


@pytest.mark.parametrize(
    ("frames", "said"),
    [
        ([SPEAKS, arp_question(IT, NEXT, sender=NEXT)], "Since then it has shown 192.168.61.9"),
        ([SPEAKS, arp_question(IT, NEXT)], "Since then it has shown 192.168.61.9"),  # RFC 5227: it tries another
        ([SPEAKS, arp_question(OTHER, GATEWAY, sender=HOME)], "02:00:00:00:00:08 has shown that it holds"),
        ([SPEAKS, *(arp_question(IT, GATEWAY, sender=HOME + n) for n in (1, 2, 0))], "speaks from 3 addresses"),
        ([arp_question(IT, GATEWAY, sender=HOME + 248)], "depends on its mask"),  # .255
        ([ip(dst="255.255.255.255", src=IPv4Address("10.84.16.9"))], "sent the laptop's own packets back"),
        ([arp_question(IT, GATEWAY, sender=IPv4Address("10.84.16.9"))], "The laptop itself has this address"),
    ],
)
def test_certainty_ends_with_what_speaks_against_it(frames, said):
    made = finder()
    made.laptop_addresses.add(IPv4Address("10.84.16.9"))
    for moment, frame in enumerate(frames):
        made.receive(hear(Frame(at=moment * 3.0, data=frame)))
    device = made.device(IT)
    shown = IPv4Address("10.84.16.9") if "laptop" in said else HOME + 248 if "mask" in said else HOME
    assert all(each.belief is not Belief.CERTAIN for each in device.addresses if each.address == shown)
    assert any(said in each.sentence for each in device.reasons()), device.reasons()
    if "holds" in said:
        made.receive(hear(Frame(at=99.0, data=SPEAKS)))
        assert made.device(IT).best.belief is Belief.CERTAIN
        assert (
            "2 devices use the same address 192.168.61.7"
            in {each.code: each.text for each in made.hazards()}["duplicate-address"]
        )


def test_a_device_that_no_longer_answers_is_said_to():
    gone = []
    answer = lambda arp: [(0.01, answers(arp, HOME))] if arp.tpa == HOME and not gone else []  # noqa: E731
    made = finder(loudness=Loudness.CALL, known=[HOME], rate=20.0, measures=False)
    run_on(made, 2.0, answer)
    gone.append(True)
    run_on(made, 16.0, answer)
    best = made.devices()[0].best
    assert (best.belief, best.because[-1].sentence) == (
        Belief.LIKELY, "It no longer answers when it is asked for this address.",
    )  # fmt: skip


@pytest.mark.parametrize(
    ("loudness", "stays", "belief"),
    [("listen", False, "certain"), ("greet", False, "likely"), ("greet", True, "certain")],
)
def test_what_was_certain_decays_where_nobody_answers_there_when_asked(loudness, stays, belief):
    """A boot loader looks for its gateway from an address of its own, and is silent from then on."""
    made = finder(loudness=Loudness(loudness))
    coming = [(at, arp_question(IT, GATEWAY, sender=HOME)) for at in (0.5, 1.5, 2.5)]
    run_on(made, 24.0, lambda arp: [(0.01, answers(arp, HOME))] if stays and arp.tpa == HOME else [], coming)
    (device,) = made.devices()
    assert str(device.addresses[0].belief) == belief
    said = " ".join(each.sentence for each in device.addresses[0].because)
    assert ("no longer answers" in said) is (belief == "likely")


def test_a_cable_that_was_put_elsewhere_carries_one_device():
    """A lost link starts anew: who was there before is no second device, and neighbours in a crate are no one box."""
    made = finder(arp_question(IT, GATEWAY, sender=HOME))
    made.link_changed(Link(up=False, since=5.0), 5.0)
    made.link_changed(Link(up=True, since=9.0), 9.0)
    made.receive(hear(Frame(at=10.0, data=arp_question(OTHER, GATEWAY, sender=NEXT))))
    assert made.devices()[0].mac == OTHER
    assert made.hazards() == []


def test_what_was_heard_through_a_link_that_went_belongs_to_another_cable():
    """In the site's socket first, where a server gave it an address, and then straight into the device."""
    request = dhcp(kind=MessageType.REQUEST, options=((50, HOME.packed), (54, SERVER.packed)))
    ack = dhcp(kind=MessageType.ACK, op=BootpOp.BOOTREPLY, src_mac=OTHER, siaddr=SERVER, yiaddr=HOME,
               options=((54, SERVER.packed), (1, bytes((255, 255, 252, 0))), (3, GATEWAY.packed)))  # fmt: skip
    made = finder(request, ack, arp_question(IT, GATEWAY, sender=HOME))
    assert "address-server" in {each.code for each in made.hazards()}
    assert made.device(IT).best.prefix == 22
    made.link_changed(Link(up=False, since=5.0), 5.0)
    made.link_changed(Link(up=True, since=9.0), 9.0)
    made.receive(hear(Frame(at=10.0, data=arp_question(IT, GATEWAY, sender=HOME))))
    assert (made.hazards(), made.servers()) == ([], [])
    best = made.device(IT).best
    assert (best.belief, best.prefix, best.gateway, best.origin) == (Belief.CERTAIN, None, GATEWAY, Origin.DHCP)
    assert best.gateway_basis == "heard"


def test_what_routers_and_relays_pass_on_is_named_and_never_certain():
    for ttl in range(1, 256):
        far = IPv4Address("203.0.113.9")
        made = finder(arp_question(IT, GATEWAY, sender=HOME), ip(ttl=ttl, src=far))
        believed = next(each.belief for each in made.device(IT).addresses if each.address == far)
        assert believed is not Belief.CERTAIN, ttl
        assert "passes-on" in {each.code for each in made.hazards()}, ttl
    relayed = dhcp(kind=MessageType.OFFER, op=BootpOp.BOOTREPLY, src_mac=OTHER, siaddr=SERVER, giaddr=GATEWAY,
                   yiaddr=HOME, options=((54, SERVER.packed),))  # fmt: skip
    made = finder(relayed)
    assert all(each.belief is not Belief.CERTAIN for device in made.devices() for each in device.addresses)
    assert "address-server" in {each.code for each in made.hazards()}


@pytest.mark.parametrize(
    ("flags", "offset", "length"), [(1, 0, 12), (0, 185, 12), (1, 185, 12), (0, 0, 0), (0, 0, 7), (0, 0, 99)]
)
def test_of_a_datagram_that_cannot_be_read_nobody_knows_whether_it_was_relayed(flags, offset, length):
    """A fragment of one, or one with a wrong length: a relay passes it on all the same."""
    udp = bytes((0, 138, 0, 138, 0, length, 0, 0)) + b"name"
    everybody = IPv4Address("255.255.255.255")
    packet = IPv4(src=HOME, dst=everybody, protocol=PROTOCOL_UDP, payload=udp, flags=flags, fragment_offset=offset)
    made = finder(ipv4_frame(packet, src=IT, dst=BROADCAST_MAC))
    assert made.device(IT).best.belief is Belief.LIKELY


def test_a_device_that_sends_from_what_it_does_not_answer_for_passes_it_on():
    """One source, with a time to live that a stack starts with: only asking tells."""
    far = IPv4Address("203.0.113.9")
    made = finder(loudness=Loudness.CALL, within=[IPv4Network("192.168.61.0/30")], measures=False)
    made.receive(hear(Frame(at=0.0, data=ip(ttl=128, src=far))))
    assert made.hazards() == []
    run_on(made, 6.0)
    assert "passes-on" in {each.code for each in made.hazards()}
    assert "does not answer when it is asked" in made.device(IT).best.because[-1].sentence


def test_a_request_that_names_a_server_tells_of_both_and_is_followed_up():
    """It takes a lease: it is likely there, and at call it is asked there; the server is a hazard, though unheard."""
    made = finder(loudness=Loudness.CALL, within=[IPv4Network("172.16.0.0/24")])
    made.receive(
        hear(Frame(at=0.0, data=dhcp(kind=MessageType.REQUEST, options=((50, HOME.packed), (54, SERVER.packed)))))
    )
    run_on(made, 3.0, lambda arp: [(0.01, answers(arp, HOME))] if arp.tpa == HOME else [])
    assert made.device(IT).best.belief is Belief.CERTAIN
    hazard = next(each for each in made.hazards() if each.code == "address-server")
    assert (hazard.address, "10.84.19.253" in hazard.text) == (SERVER, True)


def test_calling_asks_the_known_first_keeps_its_rate_and_ends():
    made = finder(loudness=Loudness.CALL, known=[HOME], rate=100.0, within=[IPv4Network("192.168.61.0/27")])
    asked, now = [], 0.0
    while not made.calling.done:
        now = made.next_deadline()
        made.handle_timer(now)
        arps = (decode_arp(effect.data[14:]) for effect in made.poll())
        asked += [(now, arp) for arp in arps if isinstance(arp, Arp)]
    targets = [arp.tpa for _, arp in asked]
    assert targets[0] == HOME
    assert all(arp.spa == IPv4Address(0) and arp.tha == NO_MAC for _, arp in asked)
    assert {str(each) for each in targets} == {f"192.168.61.{n}" for n in range(1, 31)}
    assert targets.count(IPv4Address("192.168.61.9")) == 2
    assert 0.5 < now < 2.0


@pytest.mark.parametrize("took", [0.01, 0.3])
def test_an_address_that_only_a_question_came_from_is_not_the_laptops(took):
    """Each of neighbours on a switch is asked from beside it, where another of them, late or not, may stand."""
    units = {IPv4Address(f"10.84.16.{32 + n}"): MacAddress(bytes((2, 0, 0, 0, 7, n))) for n in range(8)}
    at = list(units)
    made = finder(measures=False)
    made.greet(0.0)
    made.call(at[:1], now=0.0, guess=False)
    run_on(made, 10.0, lambda arp: [(took, answers(arp, arp.tpa, units[arp.tpa]))] if arp.tpa in units else [])
    made.call(at, now=10.0, guess=False)
    run_on(made, 60.0, lambda arp: [(took, answers(arp, arp.tpa, units[arp.tpa]))] if arp.tpa in units else [])
    assert {each.mac: each.best.belief for each in made.devices()} == dict.fromkeys(units.values(), Belief.CERTAIN)
    for place, (address, mac) in enumerate(units.items()):
        made.receive(hear(Frame(at=61.0 + place, data=ip(src=address, mac=mac))))
    assert "reflector" not in {each.code for each in made.hazards()}, "what is its own is nothing that it sends back"


def test_likely_addresses_come_once_and_stay_within():
    guesses = list(likely.likely_addresses([HOME]))
    assert guesses[0] == HOME
    assert len(guesses) == len(set(guesses)) > 1000
    assert list(likely.likely_addresses([HOME], [IPv4Network("10.0.0.0/30")])) == [
        IPv4Address("10.0.0.1"),
        IPv4Address("10.0.0.2"),
    ]


def test_twins_are_a_hazard():
    hazards = {hazard.code: hazard for hazard in finder(SPEAKS, arp_question(OTHER, GATEWAY, sender=HOME)).hazards()}
    assert "2 devices use the same address 192.168.61.7" in hazards["duplicate-address"].text


def test_what_is_kept_is_bounded():
    """A flood of made-up senders, or of questions, fills no memory."""
    made = finder()
    for n in range(MAX_DEVICES + 50):
        mac = MacAddress(bytes((2, 1)) + n.to_bytes(4, "big"))
        made.receive(hear(Frame(at=0.0, data=arp_question(mac, GATEWAY, sender=HOME))))
    assert len(made.devices()) == MAX_DEVICES
    flood = (arp_question(IT, IPv4Address(n), sender=HOME) for n in range(0x0A000001, 0x0A000001 + 600))
    offer = dhcp(kind=MessageType.OFFER, op=BootpOp.BOOTREPLY, src_mac=IT, siaddr=SERVER, yiaddr=NEXT)
    greedy = finder(*flood, offer)
    assert len(greedy._gathered[IT].tallies) == MAX_OF_A_KIND + 2
    assert "address-server" in {each.code for each in greedy.hazards()}, "no flood hides an address server"


def test_unreadable_frames_are_counted_and_harm_nothing():
    made = finder(b"", b"\1" * 7, arp_question(IT, GATEWAY, sender=HOME)[:30], frame_between(
        Ends(src_mac=IT, src=HOME, dst_mac=US, dst=GATEWAY), icmp.Icmp(type=8))[:-40])  # fmt: skip
    assert made.frames_unreadable == 4


def test_what_was_heard_before_a_power_cut_fades_until_it_is_shown_again():
    made = finder(SPEAKS)
    made.link_changed(Link(up=False, since=5.0), 5.0)
    assert "link-down" in [hazard.code for hazard in made.hazards()]
    made.link_changed(Link(up=True, since=9.0), 9.0)
    best = made.devices()[0].best
    assert best.belief is Belief.LIKELY
    assert "not shown it again" in best.because[-1].sentence
    made.receive(hear(Frame(at=10.0, data=SPEAKS)))
    assert made.devices()[0].best.belief is Belief.CERTAIN


def test_what_goes_through_another_device_is_outside_and_what_is_asked_for_is_inside():
    """It asks for .254 and sends to 192.168.60.1 through whoever answered: the prefix is 24."""
    ends = Ends(src_mac=IT, src=HOME, dst_mac=OTHER, dst=IPv4Address("192.168.60.1"))
    made = finder(
        arp_question(IT, IPv4Address("192.168.61.254"), sender=HOME),
        reply(mac=OTHER, address=IPv4Address("192.168.61.254")),
        frame_between(ends, Udp(src_port=5000, dst_port=6000, payload=b"")),
    )
    best = made.device(IT).best
    assert (best.belief, str(best.prefix_basis), best.prefix_range) == (Belief.CERTAIN, "bounded", (24, 24))
    assert any("outside its subnet" in reason.sentence for reason in best.because)


def test_the_laptop_measures_by_itself_only_a_device_that_is_alone():
    for others, measures in ((0, True), (1, False)):
        made = finder(loudness=Loudness.CALL, known=[HOME])
        made.handle_timer(0.0)
        made.receive(hear(Frame(at=0.0, data=SPEAKS)))
        for _ in range(others):
            made.receive(hear(Frame(at=0.1, data=reply(mac=OTHER, address=GATEWAY))))
        for now in (1.0, 2.5):
            made.handle_timer(now)
        assert (made.measuring is not None) is measures


def test_two_neighbours_that_speak_by_turns_through_one_mac_are_not_certain_and_one_that_moved_is():
    one, other, apart = IPv4Address("10.84.16.41"), IPv4Address("10.84.16.42"), IPv4Address("192.168.61.7")

    def heard(*senders):
        finder_ = Finder([US], now=0.0)
        for at, sender in enumerate(senders):
            finder_.receive(hear(Frame(at=float(at), data=arp_question(IT, GATEWAY, sender=sender))))
        beliefs = {each.address: str(each.belief) for each in finder_.devices()[0].addresses}
        return beliefs, {each.code for each in finder_.hazards()}

    beliefs, named = heard(one, other, one, other)
    assert (set(beliefs.values()) & {"certain"}, "several-addresses" in named) == (set(), True)
    assert heard(one, one, other, other)[0][other] == "certain"  # it was set anew
    assert set(heard(one, apart, one, apart)[0].values()) == {"certain"}  # two addresses in two subnets


def test_a_server_that_looks_for_those_whom_it_serves_has_no_gateway_in_them():
    looks = [arp_question(OTHER, IPv4Address("10.84.18.5"), sender=SERVER)] * 3
    assert str(finder(*looks).device(OTHER).best.gateway) == "10.84.18.5"
    assert finder(*looks, ACK).device(OTHER).best.gateway is None


def test_a_service_that_is_named_by_its_type_is_asked_for_its_port():
    """From the list of types to a type, and from there to the service; and who said so is asked for its IPv6 once."""
    asks, types = further_questions.FurtherQuestions(US), name_of("_services._dns-sd._udp.local")
    for name, target, wants in ((types, "_http._tcp.local", RecordType.PTR),
                                (name_of("_http._tcp.local"), "tank._http._tcp.local", RecordType.SRV)):  # fmt: skip
        told = Dns(flags=0x8400, answers=(Record(name=name, type=RecordType.PTR, target=name_of(target)),))
        ends = Ends(src_mac=IT, src=HOME, dst_mac=BROADCAST_MAC, dst=IPv4Address("224.0.0.251"))
        frame = frame_between(ends, Udp(src_port=5353, dst_port=5353, payload=encode_dns(told)))
        for _ in range(2):
            asks.receive(hear(Frame(at=1.0, data=frame)))
        *first, asked = asks.poll()
        targets = [read_packet(each.data).get(icmpv6.Icmpv6).target for each in first]
        assert targets == [ipv6.link_local(IT)] * (name == types)
        (question,) = read_packet(asked.data).get(Dns).questions
        assert (question.name, question.type) == (name_of(target), wants)


def streamed(mac, number, port=6000):
    ends = Ends(src_mac=mac, src=HOME, dst_mac=MacAddress(b"\1\0\x5e\1\1\1"), dst=IPv4Address("239.1.1.1"))
    return frame_between(ends, Udp(src_port=5000, dst_port=port, payload=number.to_bytes(4)))


def test_a_flood_is_shed_by_its_sender_and_its_kind_and_hides_nothing_else():
    """The babbler's own announcement, another device's first word and answers to the laptop are read all the same."""
    shedding, read = Shedding([US]), []
    rare = [streamed(IT, 0, port=5353), arp_question(OTHER, GATEWAY, sender=GATEWAY + 1)]
    answers = [arp_frame(Arp(Op.REPLY, OTHER, GATEWAY + n, US, HOME), to=US) for n in range(200)]
    frames = [streamed(IT, number) for number in range(5_000)] + [arp_question(IT, GATEWAY, sender=HOME)] * 1_000
    for at, data in enumerate([*frames, *rare, *answers]):
        if shedding.is_read(data, 100.0 + at * 1e-5):
            read.append(data)
    assert {*rare, *answers} <= set(read)
    assert len(read) < 500
    assert sum(shedding.by_kind.values()) + len(read) == 6_202
    (told,) = wire_hazards(Counts(seen=6_202, sent=0, shed=shedding.by_kind))
    assert re.search(r"[45],\d{3} IPv4 frames were left unread", told.text)
    assert shedding.by_kind["ipv4"] > 4_000 > shedding.by_kind["arp"] > 900


def test_a_wire_that_a_person_would_call_busy_is_read_whole():
    """Three hundred frames a second of one device, and a thousand devices that speak at once."""
    shedding = Shedding([US])
    assert all(shedding.is_read(streamed(IT, number), number / 300) for number in range(3_000))
    talkers = [arp_question(MacAddress(b"\2\0\0\1" + n.to_bytes(2)), GATEWAY, sender=HOME) for n in range(1_000)]
    assert all(shedding.is_read(data, 20.0) for data in talkers)
    assert not shedding.by_kind
