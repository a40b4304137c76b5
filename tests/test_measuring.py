"""Measuring mask and gateway: exact on the bench's stack, and never wrong on stacks that do it differently."""

import asyncio
from ipaddress import IPv4Address, IPv4Interface

import pytest
from hypothesis import given
from hypothesis import strategies as st

from askport.bench.bench import Bench
from askport.bench.host import Host
from askport.bench.page_device import PageDevice
from askport.bench.stand_in import Settings
from askport.core.addresses import MacAddress
from askport.core.finding.measuring import MAX_QUESTIONS, Measuring
from askport.core.finding.questioning import source_sharing
from askport.core.formats.arp import Arp, arp_frame, arp_question
from askport.core.formats.icmp import Icmp
from askport.core.formats.packet import ends_of, frame_between, read_packet
from askport.core.formats.tcp import Tcp
from askport.core.wire import Frame, hear
from askport.edges.driver import Driver

IT, LAPTOP = MacAddress(bytes.fromhex("00005e005310")), MacAddress(bytes.fromhex("00005e005301"))


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
    machine = Measuring(LAPTOP, IT, IPv4Interface(interface).ip, now=bench.now(), avoid=avoid)
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
    needed = {17, *range(22, 26), 28}  # where halving the distance comes by, and nothing else is near enough
    measured = measure("192.168.1.200/24", "192.168.1.1", avoid=taken)
    assert measured.prefix == (None if shared in needed else 24), measured.because


def test_others_on_the_wire_are_not_disturbed():
    machine = Measuring(LAPTOP, IT, IPv4Address("10.84.16.40"), now=0.0)
    machine.receive(hear(Frame(at=0.1, data=arp_question(MacAddress(b"\2\0\0\0\0\7"), IPv4Address("10.84.16.1")))))
    assert machine.result.prefix is None
    assert "on this wire too" in machine.result.because


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


def test_a_device_that_probes_for_a_source_keeps_it():
    """A source that somebody holds is never used: the device asks nobody for it, and is not asked from it."""
    machine = Measuring(LAPTOP, IT, IPv4Address("10.84.16.40"), now=0.0)
    first = read_packet(machine.poll()[0].data).get(Arp)
    assert (first.tpa in machine.sources, str(first.spa)) == (True, "0.0.0.0")


def test_a_source_that_the_device_holds_is_never_asked_from():
    """It answers for whatever is asked for before a question: there is nothing to ask from, and nothing is told."""
    machine, now, frames = Measuring(LAPTOP, IT, IPv4Address("10.84.16.40"), now=0.0), 0.0, 0
    while not machine.done:
        while sent := machine.poll():
            arp, frames = read_packet(sent[0].data).get(Arp), frames + 1
            assert arp is not None, "only questions whether somebody is there"
            assert frames < 1000, "it asks for the same sources again and again"
            reply = Arp(op=2, sha=IT, spa=arp.tpa, tha=LAPTOP, tpa=arp.spa)
            machine.receive(hear(Frame(at=now, data=arp_frame(reply))))
        now = max(now + 0.001, machine.next_deadline() or now)
        machine.handle_timer(now)
    assert (machine.result.prefix, machine.result.questions, frames > 3) == (None, 0, True)
    assert "is somebody's" in machine.result.because
