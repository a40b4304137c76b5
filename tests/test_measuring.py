"""Measuring mask and gateway: exact on the bench's stack, and never wrong on stacks that do it differently."""

import asyncio
from ipaddress import IPv4Address, IPv4Interface, IPv4Network

import pytest
from hypothesis import given
from hypothesis import strategies as st

from askport.bench.bench import Bench
from askport.bench.host import Host
from askport.bench.page_device import PageDevice
from askport.bench.stand_in import Settings
from askport.core.addresses import BROADCAST_MAC, NO_MAC, MacAddress
from askport.core.finding.measuring import MAX_QUESTIONS, Measuring
from askport.core.finding.questioning import source_sharing
from askport.core.formats.arp import Arp, Op, arp_frame, arp_question
from askport.core.formats.icmp import Icmp
from askport.core.formats.packet import Ends, ends_of, frame_between, read_packet
from askport.core.formats.tcp import Tcp
from askport.core.wire import Frame, hear
from askport.edges.driver import Driver

IT, LAPTOP = MacAddress(bytes.fromhex("00005e005310")), MacAddress(bytes.fromhex("00005e005301"))
OTHER = MacAddress(bytes.fromhex("00005e005311"))


def measure(interface, gateway=None, host=Host, avoid=(), **traits):
    """Measure a stand-in in virtual time."""
    bench = Bench(LAPTOP)
    device = PageDevice(IT, Settings(IPv4Interface(interface), IPv4Address(gateway) if gateway else None))
    device.host = host(IT)
    bench.plug(device)
    asyncio.run(Driver(Measuring(LAPTOP, IT, IPv4Address(1), now=0.0), bench).run(until=lambda: device.up))
    device.host.ports = (80,)
    for name, value in traits.items():
        setattr(device.host, name, value)
    at = IPv4Interface(interface).ip
    machine = Measuring(LAPTOP, IT, at, now=bench.now(), avoid=avoid, laptop_macs=[LAPTOP, OTHER])
    asyncio.run(Driver(machine, bench).run(until=lambda: machine.done, longest_until=bench.now() + 60))
    assert machine.result.questions <= MAX_QUESTIONS
    return machine.result


class AsksForEverybody(Host):
    """Asks by ARP for every source, on its subnet or not."""

    def _next_hop(self, dst):
        return dst


class AnswersStraight(Host):
    """Answers to the sender's MAC address without any ARP."""

    def send(self, src, dst, message):
        return []

    def receive(self, data):
        packet = read_packet(data)
        ends, icmp = ends_of(packet), packet.get(Icmp)
        return [frame_between(ends.back, Icmp(type=0, data=icmp.data))] if icmp else super().receive(data)


class ResetsOnly(Host):
    """Ignores every ping, and refuses TCP."""

    def _answer(self, packet):
        return super()._answer(packet) if packet.get(Tcp) else None


class LooksForServers(Host):
    """Looks for its time server with every answer: an address that is not its gateway."""

    def send(self, src, dst, message):
        return [
            *super().send(src, dst, message),
            arp_question(self.mac, self.interface.ip + 3, sender=self.interface.ip),
        ]


class Drops(Host):
    """Drops the packet for which it has to ask, so that the first answer by a next hop is always lost."""

    def send(self, src, dst, message):
        frames = super().send(src, dst, message)
        self.waiting.clear()
        return frames


@pytest.mark.parametrize("host", [Host, ResetsOnly, Drops])
@pytest.mark.parametrize(
    ("interface", "gateway"),
    [("10.84.16.40/22", None), ("10.84.16.40/22", "10.84.19.254"), ("172.29.4.100/24", "172.29.4.1"),
     ("10.212.7.33/16", "10.212.0.1"), ("10.0.0.9/8", "10.200.0.1"), ("192.168.61.5/30", "192.168.61.6"),
     ("192.168.1.200/29", "192.168.1.201"), ("192.168.1.3/28", None)],
)  # fmt: skip
def test_stacks_that_show_it_are_measured_exactly(host, interface, gateway):
    result = measure(interface, gateway, host)
    assert result.prefix == IPv4Interface(interface).network.prefixlen, result.because
    assert result.gateway == (IPv4Address(gateway) if gateway else None), result.because


@pytest.mark.parametrize("host", [AsksForEverybody, AnswersStraight])
def test_stacks_that_hide_it_are_said_to(host):
    result = measure("10.84.16.40/22", "10.84.19.254", host)
    assert (result.prefix, result.gateway) == (None, None)
    assert "cannot be measured" in result.because


def test_an_address_that_it_looks_for_anyway_is_no_wrong_mask():
    result = measure("10.84.16.40/22", None, LooksForServers)
    assert (result.prefix, result.gateway) == (22, None), result.because


@pytest.mark.parametrize("shared", range(8, 31))
def test_where_no_source_is_left_to_ask_from_no_wrong_mask_is_told(shared):
    """What was not asked has no answer: silence would be taken for the end of the subnet."""
    taken = {source_sharing(IPv4Address("192.168.1.200"), shared, variant) for variant in range(20)} - {None}
    needed = {23, 24}  # both sides of the end; everywhere else another distance will do
    measured = measure("192.168.1.200/24", "192.168.1.1", avoid=taken)
    assert measured.prefix == (None if shared in needed else 24), measured.because


def test_others_on_the_wire_are_not_disturbed():
    machine = Measuring(LAPTOP, IT, IPv4Address("10.84.16.40"), now=0.0)
    machine.receive(hear(Frame(at=0.1, data=arp_question(MacAddress(b"\2\0\0\0\0\7"), IPv4Address("10.84.16.1")))))
    assert machine.result.prefix is None
    assert "on this wire too" in machine.result.because


class LetsIn(Host):
    """Has a list of those whom it answers, whatever its mask is."""

    allowed = IPv4Network("10.84.16.0/24")

    def receive(self, data):
        packet = read_packet(data)
        ends = ends_of(packet)
        return super().receive(data) if ends is None or ends.src in self.allowed else []


class LimitsPings(Host):
    """Answers every second ping, and nothing but pings."""

    ports, pings = None, 0

    def _answer(self, packet):
        self.pings += 1
        return super()._answer(packet) if packet.get(Icmp) and self.pings % 2 else None


class Routes(Host):
    """Has routes of its own, each with one next hop or two that share its load."""

    routes = ()

    def _next_hop(self, dst):
        for network, hops in self.routes:
            if dst in self.interface.network or dst not in IPv4Network(network):
                continue
            return IPv4Address(hops[int(dst) % len(hops)])
        return super()._next_hop(dst)


@pytest.mark.parametrize("gateway", [None, "10.84.19.254"])
def test_a_list_of_those_whom_it_answers_is_no_mask_and_one_that_ends_with_its_mask_no_missing_gateway(gateway):
    narrow = measure("10.84.16.40/22", gateway, LetsIn)
    assert (narrow.prefix, narrow.gateway) == (None, None), narrow.because
    assert "may be what it lets in" in narrow.because
    equal = measure("10.84.16.40/22", gateway, LetsIn, allowed=IPv4Network("10.84.16.0/22"))
    assert (equal.prefix, equal.gateway) == (22, None), equal.because
    assert "it has no gateway, or it lets nobody outside in" in equal.why_no_gateway


@pytest.mark.parametrize("gateway", [None, "10.84.19.254"])
def test_one_that_limits_its_pings_has_no_other_address_for_that(gateway):
    result = measure("10.84.16.40/22", gateway, LimitsPings)
    assert result.prefix in (22, None), result.because
    assert "another address beside" not in result.because


def test_a_route_beside_the_default_is_not_taken_for_it():
    private, all_of_it = "10.0.0.0/8", "0.0.0.0/0"
    both = measure("10.84.16.40/22", "10.84.19.254", Routes, routes=[(private, ["10.84.16.1"])])
    assert (both.prefix, str(both.gateway)) == (22, "10.84.19.254"), both.because
    assert "What is just beyond its subnet goes through 10.84.16.1." in both.because
    only = measure("10.84.16.40/22", None, Routes, routes=[(private, ["10.84.16.1"])])
    assert (only.prefix, only.gateway, only.gateways) == (22, None, ())
    assert "to all other addresses it stays silent" in only.why_no_gateway
    equal = measure("10.84.16.40/22", None, Routes, routes=[(all_of_it, ["10.84.16.1", "10.84.19.254"])])
    assert (equal.prefix, equal.gateway) == (22, None)
    assert set(map(str, equal.gateways)) == {"10.84.16.1", "10.84.19.254"}


def test_a_mac_address_with_two_addresses_names_neither():
    """A router's two: the device checks both, by the MAC address that it remembers."""
    router = MacAddress(b"\2\0\0\0\0\7")

    class Remembers(Host):
        def send(self, src, dst, message):
            self.neighbours[self.gateway] = router
            checks = [Arp(op=1, sha=self.mac, spa=src, tha=NO_MAC, tpa=IPv4Address(each))
                      for each in ("10.84.19.254", "10.84.19.253")]  # fmt: skip
            return [*super().send(src, dst, message), *(arp_frame(each, to=router) for each in checks)]

    result = measure("10.84.16.40/22", "10.84.19.254", Remembers)
    assert (result.prefix, result.gateway) == (22, None), result.because
    assert "10.84.19.253 and 10.84.19.254, and does not say which" in result.why_no_gateway


@pytest.mark.parametrize("other", ["10.84.16.255", "10.84.16.43"])
def test_a_narrower_mask_beside_is_seen_down_to_the_narrowest(other):
    class Two(Host):
        def _next_hop(self, dst):
            return None if dst == IPv4Address(other) else super()._next_hop(dst)

    result = measure("10.84.16.40/22", "10.84.19.254", Two)
    length = 24 if other.endswith("255") else 30
    assert (result.prefix, f"the other /{length}" in result.because) == (None, True), result.because


def test_addresses_of_others_are_no_sources_and_one_that_somebody_has_is_asked_from_no_more():
    """A plan of neighbours side by side, and somebody who answers for the first source that is left."""
    planned = {IPv4Address("10.84.16.0") + number for number in range(64)}

    class Beside(Host):
        taken = None

        def receive(self, data):
            arp = read_packet(data).get(Arp)
            if arp and arp.op == Op.REQUEST and arp.spa == IPv4Address(0) and self.taken in (None, arp.tpa):
                self.taken = arp.tpa
                return [arp_frame(Arp(op=Op.REPLY, sha=OTHER, spa=arp.tpa, tha=LAPTOP, tpa=arp.spa), to=LAPTOP)]
            ends = ends_of(read_packet(data))
            assert ends is None or ends.src not in planned | {self.taken}
            return super().receive(data)

    assert measure("10.84.16.40/22", "10.84.19.254", Beside, avoid=planned).prefix == 22


def test_a_source_that_another_place_of_the_laptop_has_borrowed_is_no_gateway():
    """Two units of a crate at once: one place borrows what the other measures from, and answers for it first."""

    class Remembers(Host):
        def receive(self, data):
            ends = ends_of(read_packet(data))
            if ends and OTHER not in self.neighbours.values():
                self.neighbours[ends.src] = OTHER
            return super().receive(data)

    result = measure("10.84.16.40/22", "10.84.19.254", Remembers)
    assert (result.prefix, str(result.gateway)) == (22, "10.84.19.254")


@given(st.integers(0x0A000001, 0xDFFFFFFE).map(IPv4Address), st.integers(7, 30), st.integers(0, 3))
def test_sources_are_hosts_in_every_subnet_that_holds_them(address, shared, variant):
    """Never a network or broadcast address, whatever the mask turns out to be."""
    source = source_sharing(address, shared, variant)
    if source is None:
        return
    assert 32 - (int(source) ^ int(address)).bit_length() == shared
    for prefix in range(8, 31):
        host = int(source) & (1 << 32 - prefix) - 1
        assert host not in (0, (1 << 32 - prefix) - 1) or prefix > shared


@pytest.mark.parametrize(("sender", "ends"), [("0.0.0.0", False), ("10.84.16.9", True)])
def test_only_who_has_an_address_is_a_neighbour_that_would_be_disturbed(sender, ends):
    """A switch asks for groups from no address (RFC 4541 section 2.1.1)."""
    machine = Measuring(LAPTOP, IT, IPv4Address("10.84.16.40"), now=0.0)
    asks = Ends(src_mac=OTHER, src=IPv4Address(sender), dst_mac=BROADCAST_MAC, dst=IPv4Address("224.0.0.1"))
    machine.receive(hear(Frame(at=0.0, data=frame_between(asks, Icmp(type=8)))))
    assert machine.done is ends


def test_a_device_that_probes_for_a_source_keeps_it():
    """A source that somebody holds is never used: the device asks nobody for it, and is not asked from it."""
    machine = Measuring(LAPTOP, IT, IPv4Address("10.84.16.40"), now=0.0)
    asked = [read_packet(each.data).get(Arp) for each in machine.poll()]
    assert {str(each.spa) for each in asked} == {"0.0.0.0"}


def test_a_source_that_the_device_holds_is_never_asked_from():
    """It answers for whatever is asked for before a question: there is nothing to ask from, and nothing is told."""
    machine, now, frames = Measuring(LAPTOP, IT, IPv4Address("10.84.16.40"), now=0.0), 0.0, 0
    while not machine.done:
        while sent := machine.poll():
            for each in sent:
                arp, frames = read_packet(each.data).get(Arp), frames + 1
                assert arp is not None, "only questions whether somebody is there"
                assert frames < 1000, "it asks for the same sources again and again"
                reply = Arp(op=2, sha=IT, spa=arp.tpa, tha=LAPTOP, tpa=arp.spa)
                machine.receive(hear(Frame(at=now, data=arp_frame(reply))))
        now = max(now + 0.001, machine.next_deadline() or now)
        machine.handle_timer(now)
    assert (machine.result.prefix, machine.result.questions, frames > 3) == (None, 0, True)
    assert "or somebody's" in machine.result.because


def test_a_silent_one_among_planned_neighbours_was_asked_and_did_not_answer():
    neighbours = {IPv4Address(f"10.84.16.{number}") for number in range(31, 55)} - {IPv4Address("10.84.16.36")}
    machine, now = Measuring(LAPTOP, IT, IPv4Address("10.84.16.36"), now=0.0, avoid=neighbours), 0.0
    while not machine.done:
        machine.poll()
        now = machine.next_deadline() or now
        machine.handle_timer(now)
    assert (machine.result.prefix, "reacted to neither" in machine.result.because) == (None, True)
    assert machine.result.questions > 0
