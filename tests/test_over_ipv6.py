"""A device that shows an IPv6 address and no other goes its whole way, with nothing borrowed to talk to it."""

from ipaddress import IPv4Address, IPv4Interface

import pytest

from askport.bench import agent, stand_in
from askport.core import addresses, errors
from askport.core.finding.clues import Belief
from askport.core.formats.ipv6 import IPv6, link_local
from askport.core.formats.packet import ends6_of, frame_between, read_packet
from askport.core.formats.udp import Udp
from askport.core.register.entries import Borrowed
from askport.core.visit.narrate import next_line
from askport.core.visit.steps import Phase
from askport.core.ways import snmp_talk as snmp
from askport.tui.laptop_watch import page_at
from conftest import pass_time
from test_session import journal, walk

HIDDEN = IPv4Interface("203.0.113.7/22")
OTHER = addresses.MacAddress.parse("02:00:5e:00:53:99")


@pytest.fixture
def unit(practice):
    """Put TG-01 on the bench, with IPv6 and without any IPv4 address."""

    def begin(has=None, **options):
        bench, run = practice("TG-01", **options)
        device = bench.device
        device.saved = stand_in.Settings(has)
        device.host.ipv6 = link_local(device.mac)
        return bench, run, device

    return begin


def test_it_is_offered_once_no_likely_address_answers_and_set_on_its_page(unit):
    bench, run, device = unit()
    session = walk(bench, run, {Phase.TRYING_PORTS})
    assert session.device.whereabouts is None
    pass_time(bench, run, until=lambda: session.phase is Phase.MAY_SET)
    assert (journal(run, Borrowed), bench.speaks_ipv6, session.visit.door) == ([], True, device.host.ipv6)
    assert session.visit.way_names[0] == "page"
    assert f"Over IPv6, at {device.host.ipv6}" in session.visit.ways()[0].reason
    walk(bench, run, {Phase.RECORDED})
    pass_time(bench, run, 1.0)
    (row,) = run.job.register.rows()
    assert (row.state, row.last.way, row.first.found_address) == ("proven", "page", None)
    assert not bench.speaks_ipv6


def test_it_is_reached_by_its_ipv4_address_where_it_shows_one_and_its_page_is_offered_before_that(unit):
    bench, run, _ = unit(IPv4Interface("192.168.61.7/24"))
    session = walk(bench, run, {Phase.MAY_BORROW})
    assert next_line(session, bench.now()).sentence.startswith(
        "Its page answers over IPv6: press o to open it. Borrow 192.168"
    )
    assert (bench.speaks_ipv6, session.device.over_ipv6.opened) == (True, [80])
    walk(bench, run, {Phase.MAY_SET})
    assert session.visit.door is None
    assert session.visit.start(bench.now()).door is None
    assert "IPv6" not in session.visit.ways()[0].reason


def test_where_no_laptop_address_is_free_beside_it_the_way_goes_over_ipv6(unit):
    bench, run, device = unit(IPv4Interface("192.168.61.7/24"))
    session = walk(bench, run, {Phase.MAY_BORROW})
    session.stages.access.take_free(None, bench.now())  # somebody answered for all of them
    line = next_line(session, bench.now())
    assert (line.enter, f"Continue over IPv6, at {device.host.ipv6}" in line.sentence) == (True, True)
    session.enter(bench.now())
    pass_time(bench, run, until=lambda: session.phase is Phase.MAY_SET)
    assert (journal(run, Borrowed), session.visit.door) == ([], device.host.ipv6)


@pytest.mark.by_day(0)
@pytest.mark.parametrize("rude", ["goes", "another answers", "beside the adapter it cannot be spoken"])
def test_one_that_does_not_answer_there_itself_is_not_gone_on_with(unit, rude):
    """Its address is another's by now, or it has left, or the laptop speaks no IPv6: nothing counts as its answer."""
    bench, run, device = unit()
    session, answers = run.session, device.receive
    pass_time(bench, run, until=lambda: session.cable.search.candidate is not None, span=2.0)
    while "over IPv6, at" not in next_line(session, bench.now()).sentence:
        if next_line(session, bench.now()).enter:
            session.enter(bench.now())
        pass_time(bench, run, 2.0)
        assert bench.now() < 200

    def from_another(data, now):
        return [each[:6] + bytes(OTHER) + each[12:] for each in answers(data, now)]

    async def refuses():
        raise errors.MachineRefused("This kernel has no IPv6.")

    if rude == "goes":
        device.host.ipv6 = None
    elif rude == "another answers":
        device.receive = from_another
    else:
        run.driver._adapter_and_job.speak_ipv6 = refuses
        device.host.ipv6 = None
    session.enter(bench.now())
    pass_time(bench, run, 30.0, until=lambda: session.visit.trouble is not None and session.phase is Phase.FINDING)
    assert session.phase is Phase.FINDING
    assert session.visit.trouble.message in (
        "It does not answer over IPv6. Look again for who is there.",
        "This kernel has no IPv6.",
    )
    assert ("kernel" in session.visit.trouble.message) is ("adapter" in rude)


class Hidden(agent.StandbySupply):
    """Answers nothing at the IPv4 address that it has, be it ARP, until it is given another; over IPv6 it does."""

    def receive(self, data, now):
        packet = read_packet(data)
        udp, ends = packet.get(Udp), ends6_of(packet)
        if udp and ends and ends.dst == self.host.ipv6 and udp.dst_port == self.port:
            self._now = now
            said = self._answer(udp.payload, self.host.interface)
            ports = {"src_port": self.port, "dst_port": udp.src_port}
            return [frame_between(ends.back, Udp(**ports, payload=each)) for each in said]
        silent = self.host.interface == HIDDEN and not packet.get(IPv6)
        return [] if silent else super().receive(data, now)

    def started(self, now):
        return [] if super().started(now) and self.host.interface == HIDDEN else self.host.announce()

    def _values(self, at):
        zoned = (*snmp.IP_ADDRESS, snmp.IF_INDEX, 4, 20, *self.host.ipv6.packed, 0, 0, 0, 2)
        loopback = snmp.row(snmp.IF_INDEX, IPv4Address("127.0.0.1"))
        return {**super()._values(at), zoned: 1, loopback: 9}


@pytest.mark.long
def test_what_its_agent_says_over_ipv6_is_a_clue_with_its_frame_and_it_is_set_there(practice):
    bench, run = practice("UP-01")
    device = Hidden(bench.device.mac, stand_in.Settings(HIDDEN))
    device.host.ipv6 = link_local(device.mac)
    bench.plug(device)
    session = walk(bench, run, {Phase.MAY_SET})
    session.stages.setting.log_in("", agent.COMMUNITY, bench.now())
    pass_time(bench, run, 8.0)
    assert (session.device.says.address, session.device.says.prefix) == (HIDDEN.ip, 22), session.device.not_read
    (belief,) = session.cable.finder.device(device.mac).addresses
    assert (belief.address, belief.belief is Belief.CERTAIN) == (HIDDEN.ip, False)
    assert any("asked over IPv6" in each.sentence and each.frames for each in belief.because), belief.because
    walk(bench, run, {Phase.RECORDED})
    (row,) = run.job.register.rows()
    assert (row.state, row.last.way, row.first.found_address) == ("proven", "snmp", None)


def test_no_page_is_offered_over_ipv6_where_none_answers_there(unit):
    """Its console does; until it was asked its page may be there, and is worth a try."""
    bench, run, device = unit(IPv4Interface("192.168.61.7/24"))
    session = run.session
    session.cable.search.louder(bench.now())
    pass_time(
        bench,
        run,
        20.0,
        until=lambda: bool(session.cable.finder.devices()[:1] and run.session.cable.search.candidate.link_local),
    )
    assert page_at(session).port == 80
    device.host.ports = (23,)
    walk(bench, run, {Phase.MAY_BORROW})
    assert (session.device.over_ipv6.opened, page_at(session)) == ([23], None)
