"""The stand-ins of the scenario as a technician meets them: what each gives away by itself, and when it is asked."""

import asyncio
import re
from ipaddress import IPv4Address, IPv4Network
from itertools import pairwise

import pytest

from askport.bench import scenario
from askport.bench.bench import Bench
from askport.core import errors, wire
from askport.core.finding import clues, loudness
from askport.core.finding.finder import Finder
from askport.core.finding.greeting import ASKS, Greeting
from askport.core.finding.search import Search
from askport.core.formats.packet import read_packet
from askport.core.plan.sentence import read_target
from askport.core.visit.narrate import next_line
from askport.core.visit.steps import Phase, Step
from askport.core.ways.answering_requests import AnsweringRequests
from askport.core.ways.way import Result
from askport.edges.driver import Driver
from conftest import pass_time


def meet(*devices, switch=False, seconds=30.0, **options):
    """Plug something in and find for a while in virtual time; also check that no deadline was ever missed."""
    bench = Bench(scenario.LAPTOP_MAC)
    bench.plug(*devices, switch=switch)
    finder = Finder([bench.mac], now=0.0, **options)
    late = []
    handle = finder.handle_timer

    def watched(now):
        deadline = finder.next_deadline()
        if deadline is not None and now > deadline + 0.01:
            late.append((now, deadline))
        handle(now)

    finder.handle_timer = watched
    asyncio.run(Driver(finder, bench).run(until=lambda: False, longest_until=seconds))
    assert not late[1:], late[:3]
    return finder


@pytest.mark.parametrize(
    ("tag", "address", "belief", "origin"),
    [("TG-01", "192.168.61.7", "certain", "unknown"), ("OX-02", "172.29.4.100", "certain", "unknown"),
     ("FD-01", "169.254.83.12", "certain", "link-local"), ("SW-01", "172.26.40.2", "certain", "unknown"),
     ("PA-01", "192.168.77.21", "certain", "unknown")],
)  # fmt: skip
def test_what_speaks_is_certain_without_a_frame_of_ours(tag, address, belief, origin):
    finder = meet(scenario.stand_in(tag))
    device = next(each for each in finder.devices() if each.best and str(each.best.address) == address)
    assert (str(device.best.belief), str(device.best.origin)) == (belief, origin)
    assert finder.poll() == []


def test_what_asks_for_an_address_is_said_to_ask_and_by_which_name():
    blower = meet(scenario.stand_in("BL-01")).devices()[0]
    assert (blower.request.protocol, blower.best, blower.request.requests >= 5) == ("bootp", None, True)
    hopper = meet(scenario.stand_in("FD-01"), seconds=12.0).devices()[0]
    assert (hopper.request.protocol, hopper.request.names) == ("dhcp", ("feed-hopper",))
    assert hopper.request.because[0].frames[0].data


def test_what_is_silent_is_found_when_it_is_called_and_only_then():
    assert meet(scenario.stand_in("UV-01"), loudness=loudness.Loudness.GREET).devices() == []
    finder = meet(scenario.stand_in("UV-01"), loudness=loudness.Loudness.CALL, known=[IPv4Address("10.212.7.33")])
    best = finder.devices()[0].best
    assert (str(best.belief), str(best.origin), best.prefix) == ("certain", "unknown", None)
    assert "reacted to neither ping, TCP nor UDP" in best.because[-1].sentence


def test_what_has_no_address_is_seen_all_the_same():
    device = meet(scenario.stand_in("WX-01"), seconds=7.0).devices()[0]
    assert (device.best, device.request, device.is_found) == (None, None, False)
    assert device.others[0].sentence.startswith("It uses fe80::200:5eff:fe00:5360")


def test_a_slow_start_is_waited_for_and_measured():
    finder = meet(scenario.stand_in("DR-01"), seconds=119.0)
    assert finder.devices() == []
    finder = meet(
        scenario.stand_in("DR-01"), seconds=180.0, loudness=loudness.Loudness.CALL, within=[IPv4Network("10.0.0.0/30")]
    )
    best = finder.devices()[0].best
    assert (best.prefix, str(best.gateway), str(best.gateway_basis)) == (24, "192.168.1.1", "measured")


def test_a_switch_a_horn_and_the_house_are_what_they_are():
    codes = lambda finder: {each.code for each in finder.hazards()}  # noqa: E731
    switch = meet(scenario.stand_in("SW-01"))
    assert codes(switch) == {"switch"}
    assert switch.devices()[0].names == (("pump-room", "lldp"),)
    horn = meet(scenario.stand_in("PA-01"))
    assert codes(horn) == {"one-box", "several-devices"}
    assert {"paging-horn"} == {name for device in horn.devices() for name, _ in device.names}
    twins = meet(*scenario.twins(), switch=True)
    assert codes(twins) == {"duplicate-address", "several-devices"}
    quiet = meet(*scenario.house(), switch=True, seconds=5.0)
    assert codes(quiet) == {"router", "several-devices"}
    greeted = meet(*scenario.house(), switch=True, seconds=5.0, loudness=loudness.Loudness.GREET)
    assert codes(greeted) == {"router", "address-server", "several-devices"}


def test_in_the_house_nobody_is_answered():
    bench = Bench(scenario.LAPTOP_MAC, laptop=scenario.LAPTOP)
    bench.plug(*scenario.house(), switch=True)
    target = read_target("10.84.16.21/22 via 10.84.19.254")
    way = AnsweringRequests(scenario.stand_in("BL-01").mac, target, laptop_mac=bench.mac, laptop=scenario.LAPTOP[0],
                    xid=lambda: 7, now=0.0)  # fmt: skip
    asyncio.run(Driver(way, bench).run(until=lambda: way.done, longest_until=30.0))
    assert way.result is Result.REFUSED
    assert "Another address server answers here" in way.because


@pytest.mark.parametrize("ask", ASKS, ids=lambda ask: ask.name)
def test_every_question_to_everybody_is_a_sound_frame_that_tells_nothing_of_us(ask):
    data = ask.frame(scenario.LAPTOP_MAC, 1)
    packet = read_packet(data)
    assert packet.unreadable is None
    assert data[6:12] == scenario.LAPTOP_MAC
    assert data[0] & 1, "to a group"
    finder = Finder([scenario.LAPTOP_MAC], now=0.0)
    finder.receive(wire.hear(wire.Frame(at=0.0, data=data)))
    assert finder.devices() == []


def test_no_two_probes_look_like_one_that_was_answered_already():
    """Who has seen a message's identifier before does not answer (WS-Discovery 1.1 section 4.2)."""
    sent = []
    for begins_at in (0.0, 500.0):  # the program is started twice
        greeting = Greeting(scenario.LAPTOP_MAC, now=begins_at)
        while (now := greeting.next_deadline()) is not None:
            greeting.handle_timer(now)
            sent += [effect.data for effect in greeting.poll()]
    numbers = [found[1] for each in sent if (found := re.search(rb"MessageID>([^<]+)<", each))]
    assert len(numbers) == len({*numbers}) == 2 * 5 * 4


def test_greeting_comes_in_rounds_that_thin_out_and_begins_anew_with_the_link():
    bench = Bench(scenario.LAPTOP_MAC)
    bench.plug(scenario.stand_in("UV-01"))
    finder = Finder([bench.mac], now=0.0, loudness=loudness.Loudness.GREET)
    driver = Driver(finder, bench)
    sent = []
    for until in (2.5, 9.0, 29.0, 59.0, 100.0, 200.0):
        asyncio.run(driver.run(until=lambda: False, longest_until=until))
        sent.append(bench.counts().sent)
    assert sent[-1] == sent[-2] <= 5 * len(ASKS)
    assert all(later - earlier <= len(ASKS) for earlier, later in pairwise(sent))
    bench.power(False)
    bench.power(True)
    asyncio.run(driver.run(until=lambda: False, longest_until=210.0))
    assert bench.counts().sent > sent[-1]


def test_enter_climbs_the_ladder_one_rung_at_a_time_and_says_what_comes_next(practice):
    """Nothing is known about UV-01's address here: listen, greet, call, and at last the sweep, each announced."""
    bench, run = practice("UV-01")
    session = run.session
    session.cable.search = Search(session.cable.finder)
    said = []
    for rung in (loudness.Loudness.LISTEN, loudness.Loudness.GREET, loudness.Loudness.CALL, loudness.Loudness.SWEEP):
        if rung is not loudness.Loudness.SWEEP:
            pass_time(bench, run, span=60.0, until=lambda: next_line(session, bench.now()).enter)
        pass_time(bench, run, span=0.5 if rung is loudness.Loudness.SWEEP else 12.0)
        assert session.cable.finder.loudness is rung
        said.append(next_line(session, bench.now()).sentence)
        session.enter(bench.now())
    assert "Power-cycle the device" in said[0]
    assert "Send discovery requests" in said[0]
    assert "Try common addresses (ARP)" in said[1]
    assert "Sweep all private ranges" in said[2]
    assert said[3].startswith("Sweeping: at ")
    session.cable.search.pause(bench.now())
    assert "paused" in next_line(session, bench.now()).sentence
    session.cable.finder.listen()
    assert session.cable.finder.asking == ()


def test_a_power_cut_while_finding_is_said_and_what_comes_after_counts(practice):
    bench, run = practice("TG-01")
    session = run.session
    pass_time(
        bench,
        run,
        until=lambda: session.cable.search.candidate is not None and session.cable.search.candidate.is_found,
    )
    bench.power(False)
    pass_time(bench, run, span=3.0)
    assert "Put its power or the cable back" in next_line(session, bench.now()).hands
    bench.power(True)
    pass_time(bench, run, span=2.0)
    assert not session.cable.search.candidate.is_found
    pass_time(bench, run, span=6.0)
    assert session.cable.search.candidate.is_found
    assert session.cable.search.candidate.tells(clues.ClueKind.LOOKS_FOR)


def test_where_devices_of_this_maker_were_found_before_is_asked_first():
    found = [("Tarnlight", IPv4Address("10.1.1.1")), ("Brackwater Instruments", IPv4Address("10.2.2.2"))]
    search = Search(
        meet(scenario.stand_in("OX-01")), delivered=IPv4Address("172.29.4.100"), found_before=[*found, found[0]],
        maker=scenario.maker,
    )  # fmt: skip
    assert [str(each) for each in search.known_addresses()] == ["172.29.4.100", "10.2.2.2", "10.1.1.1"]


def test_settings_that_are_not_saved_are_gone_after_the_power_cut_and_that_is_found_out(practice):
    """SW-01: running configuration only; the power-cycle proof fails, and Enter goes back to Set."""
    bench, run = practice("SW-01")
    session = run.session

    def until(*phases):
        pass_time(bench, run, span=200.0, until=lambda: session.phase in phases)
        assert session.phase in phases

    pass_time(
        bench,
        run,
        until=lambda: session.cable.search.candidate is not None and session.cable.search.candidate.is_found,
    )
    session.enter(bench.now())
    until(Phase.MAY_BORROW)
    session.enter(bench.now())
    until(Phase.MAY_SET)
    session.stages.setting.choose_way("hand", bench.now())
    until(Phase.SETTING)
    assert "not saved yet" in bench.type_in(session.device.target)
    until(Phase.POWER_CYCLE)
    bench.power(False)
    pass_time(bench, run, span=3.0)
    bench.power(True)
    until(Phase.FORGOTTEN)
    assert "the change was not saved" in next_line(session, bench.now()).sentence
    session.enter(bench.now())
    assert session.phase.step is Step.SET


def test_pages_and_keypads_refuse_what_real_ones_refuse():
    bench = Bench(scenario.LAPTOP_MAC, laptop=scenario.LAPTOP)
    cases = (
        ("DR-01", 1.0, "no power or is still starting"),
        ("DR-01", 130.0, "page does not open"),
        ("WX-01", 5.0, "neither page nor keypad"),
        ("BL-01", 5.0, "answer its DHCP request first"),
    )
    for tag, wait, why in cases:
        bench.plug(scenario.stand_in(tag))
        finder = Finder([bench.mac], now=bench.now())
        asyncio.run(Driver(finder, bench).run(until=lambda: False, longest_until=bench.now() + wait))
        with pytest.raises(errors.Refused, match=why):
            bench.type_in(read_target("10.84.16.40/22 via 10.84.19.254"))
    bench.plug()
    with pytest.raises(errors.Refused, match="Nothing is plugged in"):
        bench.type_in(read_target("10.84.16.40/22"))


def test_virtual_time_never_goes_back():
    """A deadline that has passed long ago is due now, at the clock's pace too."""
    bench = Bench(scenario.LAPTOP_MAC, pace=200.0)
    bench.plug(scenario.stand_in("TG-01"))

    async def pass_some():
        last = 0.0
        for deadline in (5.0, 0.0, 1.0, 9.0):
            await bench.wait(deadline)
            assert bench.now() >= last
            last = bench.now()

    asyncio.run(pass_some())
