"""The proofs, one by one: what passes, what fails, and what is said of it."""

from dataclasses import replace
from ipaddress import IPv4Address, IPv4Interface
from random import Random
from types import SimpleNamespace

import pytest

from askport.bench.host import Host
from askport.core.addresses import BROADCAST_MAC, NO_MAC, MacAddress
from askport.core.channels import Closed, Fetched
from askport.core.finding.questioning import stand_in_mac
from askport.core.formats import dhcp, ipv4, udp
from askport.core.formats.arp import Arp, Op, arp_frame, arp_question
from askport.core.formats.icmp import Icmp, IcmpType
from askport.core.formats.packet import Ends, frame_between, read_packet
from askport.core.formats.tcp import Tcp, TcpFlag, encode_timestamp
from askport.core.proofs import after_start, final, measured, name_servers, service_again
from askport.core.proofs.calls import Calls
from askport.core.proofs.own_clock import OwnClock
from askport.core.proofs.own_word_proof import ReadsBack
from askport.core.proofs.page_answers import PageAnswers
from askport.core.proofs.power_cycle import LONGEST_BOOT_S, Power, PowerCycle
from askport.core.proofs.proof import ATTEMPTS, Expected, Subject
from askport.core.proofs.reachable import Echo, PortOpens
from askport.core.proofs.verdict import Outcome, verdict_of
from askport.core.proofs.who_holds import OldGone, SameMac
from askport.core.visit import narrate, steps
from askport.core.ways.conversation import Conversation, Ended
from askport.core.wire import Frame, Link, hear
from conftest import pass_time
from test_session import walk

US, IT, OTHER = (MacAddress(bytes((2, 0, 0, 0, 0, n))) for n in (1, 9, 8))
LAPTOP, NEW, OLD = IPv4Interface("10.84.19.240/22"), IPv4Address("10.84.16.21"), IPv4Address("192.168.61.7")
GATEWAY = IPv4Address("10.84.19.254")
IT_AT_NEW = Subject(mac=IT, at=IPv4Interface((NEW, 22)), laptop_mac=US, laptop=LAPTOP)


def echoes(packet):
    """It answers a ping."""
    icmp = packet.get(Icmp)
    return replies(IT, echoed)(packet) if icmp and icmp.type == IcmpType.ECHO else []


def answers_nobody(packet):
    """It says that it has its address when it is asked for, and not to whom: nothing can be asked in its turn."""
    asks = (arp := packet.get(Arp)) and arp.tpa == NEW
    return [arp_frame(Arp(op=Op.REPLY, sha=IT, spa=NEW, tha=NO_MAC, tpa=LAPTOP.ip))] if asks else []


def prove(proof, answer=lambda packet: (), events=(), until=400.0):
    """Run a proof on its own clock, with a device that answers each frame and with events that come by themselves.

    An event is the moment and a frame, or whether the link is up. Returns the packets that the proof sent.
    """
    sent, now, events = [], 0.0, sorted(events, key=lambda event: event[0])
    while not proof.done and (due := proof.next_deadline()) is not None and now <= until:
        if events and events[0][0] <= due:
            now, event = events.pop(0)
            if isinstance(event, bool):
                proof.link_changed(Link(up=event, since=now), now)
            else:
                proof.receive(hear(Frame(at=now, data=event)))
        else:
            now = due
            proof.handle_timer(now)
        queue = proof.poll()
        while queue:
            effect = queue.pop(0)
            packet = read_packet(effect.data)
            sent.append(packet)
            for frame in getattr(answer, "stack", answer)(effect.data if hasattr(answer, "stack") else packet):
                proof.receive(hear(Frame(at=now + 0.002, data=frame)))
                queue += proof.poll()
    return sent + [read_packet(effect.data) for effect in proof.poll()]


def holds(mac, address):
    """Return an answerer: this MAC address holds that address, and answers senders of any subnet."""
    return lambda packet: (
        [arp_frame(Arp(op=Op.REPLY, sha=mac, spa=address, tha=US, tpa=arp.spa), to=US)]
        if (arp := packet.get(Arp)) and arp.tpa == address
        else []
    )


def holds_everything(mac):
    """Return an answerer that answers for whatever is asked for, as a proxy does."""
    return lambda packet: holds(mac, packet.get(Arp).tpa)(packet) if packet.get(Arp) else []


def both(*answers):
    return lambda packet: [frame for each in answers for frame in each(packet)]


def silent(_):
    return []


@pytest.mark.parametrize(
    ("proof", "answer", "passed", "said"),
    [
        (SameMac(IT_AT_NEW, now=0.0), both(holds(IT, NEW), echoes), True, "Only this device answered"),
        (SameMac(IT_AT_NEW, now=0.0), holds(IT, NEW), None, "that it is there is not shown"),  # ARP alone
        (SameMac(IT_AT_NEW, now=0.0), holds_everything(IT), False, "does not prove that 10.84.16.21 is its own"),
        (SameMac(IT_AT_NEW, now=0.0), answers_nobody, False, "It speaks as 10.84.16.21; whether it answers for other"),
        (SameMac(IT_AT_NEW, now=0.0), silent, False, "Nobody answered when asked for 10.84.16.21 3 times"),
        (SameMac(IT_AT_NEW, now=0.0), holds(OTHER, NEW), False, f"is held by {OTHER}, not by {IT}"),
        (SameMac(IT_AT_NEW, now=0.0), both(holds(IT, NEW), holds(OTHER, NEW)), False, "two devices hold one address"),
        (SameMac(IT_AT_NEW, now=0.0), holds(US, NEW), False, "Nobody answered"),  # the laptop's own never count
        (OldGone(IT_AT_NEW, OLD, now=0.0), silent, True, "Nobody answered when asked for 192.168.61.7 3 times"),
        (OldGone(IT_AT_NEW, OLD, now=0.0), holds(IT, OLD), False, "It still answers when asked for 192.168.61.7"),
        (OldGone(IT_AT_NEW, OLD, now=0.0), holds(OTHER, OLD), True, f"another device, {OTHER}, holds that address"),
        (OldGone(IT_AT_NEW, OLD, now=0.0), both(holds(OTHER, OLD), holds(IT, OLD)), False, "It still answers"),
    ],
)
def test_who_holds_an_address(proof, answer, passed, said):
    sent = prove(proof, answer)
    asked = [each for each in sent if (arp := each.get(Arp)) and arp.tpa == proof.address and arp.spa == LAPTOP.ip]
    assert (proof.passed, len(asked)) == (passed, ATTEMPTS)
    assert said in proof.because
    assert proof.outcome.measured


def replies(src, make):
    """Return an answerer that sends a message back from a MAC address, at the device's address."""
    ends = Ends(src_mac=src, src=NEW, dst_mac=US, dst=LAPTOP.ip)
    return lambda packet: [frame_between(ends, message)] if (message := make(packet)) else []


def echoed(packet, **changed):
    icmp = packet.get(Icmp)
    fields = {"identifier": icmp.identifier, "sequence_number": icmp.sequence_number, "data": icmp.data} | changed
    return Icmp(type=IcmpType.ECHO_REPLY, **fields)


def answered(flags, **changed):
    """Return what makes a TCP segment with these flags of the one it answers."""

    def make(packet):
        tcp = packet.get(Tcp)
        fields = {"src_port": tcp.dst_port, "dst_port": tcp.src_port, "seq": 1, "ack": tcp.seq + 1} | changed
        return None if tcp.flags & TcpFlag.RST else Tcp(flags=flags, **fields)

    return make


@pytest.mark.parametrize(
    ("proof", "answer", "passed", "said"),
    [
        (Echo(IT_AT_NEW, now=0.0), replies(IT, echoed), True, "It answered echo 1"),
        (Echo(IT_AT_NEW, now=0.0), replies(OTHER, echoed), False, "none of 3 echoes"),  # a twin's answer
        (Echo(IT_AT_NEW, now=0.0), replies(IT, lambda packet: echoed(packet, identifier=7)), False, "none of 3"),
        (Echo(IT_AT_NEW, now=0.0), silent, False, "none of 3 echoes"),
        (PortOpens(IT_AT_NEW, 80, now=0.0), replies(IT, answered(TcpFlag.SYN | TcpFlag.ACK)), True, "opened port 80"),
        (PortOpens(IT_AT_NEW, 80, now=0.0), replies(IT, answered(TcpFlag.RST | TcpFlag.ACK)), False, "refused to open"),
        (PortOpens(IT_AT_NEW, 80, now=0.0), replies(OTHER, answered(TcpFlag.SYN | TcpFlag.ACK)), False, "not answer"),
        (PortOpens(IT_AT_NEW, 80, now=0.0), replies(IT, answered(TcpFlag.ACK)), False, "asked 3 times"),
    ],
)
def test_what_answers_at_the_address(proof, answer, passed, said):
    sent = prove(proof, answer)
    assert proof.passed is passed
    assert said in proof.because
    if passed and isinstance(proof, PortOpens):
        assert sent[-1].get(Tcp).flags & TcpFlag.RST  # nothing stays open at the device


def asks_by_bootp():
    request = dhcp.Dhcp(op=dhcp.BootpOp.BOOTREQUEST, xid=7, chaddr=bytes(IT))
    ends = Ends(src_mac=IT, src=IPv4Address(0), dst_mac=BROADCAST_MAC, dst=IPv4Address("255.255.255.255"))
    return frame_between(ends, udp.Udp(src_port=68, dst_port=67, payload=dhcp.encode_dhcp(request)))


def bridges():
    bpdu = bytes.fromhex("0180c2000000020000000077002642420300000000000000000000000000000000000000000000000014000200")
    return bpdu + bytes(8)


def informs():
    told = ((53, bytes((8,))),)
    inform = dhcp.Dhcp(op=dhcp.BootpOp.BOOTREQUEST, xid=7, chaddr=bytes(IT), ciaddr=NEW, options=told)
    ends = Ends(src_mac=IT, src=NEW, dst_mac=BROADCAST_MAC, dst=IPv4Address("255.255.255.255"))
    return frame_between(ends, udp.Udp(src_port=68, dst_port=67, payload=dhcp.encode_dhcp(inform)))


def answers_arp(address):
    return arp_frame(Arp(op=Op.REPLY, sha=IT, spa=IPv4Address(address), tha=US, tpa=LAPTOP.ip), to=US)


def announces(address, mac=IT):
    return arp_question(mac, IPv4Address(address), sender=IPv4Address(address))


@pytest.mark.parametrize(
    ("events", "passed", "said"),
    [
        ([(2.0, False), (6.0, True), (9.0, asks_by_bootp())], False, "asked for an address by BOOTP"),
        ([(2.0, False), (6.0, True)], False, f"for {LONGEST_BOOT_S:.0f} s after its power came back"),
        ([(2.0, False), (6.0, True), (7.0, announces(NEW, OTHER))], False, "It was not heard"),
        ([(2.0, False), (2.1, announces(NEW)), (6.0, True)], False, "not heard"),  # a frame from before
        # A switch in between keeps the link up: what comes then comes after a pulled cable too.
        ([(20.0, announces(NEW))], None, ""),
        ([(1.0, announces(NEW)), (1.5, announces(NEW))], None, ""),  # its power is off, and it is waited for
        ([(4.0, answers_arp(NEW))], None, ""),  # a few missed answers show nothing: the technician is asked
        ([(2.0, False), (2.4, True), (2.5, announces(NEW)), (2.9, announces(NEW))], None, ""),  # a wiggled cable
        *(
            ([(2.0, False), (2.0 + out, True), (2.0 + out + word, announces(NEW))], None, "")
            for out in (1.1, 3.0, 10.0, 60.0)
            for word in (0.02, 2.5, 4.0, 12.0, 31.0)
        ),  # its plug, the plug of a switch in between, or a cable: announcing itself shows no start
    ],
)
def test_a_power_cut_is_survived_or_not(events, passed, said):
    proof = PowerCycle(IT_AT_NEW, now=0.0)
    prove(proof, events=events)
    assert proof.passed is passed
    assert said in proof.because
    assert proof.outcome.passed is bool(passed)


@pytest.mark.parametrize("stalls_at", [0.0, 0.6])
def test_a_laptop_that_was_busy_has_not_seen_silence(stalls_at):
    """It asked nothing for a while, and what it then hears is no start: the power was never cut."""
    proof, now = PowerCycle(IT_AT_NEW, now=0.0), 0.0
    answer = arp_frame(Arp(op=Op.REPLY, sha=IT, spa=NEW, tha=US, tpa=LAPTOP.ip), to=US)

    def hear_it(at):
        join = ipv4.IPv4(
            src=NEW, dst=IPv4Address("224.0.0.22"), protocol=2, ttl=1, payload=bytes.fromhex("2200f9fd00000000")
        )
        for data in (ipv4.ipv4_frame(join, src=IT, dst=MacAddress(bytes.fromhex("01005e000016"))), answer):
            proof.receive(hear(Frame(at=at, data=data)))

    while now <= stalls_at:
        proof.handle_timer(now)
        if proof.poll():
            proof.receive(hear(Frame(at=now + 0.001, data=answer)))
        now += 0.1
    for late in (0.0, 0.01, 0.3, 0.6, 1.2):
        proof.handle_timer(now + 7.0 + late)
        proof.poll()
        hear_it(now + 7.0 + late + 0.002)
    assert (proof.done, proof.power) == (False, Power.ON)


class Ticking:
    """While it is on, it answers at its address, and its port 80 opens with a clock that begins anew at each start."""

    def __init__(self, out=((10.0, 18.0),), *, anew=True, hz=100, made_up=False, opens=True, then=NEW):
        self.out, self.anew, self.hz, self.made_up, self.opens, self.then = out, anew, hz, made_up, opens, then
        self.dice = Random(7)

    def answer(self, packet, now):
        if any(begun <= now < ended for begun, ended in self.out):
            return []
        arp, tcp = packet.get(Arp), packet.get(Tcp)
        last = max((ended for _, ended in self.out if ended <= now), default=0.0)
        at = self.then if last else NEW
        if arp and arp.op == Op.REQUEST and arp.tpa == at:
            return [arp_frame(Arp(op=Op.REPLY, sha=IT, spa=at, tha=US, tpa=arp.spa), to=US)]
        if not (tcp and self.opens and tcp.flags == TcpFlag.SYN and tcp.dst_port == 80):
            return []
        ticks = (now - last if self.anew and last else 5_000 + now) * self.hz
        ticks = self.dice.getrandbits(32) if self.made_up else int(ticks)
        opened = Tcp(src_port=80, dst_port=tcp.src_port, seq=9, ack=tcp.seq + 1, flags=TcpFlag.SYN | TcpFlag.ACK,
                     options=encode_timestamp(ticks))  # fmt: skip
        return [frame_between(Ends(src_mac=IT, src=NEW, dst_mac=US, dst=LAPTOP.ip), opened)]

    def live(self, machine, links=((10.0, 14.0),), begins=0.0, until=90.0, says=()):
        """Go on until the machine is done; says is what the device says by itself, when."""
        now, says = begins, list(says)
        events = sorted((at, up) for down, back in links for at, up in ((down, False), (back, True)))
        while not machine.done and now < until:
            now += 0.05
            while events and events[0][0] <= now:
                machine.link_changed(Link(up=events.pop(0)[1], since=now), now)
            while says and says[0][0] <= now:
                machine.receive(hear(Frame(at=now, data=says.pop(0)[1])))
            machine.handle_timer(now)
            while sent := machine.poll():
                for frame in (each for effect in sent for each in self.answer(read_packet(effect.data), now)):
                    machine.receive(hear(Frame(at=now + 0.002, data=frame)))
        return now


@pytest.mark.parametrize(
    ("device", "links", "passed", "said"),
    [
        (Ticking(), ((10.0, 14.0),), True, "Its own clock began anew (TCP)."),
        (Ticking(((30.0, 38.0),), hz=1), ((30.0, 34.0),), True, "Its own clock began anew (TCP)."),
        (Ticking(((4.0, 70.0),), hz=1, anew=False), ((4.0, 14.0),), None, "nothing on the wire shows"),  # too coarse
        (Ticking(), (), True, "Its own clock began anew (TCP)."),  # a switch in between keeps the link
        # Its link comes and goes while it starts, as with many a boot loader.
        (Ticking(((10.0, 25.0),)), ((10.0, 12.0), (14.0, 17.0)), True, "Its own clock began anew (TCP)."),
        # The plug of a switch, a converter or a slow port in between: the device was on all the time.
        *(
            (Ticking(((10.0, 14.0 + word),), anew=False), ((10.0, 14.0),), None, "has run on (TCP): its power was not")
            for word in (0.1, 4.0, 5.0, 12.0, 31.0)
        ),
        (Ticking(made_up=True), ((10.0, 14.0),), None, "nothing on the wire shows that its power was cut"),
        (Ticking(opens=False), ((10.0, 14.0),), None, "nothing on the wire shows that its power was cut"),
        (Ticking(((1.0, 9.0),)), ((1.0, 5.0),), None, "nothing on the wire shows"),  # too soon to know its clock
    ],
)
def test_only_a_clock_of_its_own_that_begins_anew_shows_that_its_power_was_cut(device, links, passed, said):
    proof = PowerCycle(IT_AT_NEW, now=0.0, clock=OwnClock(IT_AT_NEW, (443, 80), now=0.0))
    device.live(proof, links)
    assert (proof.passed, proof.power) == (passed, Power.STARTING if passed else Power.UNSURE)
    assert said in (proof.because or proof.unsure)


def test_one_that_fell_silent_and_never_came_back_is_not_waited_for_without_end():
    proof = PowerCycle(IT_AT_NEW, now=0.0)
    prove(proof, until=900.0)
    assert (proof.passed, "for 600 s after it fell silent" in proof.because) == (False, True)


def test_a_word_against_a_clock_that_ran_on_is_recorded_as_such():
    proof, device = PowerCycle(IT_AT_NEW, now=0.0, clock=OwnClock(IT_AT_NEW, (80,), now=0.0)), Ticking(anew=False)
    at = device.live(proof)
    proof.confirm(at)
    device.live(proof, (), begins=at, until=120.0)
    assert proof.passed is True
    assert "The technician confirmed the power cycle; its own clock has run on through it" in proof.because


@pytest.mark.parametrize("loader_s", [20.0, 60.0])
def test_a_boot_loader_at_another_address_for_a_while_is_no_change_that_was_not_saved(loader_s):
    old = IPv4Address(OLD)

    class Loading(Ticking):
        def answer(self, packet, now):
            self.then = old if now < 18.0 + loader_s else NEW
            return super().answer(packet, now)

    proof = PowerCycle(IT_AT_NEW, now=0.0, clock=OwnClock(IT_AT_NEW, (80,), now=0.0), landings=[old])
    Loading().live(proof, until=150.0)
    assert proof.passed is (loader_s < 45.0)
    assert ("the change was not saved" in proof.because) is not proof.passed


@pytest.mark.parametrize(
    ("later", "says", "said"),
    [
        (None, (), "Watched for 20 s after its first word."),
        (None, [(30.0, asks_by_bootp())], "asked for an address by BOOTP 12 s after its first word"),
        (9.0, (), "It held 10.84.16.21, and went to 192.168.61.7 after that"),
        (14.0, (), "It held 10.84.16.21, and went to 192.168.61.7 after that"),
    ],
)
def test_what_it_does_after_it_was_seen_overturns_the_proof(later, says, said):
    old = IPv4Address(OLD)

    class Returning(Ticking):
        def answer(self, packet, now):
            self.then = old if later and now >= 18.0 + later else NEW
            return super().answer(packet, now)

    device, cycle = Returning(), PowerCycle(IT_AT_NEW, now=0.0, clock=OwnClock(IT_AT_NEW, (80,), now=0.0))
    watch = after_start.AfterStart(IT_AT_NEW, cycle, [old])
    at = device.live(cycle)
    assert cycle.passed is True
    watch.begin(at)
    device.live(watch, (), begins=at, says=says)
    watch.stop()
    assert (cycle.passed, said in cycle.because) == (later is None and not says, True), cycle.because


def test_one_that_says_nothing_at_its_old_address_is_found_there_after_the_cut():
    proof = PowerCycle(IT_AT_NEW, now=0.0, landings=[IPv4Address(OLD)])
    prove(proof, holds(IT, OLD), events=[(2.0, False), (6.0, True)])
    assert (proof.passed, proof.because) == (False, f"It is at {OLD} after the power cycle: the change was not saved.")


def test_where_nothing_shows_the_cut_whoever_pulled_it_is_asked_and_the_record_says_so():
    proof = PowerCycle(IT_AT_NEW, now=0.0)
    prove(proof, events=[(4.0, answers_arp(NEW))], until=5.0)
    assert proof.power is Power.UNSURE
    proof.confirm(5.0)
    prove(proof, holds(IT, NEW))
    assert (proof.passed, "power cycle confirmed by the technician" in proof.measured) == (True, True)
    assert "The technician confirmed the power cycle" in proof.because


def device_with(prefix, gateway):
    """Return an answerer: a stack with this mask and this gateway."""
    host = Host(IT, IPv4Interface((NEW, prefix)), gateway)

    def stack(data):
        frames = host.receive(data)
        asked = [arp for frame in frames if (arp := read_packet(frame).get(Arp)) and arp.tpa == LAPTOP.ip]
        known = [arp_frame(Arp(op=Op.REPLY, sha=US, spa=LAPTOP.ip, tha=IT, tpa=NEW), to=IT) for _ in asked]
        return [*frames, *(more for frame in known for more in host.receive(frame))]

    def answer(packet):
        raise AssertionError("it takes bytes")

    answer.stack = stack
    return answer


@pytest.mark.parametrize(
    ("prefix", "gateway", "failed", "said"),
    [
        (22, GATEWAY, [], "Its mask was measured from outside: /22."),
        (16, GATEWAY, ["mask"], "Its mask is /16, planned /22"),
        (24, None, ["mask", "gateway"], "Its mask is /24, planned /22: it will not find 10.84.19.254."),
        (22, IPv4Address("10.84.19.1"), ["gateway"], "Its gateway is 10.84.19.1, planned 10.84.19.254"),
        (22, None, [], "it has no gateway, or it lets nobody outside in."),
    ],
)
def test_a_wrong_mask_or_gateway_fails_its_own_proof_and_only_that(prefix, gateway, failed, said):
    """Where its mask makes a stranger of the laptop, its silence is explained by that and fails nothing."""
    proving = final.final_proofs(final.Making(subject=IT_AT_NEW, expected=Expected(gateway=GATEWAY), now=0.0))
    prove(proving, device_with(prefix, gateway), until=60.0)
    assert [proof.name for proof in proving.proofs if proof.passed is False] == failed
    assert said in " ".join(proof.because for proof in proving.proofs)
    if prefix == 24:
        echo = next(proof for proof in proving.proofs if proof.name == "echo")
        assert (echo.outcome.passed, "is outside its subnet" in echo.because) == (None, True)


@pytest.mark.parametrize("prefix", [None, 22])
def test_whom_it_looks_for_stands_behind_why_its_gateway_is_not_measured(prefix):
    result = SimpleNamespace(prefix=prefix, gateway=None, gateways=(), why_no_gateway="It stays silent.")
    proof = measured.GatewayAsPlanned(SimpleNamespace(result=result, subject=IT_AT_NEW), GATEWAY, lambda: GATEWAY)
    proof.handle_timer(0.0)
    assert f". It looks for {GATEWAY} by itself" in proof.because


def test_a_wrong_mask_excuses_silence_and_no_refusal():
    silent, refuses = Echo(IT_AT_NEW, now=0.0), PortOpens(IT_AT_NEW, 80, now=0.0)
    prove(silent, lambda packet: [])
    prove(refuses, replies(IT, answered(TcpFlag.RST | TcpFlag.ACK)))
    measured.MaskAsPlanned(IT_AT_NEW, explains=[silent, refuses])._explain(24)
    assert (silent.outcome.passed, refuses.outcome.passed) == (None, False)


@pytest.mark.parametrize(
    ("asked", "alone", "called", "passed"),
    [
        ("10.84.19.253", True, "DNS 10.84.19.253", True),
        ("10.9.9.9", True, "DNS 10.9.9.9", False),
        ("10.84.19.253", False, "", None),
    ],
)
def test_whom_it_calls_is_heard_by_standing_in_for_its_gateway_alone_and_after_its_start(
    practice, asked, alone, called, passed
):
    """FD-01 looks a name up once it has started, at the server that its page was told."""
    bench, run = practice("FD-01")
    session = walk(bench, run, {steps.Phase.POWER_CYCLE})
    bench.device.saved = replace(bench.device.saved, dns=(IPv4Address(asked),))
    session.stages.setting.own_word.reads_at = lambda *_: None  # or its own word would tell the wrong server first
    if not alone:
        session.receive(hear(Frame(at=bench.now(), data=arp_question(OTHER, OLD, sender=IPv4Address("10.84.16.99")))))
    walk(bench, run, {steps.Phase.MAY_RECORD})
    calls = session.device.calls
    pass_time(bench, run, 3.0)
    assert calls.measured == called
    assert calls.passed is passed
    session.enter(bench.now())
    pass_time(bench, run, 1.0)
    visit = run.job.register.rows()[0].last
    basis = "heard" if called else "read-back"
    assert (str(visit.as_left.dns.basis), run.job.register.rows()[0].state) == (
        basis,
        "unproven" if passed is False else "proven",
    )
    assert calls.done


@pytest.mark.parametrize(
    ("reverts", "failed", "said"),
    [
        ({"interface": IPv4Interface("10.84.16.50/24")}, "mask", "Its mask is /24, planned /22"),
        ({"gateway": IPv4Address("10.84.16.77")}, "gateway", "Its gateway is 10.84.16.77, planned 10.84.19.254"),
        ({}, "", ""),
    ],
)
def test_what_reverts_at_a_power_cut_is_found_by_proving_everything_once_more(practice, reverts, failed, said):
    """It keeps its address, which was all that was looked at after the cut; what it serves is timed."""
    bench, run = practice("FD-01", on_adapter=True)  # its own address is one that a device with /24 still finds
    session = walk(bench, run, {steps.Phase.POWER_CYCLE})
    session.stages.setting.own_word.reads_at = lambda *_: None  # nothing but measuring tells
    bench.device.saved = replace(bench.device.saved, **reverts)
    walk(bench, run, {steps.Phase.MAY_RECORD, steps.Phase.NOT_PROVEN})
    assert session.phase is (steps.Phase.NOT_PROVEN if failed else steps.Phase.MAY_RECORD)
    assert [each.name for each in session.device.again if each.passed is False] == ([failed] if failed else [])
    assert said in narrate.next_line(session, bench.now()).sentence
    pass_time(bench, run, 0.1)
    visit = run.job.register.rows()[0].last
    assert visit.proofs["same-mac"].after_cut
    assert list(visit.cut.services) == ["ping", "port 80"]
    assert all(at >= visit.cut.answer_s for at in visit.cut.services.values())


@pytest.mark.parametrize("back_after_s", [7.0, None])
def test_what_it_serves_is_waited_for_after_the_power_cut(back_after_s):
    """Its page comes up later than its address, or never: said with the port."""
    cycle = PowerCycle(IT_AT_NEW, now=0.0)
    services = service_again.Services(IT_AT_NEW, cycle, ports=[80], echo=False, longest_s=20.0)
    assert services.next_deadline() is None
    cycle.lane.off_at, cycle.lane.back_at, cycle.passed = 1.0, 10.0, True
    now = 10.0
    while not services.done and now < 60.0:
        services.handle_timer(now)
        for effect in services.poll():
            tcp = read_packet(effect.data).get(Tcp)
            if tcp and tcp.flags & TcpFlag.SYN:
                up = back_after_s is not None and now >= 10.0 + back_after_s
                flags = TcpFlag.SYN | TcpFlag.ACK if up else TcpFlag.RST | TcpFlag.ACK
                back = Tcp(src_port=80, dst_port=tcp.src_port, seq=5, ack=tcp.seq + 1, flags=flags)
                services.receive(hear(Frame(at=now + 0.01, data=frame_between(IT_AT_NEW.ends.back, back))))
        now = max(now + 0.01, services.next_deadline() or now)
    if back_after_s:
        assert (services.passed, services.measured) == (True, "port 80 after 16.0 s")
    else:
        assert (services.passed, services.because) == (False, "port 80 did not come back within 20 s of its address.")


@pytest.mark.parametrize(
    ("was", "comes", "passed", "said"),
    [
        ("", "<title>Level gateway</title>", True, "'Level gateway'"),
        ("Level gateway", "<title> Level\n gateway</title>", True, "'Level gateway'"),
        ("Level gateway", "<title>Other</title>", False, "and was 'Level gateway'"),
        ("", "no title", True, "without a title"),
        ("", None, None, "No page came: connection refused"),
    ],
)
def test_its_page_is_there_with_the_title_that_it_had(was, comes, passed, said):
    shown = SameMac(IT_AT_NEW, now=0.0)
    proof = PageAnswers(IT_AT_NEW, 80, was, shown, now=0.0)
    assert proof.next_deadline() is None, "not before it is shown who is there"
    shown.passed = True
    proof.handle_timer(1.0)
    (effect,) = proof.poll()
    call = effect.channel
    proof.channel_event(Closed(call, "connection refused") if comes is None else Fetched(call, 200, comes), 1.1)
    assert (proof.outcome.passed, said in f"{proof.measured} {proof.because}") == (passed, True), proof.outcome


class Told(Conversation):
    """One that has said already what its settings are."""

    has_said_all = True

    def __init__(self, **found):
        super().__init__({})
        self._found = found
        self._finish(Ended.WELL, "")

    def next_deadline(self):
        return 0.0


@pytest.mark.parametrize(
    ("told", "wrong"),
    [
        ({"prefix": "22", "name": "bl-01"}, ""),
        ({"name": "pump"}, "It says that it is called pump, and was told BL-01."),
        ({"prefix": "24"}, "It says that its prefix is /24, planned is /22."),
        ({"gateway": "10.84.19.1"}, "It says that its gateway is 10.84.19.1, planned is 10.84.19.254."),
        ({"dns1": "10.9.9.9"}, "It says that its DNS servers are 10.9.9.9, planned are none."),
        ({"mac": "02:00:00:00:00:07"}, "It says that its MAC address is 02:00:00:00:00:07"),
    ],
)
def test_what_a_device_says_of_itself_is_held_against_the_plan(told, wrong):
    shown = SameMac(IT_AT_NEW, now=0.0)
    shown.passed = True
    expected = Expected(gateway=GATEWAY, dns=(), name="BL-01")
    proof = ReadsBack(lambda _: Told(address=str(NEW), **told), IT_AT_NEW, expected, shown, now=0.0)
    prove(proof)
    assert (proof.passed, wrong in proof.because) == (not wrong, True)


def test_what_was_asked_for_and_is_missing_is_no_pass():
    made = [Outcome(name=name, expected="", measured="", passed=passed, because="")
            for name, passed in (("same-mac", True), ("gateway", None), ("gateway", None))]  # fmt: skip
    verdict = verdict_of(made)
    assert (verdict.nothing_failed, verdict.is_pass([]), verdict.is_pass(["gateway"])) == (True, True, False)
    assert (verdict.missing(["gateway", "power-cycle"]), verdict.words) == (
        ("gateway", "power-cycle"),
        "1 passed, 1 not made",
    )
    once_more = Outcome(name="gateway", expected="", measured="", passed=False, because="")
    assert verdict_of([*made, once_more, made[1]]).failed == ("gateway",), "a failure stays"


@pytest.mark.parametrize(("ttl", "counts"), [(64, True), (63, False), (127, False), (255, True)])
def test_what_somebody_behind_the_device_asks_is_not_its_own_call(ttl, counts):
    """Passed on under its address: the time to live is one lower than what stacks send with."""
    cycle = PowerCycle(IT_AT_NEW, now=0.0)
    cycle.passed = True
    calls = Calls(IT_AT_NEW, GATEWAY, (), cycle, lambda: True)
    ends = Ends(src_mac=IT, src=NEW, dst_mac=stand_in_mac(GATEWAY), dst=IPv4Address("10.9.9.9"))
    asks = frame_between(ends, udp.Udp(src_port=5_000, dst_port=53, payload=b"name"), ttl)
    calls.receive(hear(Frame(at=1.0, data=asks)))
    assert bool(calls.dns_called) is counts


FIRST, SECOND = "10.84.19.253", "10.84.19.252"


@pytest.mark.parametrize(("said", "called", "both", "passed"), [
    ({"dns1": FIRST}, (), False, True), ({"dns1": "10.9.9.9"}, (), False, False), ({"prefix": "22"}, (), False, None),
    (None, (), False, None), (None, (FIRST,), False, True), (None, ("10.9.9.9",), False, False),
    ({"dns1": FIRST}, (), True, None), ({"dns1": FIRST, "dns2": SECOND}, (), True, True), (None, (FIRST,), True, None),
    ({"dns1": FIRST}, (SECOND,), True, True), ({"dns1": FIRST}, ("10.9.9.9",), True, False),
    (None, (SECOND, FIRST), True, True), ({"dns1": SECOND, "dns2": FIRST}, (), True, False)])  # fmt: skip
def test_each_name_server_is_shown_by_its_own_word_or_by_whom_it_calls(said, called, both, passed):
    planned = tuple(map(IPv4Address, (FIRST, SECOND) if both else (FIRST,)))
    shown = SameMac(IT_AT_NEW, now=0.0)
    shown.passed = True
    own = ReadsBack(lambda _: Told(address=str(NEW), **said), IT_AT_NEW, Expected(), shown, now=0.0) if said else None
    if own:
        prove(own)
    calls = SimpleNamespace(dns_called=tuple(map(IPv4Address, called)), passed=passed)
    proof = name_servers.DnsAsPlanned(planned, own, calls)
    proof.begin(1.0)
    proof.settle()
    assert proof.outcome.passed is passed
