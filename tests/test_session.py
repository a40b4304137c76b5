"""One device's way through the job on the bench, in virtual time: the order of things, slips and refusals."""

from contextlib import suppress
from dataclasses import replace
from ipaddress import IPv4Address, IPv4Interface
from itertools import pairwise

import pytest

from askport.bench import scenario, stand_in
from askport.bench.field_devices import FlowComputer
from askport.bench.practice import mistyped
from askport.core import channels, errors, wire
from askport.core.addresses import MacAddress
from askport.core.crate.after_first import Crate, PowerCuts
from askport.core.crate.switch_crate import SwitchCrate, Turn
from askport.core.formats import arp, packet
from askport.core.formats.tcp import Tcp, TcpFlag
from askport.core.plan import planned_device, sentence, working_order
from askport.core.plan.target import Target
from askport.core.proofs.power_cycle import Power
from askport.core.proofs.proof import Proving, Subject
from askport.core.proofs.reachable import PortOpens
from askport.core.register.entries import Borrowed, DevicePlanned, Found, GaveBack, Recorded, WasSet
from askport.core.visit import errand, narrate
from askport.core.visit.steps import Phase, Step
from askport.core.ways.start import Start
from askport.core.ways.way import Result
from askport.edges.switch_run import SwitchRun
from conftest import pass_time


def walk(bench, run, until, hands=True, span=200.0):
    """Press Enter whenever it does something, and do at the device what is asked for, up to a phase."""
    session, end = run.session, bench.now() + span
    while session.phase not in until:
        assert bench.now() < end, f"stuck in {session.phase}: {narrate.next_line(session, bench.now()).sentence}"
        if session.phase is Phase.SETTING and hands and session.device.way_name == "hand":
            with_hands(bench, session)
        elif session.phase is Phase.POWER_CYCLE and session.device.power_cycle.power in (Power.ON, Power.OFF):
            bench.power(session.device.power_cycle.power is Power.OFF)
        elif narrate.next_line(session, bench.now()).enter:
            session.enter(bench.now())
        pass_time(bench, run, 4.0, until=lambda: session.phase in until)
    return session


def with_hands(bench, session):
    with suppress(errors.Refused):
        bench.type_in(session.device.target)


def journal(run, kind):
    return [line.entry for line in run.job.lines if isinstance(line.entry, kind)]


@pytest.mark.by_day(0, 3, 4, 7, 8, 11)
@pytest.mark.parametrize(
    ("tag", "found", "way"),
    [("TG-01", "192.168.61.7", "page"), ("BL-01", None, "dhcp"), ("UV-01", "10.212.7.33", "hand"),
     ("AH-01", "192.168.92.10", "bacnet"), ("LL-01", "2.0.0.56", "artnet"), ("BG-01", "192.168.93.20", "hand")],
)  # fmt: skip
@pytest.mark.parametrize("on_adapter", [False, True])
def test_a_device_goes_the_whole_way(practice, tag, found, way, on_adapter):
    """Beside the adapter an address is always borrowed; on it, where the laptop's own does not reach."""
    bench, run = practice(tag, on_adapter=on_adapter)
    borrows = not (on_adapter and tag == "BL-01")
    keeps_itself = tag != "BL-01"
    walk(bench, run, {Phase.POWER_CYCLE})
    if not keeps_itself:
        bench.type_in(run.session.device.target)
    session = walk(bench, run, {Phase.RECORDED})
    session.cable.laptop.own = ()  # a laptop without any address of its own is done all the same
    assert (session.visit.verdict().waits, session.visit.verdict().sentence[:8]) == (True, "recorded")
    pass_time(bench, run, 1.0)
    row = run.job.register.rows()[0]
    assert (row.tag, row.state, row.last.way) == (tag, "proven", way)
    bench.plug()
    pass_time(bench, run, 1.0)
    assert narrate.next_line(session, bench.now()).enter, "the cable may be in the next one already"
    assert row.first.found_address == (IPv4Address(found) if found else None)
    assert [each.sentence for each in row.identities] == {
        "AH-01": ["BACnet: vendor 4094, instance 4711"], "LL-01": ["Art-Net"],
        "BG-01": ["KNXnet/IP: vendor 4094, serial 1577079657, at 1.1.1 on its bus", "Modbus/TCP: Vesper Controls BG-1"],
    }.get(tag, [])  # fmt: skip
    assert row.last.as_left.words() == str(session.device.target.interface)
    assert bool(journal(run, Borrowed)) is borrows is bool(journal(run, GaveBack))
    assert {each.beside for each in journal(run, Borrowed)} <= {not on_adapter}
    assert [str(each) for each in bench.interfaces] == ["10.84.16.9/22"]
    assert isinstance(journal(run, Recorded)[0], Recorded)


@pytest.mark.long
def test_an_agent_is_asked_with_its_community_and_what_it_was_not_told_stands_as_that(practice):
    bench, run = practice("UP-01")
    session = walk(bench, run, {Phase.MAY_SET})
    assert "asks for a community: press u" in narrate.next_line(session, bench.now()).sentence
    session.stages.setting.log_in("", "another", bench.now())
    pass_time(bench, run, 8.0)
    assert "does not take this community" in session.device.not_read
    session.stages.setting.log_in("", "hatchery", bench.now())
    pass_time(bench, run, 3.0)
    assert str(session.device.says.gateway) == "None"
    assert session.stages.setting.untold(bench.now()) == ["mask", "DNS"]
    walk(bench, run, {Phase.RECORDED})
    (row,) = run.job.register.rows()
    assert (row.state, row.last.way, row.last.as_left.gateway.basis) == ("proven", "snmp", "measured")
    assert row.last.as_left.dns.basis is None


def test_what_a_device_forgets_at_a_power_cut_is_found_out_at_once(practice):
    """An address handed out and not kept fails the power cycle; the way goes back to setting, and then succeeds."""
    bench, run = practice("BL-01")
    session = walk(bench, run, {Phase.MAY_KEEP})
    session.stages.leave_out(bench.now())
    walk(bench, run, {Phase.FORGOTTEN})
    assert "asked for an address by BOOTP after the power cycle" in narrate.next_line(session, bench.now()).sentence
    walk(bench, run, {Phase.POWER_CYCLE})
    bench.type_in(session.device.target)
    walk(bench, run, {Phase.RECORDED})
    assert run.job.register.rows()[0].state == "proven"
    assert len(journal(run, WasSet)) == 2


def test_a_mistyped_address_is_followed_and_corrected(practice):
    """The device moves out of reach by a slip of the fingers: it is said, reached there, and corrected."""
    bench, run = practice("TG-01", kinds=False)
    session = walk(bench, run, {Phase.SETTING}, hands=False)
    wrong = mistyped(session.device.target)
    bench.type_in(wrong)
    pass_time(bench, run, 20.0, until=lambda: session.phase is Phase.MAY_BORROW)
    assert session.device.landed_at == wrong.interface.ip
    said = narrate.next_line(session, bench.now()).sentence
    assert "swapped" in said
    assert "to reach it there and correct it" in said
    walk(bench, run, {Phase.RECORDED})
    assert run.job.register.rows()[0].state == "proven"
    assert run.job.register.rows()[0].first.found_address == IPv4Address("192.168.61.7")


def test_the_power_cycle_may_be_left_out_and_the_register_says_so(practice):
    bench, run = practice("TG-01")
    session = walk(bench, run, {Phase.POWER_CYCLE})
    session.stages.leave_out(bench.now())
    walk(bench, run, {Phase.RECORDED})
    pass_time(bench, run, 0.1)
    assert (run.job.register.rows()[0].state, run.job.register.rows()[0].last.left_out) == (
        "unproven",
        ("power-cycle",),
    )


@pytest.mark.parametrize(
    ("plan", "said"),
    [
        ("10.84.18.7/22 via 10.84.19.254", "DHCP pool"),
        ("10.84.61.40/22 via 10.84.19.254", "10.84.16.40 meant"),
        ("10.84.16.9/22", "in use"),  # the laptop's own
    ],
)
def test_a_plan_that_does_not_fit_is_not_set(practice, plan, said):
    bench, run = practice("TG-01")
    session = walk(bench, run, {Phase.MAY_BORROW})
    session.stages.setting.plan(sentence.read_target(plan), bench.now())
    session = walk(bench, run, {Phase.MAY_SET})
    pass_time(bench, run, 3.0)
    assert not session.visit.may_set
    session.enter(bench.now())
    assert session.phase is Phase.MAY_SET
    assert said in narrate.next_line(session, bench.now()).sentence


@pytest.mark.parametrize("tag", ["TG-01", "UV-01"])
def test_a_refusing_machine_loses_nothing(practice, monkeypatch, tag):
    """The kernel would not: it is said in the sentence, and Press Enter to try again."""
    bench, run = practice(tag)
    session = walk(bench, run, {Phase.MAY_BORROW})
    offer = session.visit.free_address

    async def refuse(*_, **__):
        raise errors.MachineRefused("The kernel would not.")

    with monkeypatch.context() as refusing:
        refusing.setattr(run.driver._adapter_and_job, "borrow", refuse)
        session.enter(bench.now())
        pass_time(bench, run, 1.0)
    assert narrate.next_line(session, bench.now()).said == "The kernel would not."
    assert (session.phase, session.visit.free_address) == (Phase.MAY_BORROW, offer)
    walk(bench, run, {Phase.RECORDED})


@pytest.mark.by_day(0, 3, 6)
@pytest.mark.parametrize(
    ("reached", "step", "then"),
    [
        (Phase.SETTING, Step.FIND, Phase.FINDING),
        (Phase.SETTING, Step.REACH, Phase.PREPARING),
        (Phase.MAY_BORROW, Step.PROVE, Phase.MAY_BORROW),  # nothing is proven before it was set
        (Phase.POWER_CYCLE, Step.PROVE, Phase.PROVING),
        (Phase.POWER_CYCLE, Step.SET, Phase.PREPARING),
        (Phase.MAY_RECORD, Step.PLUG, Phase.FINDING),
        (Phase.RECORDED, Step.SET, Phase.RECORDED),  # what is recorded stays
    ],
)
def test_a_step_can_be_done_again(practice, reached, step, then):
    bench, run = practice("TG-01")
    session = walk(bench, run, {reached}, hands=reached is not Phase.SETTING)
    session.stages.go_back(step, bench.now())
    assert session.phase is then
    walk(bench, run, {Phase.RECORDED})
    pass_time(bench, run, 0.1)
    assert run.job.register.rows()[-1].state == "proven"
    assert run.job.register.rows()[0].first.found_address == IPv4Address("192.168.61.7")
    assert session.device.way is None or session.device.way.result is Result.TAKEN  # None where it was there already


def test_what_is_not_certain_cannot_be_chosen_and_a_tag_is_a_tag(practice):
    bench, run = practice("UV-01")
    with pytest.raises(errors.BadInput, match="has no confirmed address yet"):
        run.session.stages.find.choose(MacAddress(b"\2\0\0\0\0\7"), bench.now())
    for wrong in ("", "x" * 41, "TG\x1b01"):
        with pytest.raises(errors.BadInput, match="1 to 40 printable characters"):
            run.session.stages.name(wrong, bench.now())
    walk(bench, run, {Phase.MAY_BORROW})
    run.session.stages.name("  UV-01   west ", bench.now())
    walk(bench, run, {Phase.RECORDED})
    pass_time(bench, run, 0.1)
    assert [row.tag for row in run.job.register.rows()] == ["UV-01 west"]


def rows(run, *, mac_in=None):
    """Give a round three planned rows, one of which may have the MAC address of the device on the cable."""
    mac = scenario.stand_in("TG-01").mac
    run.work = [
        working_order.WorkItem(
            tag=tag, target=Target(interface=IPv4Interface(f"10.84.16.{host}/22")), mac=mac if tag == mac_in else None,
            planned=planned_device.PlannedDevice(tag=tag, address=IPv4Address(f"10.84.16.{host}"), prefix=22,
                                  mac=mac if tag == mac_in else None),
        )
        for tag, host in (("AA-01", 61), ("BB-02", 62), ("CC-03", 63))
    ]  # fmt: skip
    run.job.append_all([DevicePlanned(device=each.planned) for each in run.work], run.wire.wall(0.0))
    run.begin()


@pytest.mark.parametrize(
    ("mac_in", "chosen", "known_as", "may_be"),
    [
        (None, None, None, ["AA-01"]), ("BB-02", None, None, ["BB-02"]), ("BB-02", "CC-03", None, ["BB-02", "CC-03"]),
        (None, None, "OLD-7", ["OLD-7"]), (None, "CC-03", "OLD-7", ["CC-03", "OLD-7"]),
        ("BB-02", None, "OLD-7", ["BB-02", "OLD-7"]), ("BB-02", "CC-03", "OLD-7", ["BB-02", "CC-03", "OLD-7"]),
        ("BB-02", "BB-02", None, ["BB-02"]),
    ],
)  # fmt: skip
def test_one_key_decides_which_row_it_is_where_plan_choice_and_register_differ(
    practice, mac_in, chosen, known_as, may_be
):
    bench, run = practice("TG-01")
    mac = scenario.stand_in("TG-01").mac
    if known_as:
        found = Found(unit=90, tag=known_as, mac=mac, maker=None, address=None, belief="certain", because=())
        run.job.append(found, run.wire.wall(0.0))
    rows(run, mac_in=mac_in)
    if chosen:
        run.take(next(each for each in run.work if each.tag == chosen))
    pass_time(bench, run, until=lambda: bool((c := run.session.cable.search.candidate) and c.is_found))
    session, said = run.session, narrate.next_line(run.session, bench.now())
    assert (said.enter, len(session.stages.find.undecided)) == ((True, 0) if len(may_be) == 1 else (False, len(may_be)))
    if len(may_be) > 1:
        assert all(each in said.sentence for each in may_be), said.sentence
        session.enter(bench.now())
        assert session.phase is Phase.FINDING, "nothing goes on before it is decided"
        session.stages.find.decide(len(may_be) - 1, bench.now())
    else:
        session.enter(bench.now())
    assert session.device.work.tag == may_be[-1]
    host = {"AA-01": 61, "BB-02": 62, "CC-03": 63}.get(may_be[-1])
    target = session.device.target
    assert target is None if host is None else target.interface.ip == IPv4Address(f"10.84.16.{host}")
    pass_time(bench, run, 0.1)
    if mac_in and len(may_be) > 1 and may_be[-1] == "CC-03":
        assert {each.tag: each.mac for each in run.job.register.plan().devices} == {
            "AA-01": None, "BB-02": None, "CC-03": mac,
        }  # fmt: skip


def test_a_row_with_another_mac_or_a_label_of_another_is_asked_about_and_not_hidden(practice):
    bench, run = practice("TG-01")
    rows(run)
    run.session.cable.search.label("02:00:00:00:00:77")
    pass_time(bench, run, until=lambda: bool((c := run.session.cable.search.candidate) and c.is_found))
    said = narrate.next_line(run.session, bench.now())
    assert (said.enter, "its label says 02:00:00:00:00:77" in said.sentence) == (False, True), said


@pytest.mark.parametrize("phase", [Phase.MAY_BORROW, Phase.MAY_SET, Phase.POWER_CYCLE])
def test_the_tag_of_another_row_brings_its_values_and_taking_the_first_one_back_too(practice, phase):
    bench, run = practice("TG-01")
    rows(run)
    session = walk(bench, run, {phase})
    session.stages.name("bb-02", bench.now())
    walk(bench, run, {Phase.POWER_CYCLE})
    assert session.device.work.tag == "BB-02"
    assert bench.device.host.interface.ip == IPv4Address("10.84.16.62")
    run.take(run.work[0])
    walk(bench, run, {Phase.RECORDED})
    pass_time(bench, run, 0.1)
    (row,) = run.job.register.rows()
    assert (row.tag, row.state, row.last.as_left.address.value) == ("AA-01", "proven", IPv4Address("10.84.16.61"))
    bench.plug()
    run.next_device()
    assert run.item.tag == "BB-02"


def test_a_name_that_is_not_planned_renames_the_row_and_keeps_its_values(practice):
    bench, run = practice("TG-01")
    rows(run)
    session = walk(bench, run, {Phase.MAY_SET})
    session.stages.name("ZZ-09", bench.now())
    walk(bench, run, {Phase.RECORDED})
    pass_time(bench, run, 0.1)
    assert [each.tag for each in run.job.register.plan().devices] == ["BB-02", "CC-03", "ZZ-09"]
    run.next_device()
    assert run.item.tag == "BB-02"


def test_values_that_were_given_to_a_device_in_no_plan_are_there_after_a_restart(practice):
    bench, run = practice("TG-01")
    run.work = []
    run.begin()
    session = walk(bench, run, {Phase.MAY_SET})
    assert session.device.work.planned is None
    session.stages.setting.plan(sentence.read_target("10.84.16.77/22 via 10.84.19.254"), bench.now())
    pass_time(bench, run, 0.1)
    run.work, plan = [], run.job.register.plan()
    run.see_plan()
    run.begin()
    assert (run.item.target.interface, run.item.mac) == (
        IPv4Interface("10.84.16.77/22"),
        scenario.stand_in("TG-01").mac,
    )
    assert [each.tag for each in plan.devices] == [run.item.tag] == [session.device.work.tag]


def test_the_next_unit_of_a_crate_has_the_same_default_and_the_next_plan(practice):
    """As found is the same for every unit; nothing of the one before leaks into the next one's way."""
    bench, run = practice("TG-01")
    walk(bench, run, {Phase.RECORDED})
    pass_time(bench, run, 0.1)
    bench.plug()
    run.next_device()
    assert run.session.device.target.interface == IPv4Interface("10.84.16.41/22")
    assert run.session.device.work.tag == "TG-02"
    assert run.session.cable.finder.devices() == []
    found = journal(run, Found)
    assert len(found) == 1


def test_a_twin_is_gone_on_with_only_by_its_label_and_reached_alone(practice):
    """Four units with one address on a switch: the label picks one, its page is the pinned one's, the others stay."""
    bench, run = practice("OX-01")
    bench.plug(*scenario.twins(), switch=True)
    session = run.session
    pass_time(bench, run, span=8.0)
    assert "6 devices share 172.29.4.100" in narrate.next_line(session, bench.now()).sentence
    session.enter(bench.now())
    assert session.phase is Phase.FINDING
    with pytest.raises(errors.BadInput, match="digit 12 is"):
        session.cable.search.label("5349")
    session.cable.search.label("00-00-5E-00-53-43")
    session.enter(bench.now())
    pass_time(bench, run, until=lambda: session.phase is Phase.MAY_BORROW)
    session.enter(bench.now())
    pass_time(bench, run, until=lambda: session.phase is Phase.SETTING)
    assert str(bench.device.mac) == "00:00:5e:00:53:43"
    bench.type_in(session.device.target)
    pass_time(bench, run, until=lambda: session.phase is Phase.POWER_CYCLE)
    assert all(proof.passed or proof.not_made for proof in session.device.proofs), [
        each.because for each in session.device.proofs
    ]
    stayed = [each for each in bench.devices if each.mac != bench.device.mac]
    assert {str(each.host.interface) for each in stayed} == {"172.29.4.100/24"}


@pytest.mark.parametrize(
    ("changed", "fails", "said", "left"),
    [
        ({"gateway": IPv4Address("10.84.19.1")}, "gateway", "Its gateway is 10.84.19.1, planned 10.84.19.254",
         ("10.84.19.1", 22)),
        ({"interface": IPv4Interface("10.84.16.40/24"), "gateway": None}, "mask",
         "Its mask is /24, planned /22: it will not find 10.84.19.254", (None, 24)),
    ],
)  # fmt: skip
def test_as_left_is_what_was_measured_and_not_what_was_planned(practice, changed, fails, said, left):
    """Something else than planned was typed in: that proof fails, and the register has what the device really has."""
    bench, run = practice("TG-01", kinds=False)
    session = walk(bench, run, {Phase.SETTING}, hands=False)
    bench.type_in(replace(session.device.target, **changed))
    walk(bench, run, {Phase.NOT_PROVEN}, hands=False)
    failed = [proof for proof in session.device.proofs if proof.passed is False]
    # A gateway that lies outside its mask cannot be reached, and fails with it.
    wanted = ["gateway"] if fails == "gateway" else ["mask", "gateway"]
    assert [proof.name for proof in failed if proof.name in ("mask", "gateway")] == wanted
    assert said in failed[0].because
    as_left = run.job.register.rows()[0].last.as_left
    gateway, prefix = left
    assert (as_left.prefix.value, str(as_left.prefix.basis)) == (prefix, "measured")
    if fails == "gateway":
        assert (as_left.gateway.value and str(as_left.gateway.value), str(as_left.gateway.basis)) == (
            gateway,
            "measured",
        )
    assert str(as_left.dns.basis) == "told"
    assert run.job.register.rows()[0].state != "proven"


def test_a_finished_device_that_comes_again_loses_nothing_and_is_recognised(practice):
    """TG-01 is proven; its unit is put on the cable while TG-02 is next: it is said, and is a visit of its own row."""
    bench, run = practice("TG-01")
    walk(bench, run, {Phase.RECORDED})
    pass_time(bench, run, 0.1)
    before = run.job.register.rows()[0]
    unit = bench.device
    bench.plug()
    run.next_device()
    assert run.session.device.work.tag == "TG-02"
    bench.plug(unit)
    session = run.session
    pass_time(
        bench,
        run,
        until=lambda: session.cable.search.candidate is not None and session.cable.search.candidate.is_found,
    )
    assert "This is TG-01, proven today" in narrate.next_line(session, bench.now()).sentence
    session.enter(bench.now())
    pass_time(bench, run, 3.0)
    (row,) = run.job.register.rows()
    assert (session.device.work.tag, row.tag, row.state, len(row.visits)) == ("TG-01", "TG-01", "proven", 2)
    assert row.last == before.last
    assert row.first.found_address == IPv4Address("192.168.61.7")
    walk(bench, run, {Phase.RECORDED})
    run.next_device()
    assert run.session.device.work.tag == "TG-02", "whoever was next is still next"


def test_another_twin_is_pinned_when_the_choice_changes(practice):
    bench, run = practice("OX-01")
    bench.plug(*scenario.twins(), switch=True)
    session = run.session
    pass_time(bench, run, span=8.0)
    for label in ("00-00-5E-00-53-43", "00-00-5E-00-53-41"):
        session.cable.search.label(label)
        session.enter(bench.now())
        pass_time(bench, run, until=lambda: session.phase in (Phase.MAY_BORROW, Phase.SETTING))
        if session.phase is Phase.MAY_BORROW:
            session.enter(bench.now())
            pass_time(bench, run, until=lambda: session.phase is Phase.SETTING)
        assert str(bench.device.mac) == str(session.device.chosen.mac) == label.replace("-", ":").lower()
        session.stages.go_back(Step.FIND, bench.now())


def test_a_device_that_is_gone_from_its_address_is_not_set(practice):
    """Between finding and setting somebody pulled its cable: whoever is there instead is not given its settings."""
    bench, run = practice("TG-01")
    session = walk(bench, run, {Phase.MAY_BORROW})
    bench.device.host.take(None, None)
    session.enter(bench.now())
    pass_time(bench, run, until=lambda: session.visit.trouble is not None)
    assert session.phase is Phase.FINDING
    assert "does not answer at 192.168.61.7" in narrate.next_line(session, bench.now()).sentence


def test_a_proof_that_was_left_out_and_then_made_is_not_left_out(practice):
    bench, run = practice("TG-01")
    session = walk(bench, run, {Phase.POWER_CYCLE})
    session.stages.leave_out(bench.now())
    session.stages.go_back(Step.PROVE, bench.now())
    walk(bench, run, {Phase.RECORDED})
    pass_time(bench, run, 0.1)
    assert (run.job.register.rows()[0].last.left_out, run.job.register.rows()[0].state) == ((), "proven")


def test_what_one_device_answers_is_not_expected_of_the_next_one_chosen(practice):
    bench, run = practice("TG-01")
    session = walk(bench, run, {Phase.SETTING}, hands=False)
    assert any(each.passed for each in session.device.ports_tried)
    session.stages.go_back(Step.FIND, bench.now())
    assert (session.device.ports_tried, session.device.left_out, session.device.power_cycle) == ([], [], None)


def test_a_device_that_fell_back_to_link_local_has_both_doors(practice):
    """It asks by DHCP and has 169.254.83.12 meanwhile: it can be answered, or its page opened there."""
    bench, run = practice("FD-01", kinds=False)
    session = run.session
    pass_time(bench, run, 40.0)
    assert session.cable.search.candidate.best.address == IPv4Address("169.254.83.12")
    session.enter(bench.now())
    pass_time(bench, run, until=lambda: session.phase is Phase.MAY_SET)
    assert session.visit.way_names == ["dhcp", "hand"]
    assert "at 169.254.83.12 which it fell back to" in session.visit.ways()[1].reason
    session.stages.setting.choose_way("hand", bench.now())
    pass_time(bench, run, until=lambda: session.phase is Phase.MAY_BORROW)
    assert str(session.visit.free_address).startswith("169.254.83.")
    session.enter(bench.now())
    pass_time(bench, run, until=lambda: session.phase is Phase.SETTING)
    assert "Saved" in bench.type_in(session.device.target)
    assert run.job.register.rows()[0].first.found_address == IPv4Address("169.254.83.12")


@pytest.mark.parametrize(
    ("plan", "said"),
    [
        ("10.84.19.254/22", "is the site's gateway"),
        ("10.84.19.253/22 via 10.84.19.254", "is the site's DNS server"),
        ("10.84.16.21/22 via 10.84.19.254", "10.84.16.21 is planned for BL-01"),
        ("10.84.16.40/22 via 10.84.19.254 dns 0.0.0.0", "0.0.0.0 cannot be a DNS server"),
        ("10.84.16.40/22 via 10.84.19.254 dns 224.0.0.1", "224.0.0.1 cannot be a DNS server"),
        ("10.84.16.40/22 via 10.84.19.254 dns 10.84.16.40", "10.84.16.40 is the DNS server"),
    ],
)
def test_addresses_of_others_are_nobodys_target(practice, plan, said):
    _, run = practice("TG-01")
    session = run.session
    session.cable.around = replace(
        session.cable.around,
        rows=[working_order.WorkItem(tag="BL-01", target=Target(interface=IPv4Interface("10.84.16.21/22")))],
    )
    session.device.target = sentence.read_target(plan)
    assert said in " ".join(check.sentence for check in session.visit.checks() if not check.passed)


def test_what_another_device_was_left_with_counts_by_its_mac_and_not_by_its_tag(practice):
    """Two devices that bear one tag are two devices; the one at hand may keep what is its own."""
    bench, run = practice("TG-01")
    session = run.session
    mac, other = scenario.stand_in("TG-01").mac, scenario.stand_in("BL-01").mac
    pass_time(
        bench,
        run,
        until=lambda: session.cable.search.candidate is not None and session.cable.search.candidate.is_found,
    )
    session.enter(bench.now())
    for holder, passed in ((mac, True), (other, False)):
        session.cable.around = replace(session.cable.around, used={session.device.target.interface.ip: holder})
        assert next(each for each in session.visit.checks() if each.about == "register").passed is passed


def test_the_laptop_borrows_nothing_out_of_the_pool(practice):
    bench, run = practice("TG-01")
    session = run.session
    session.device.target = sentence.read_target("10.84.18.254/22")
    assert all(
        each.ip not in scenario.SITE.pools[0]
        for each in session.stages.access.site_candidates(session.device.target.interface)
    )
    walk(bench, run, {Phase.MAY_BORROW})
    here = replace(scenario.SITE.pools[0], first=IPv4Address("192.168.61.1"), last=IPv4Address("192.168.61.253"))
    session.cable.around = replace(session.cable.around, sites=(replace(scenario.SITE, pools=(here,)),))
    with pytest.raises(errors.BadInput, match="lies in the site's DHCP pool"):
        session.stages.access.name_other("192.168.61.77/24", bench.now())


def test_the_laptop_borrows_nothing_that_is_planned_or_was_left(practice):
    """Of the nearest free ones, .8 is planned for another device, .9 was left with one, and .6 is this one's to be."""
    bench, run = practice("TG-01")
    session, nearest = run.session, [IPv4Address(f"192.168.61.{host}") for host in (8, 9)]
    others = {
        "rows": [working_order.WorkItem(tag="BL-01", target=Target(interface=IPv4Interface((nearest[0], 22))))],
        "used": {nearest[1]: scenario.stand_in("BL-01").mac},
    }
    session.cable.around = replace(session.cable.around, **others)
    session.device.target = sentence.read_target("192.168.61.6/24")
    walk(bench, run, {Phase.MAY_BORROW})
    assert str(session.visit.free_address) == "192.168.61.5/24"


@pytest.mark.parametrize("plan", ["10.84.16.99/22", "10.9.8.7/24"])
def test_a_plan_that_changes_while_an_address_is_borrowed_is_asked_about_anew(practice, plan):
    """Nothing is set to an address of which nobody was asked whether it is free, or that the laptop does not reach."""
    bench, run = practice("FD-01")
    bench.interfaces.clear()
    session = run.session
    session.cable.laptop.own = ()
    walk(bench, run, {Phase.MAY_SET})
    session.enter(bench.now())
    assert session.phase is Phase.BORROWING_TO_SET
    session.stages.setting.plan(sentence.read_target(plan), bench.now())
    assert session.phase is Phase.PREPARING
    session.borrow_done(IPv4Interface("10.84.19.238/22"), bench.now())
    assert session.phase is Phase.PREPARING


def test_an_offer_that_has_grown_old_is_asked_for_again(practice):
    bench, run = practice("TG-01")
    session = walk(bench, run, {Phase.MAY_BORROW})
    offer = session.visit.free_address
    pass_time(bench, run, 120.0)
    bench.devices = (*bench.devices, intruder := scenario.stand_in("OX-01"))
    intruder.up = True
    intruder.host.take(offer, None)
    session.enter(bench.now())
    pass_time(bench, run, until=lambda: session.visit.trouble is not None)
    assert f"{offer.ip} has been taken by {intruder.mac} meanwhile" in narrate.next_line(session, bench.now()).sentence
    pass_time(bench, run, until=lambda: session.phase is Phase.MAY_BORROW)
    assert session.visit.free_address not in (None, offer)
    assert offer not in bench.interfaces


def test_an_offer_that_is_taken_before_the_proofs_is_followed_by_another(practice):
    bench, run = practice("UV-01")
    session = walk(bench, run, {Phase.SETTING})
    offer = session.visit.free_address
    session.visit.free_since = float("-inf")
    bench.devices = (*bench.devices, intruder := scenario.stand_in("OX-01"))
    intruder.up = True
    intruder.host.take(offer, None)
    walk(bench, run, {Phase.PROVING, Phase.MAY_PROVE})
    pass_time(bench, run, 10.0, until=lambda: session.phase is Phase.PROVING)
    assert (session.phase, offer in bench.interfaces, len(session.cable.laptop.borrowed)) == (Phase.PROVING, False, 2)


@pytest.mark.parametrize(("mac", "sets"), [("TG-01", True), ("OX-01", False)])
def test_an_errand_goes_to_the_device_that_was_named_and_to_nobody_else(practice, mac, sets):
    """Where another unit is at the address that was given, nothing is told to it."""
    bench, run = practice("TG-01")
    unit, named, visit = bench.device, scenario.stand_in(mac), run.session.visit
    kind = next(each for each in run.kinds if each.name == run.item.description)
    start = Start(
        mac=named.mac, target=run.item.target, laptop_mac=bench.mac, laptop=None, old=IPv4Address("192.168.61.7"),
        now=0.0, xid=lambda: 7, kind=kind,
    )  # fmt: skip
    pass_time(bench, run, until=lambda: unit.up)
    run.session.run_errand(errand.Errand(start=start, ends=Step.SET, way="page"), bench.now())
    until = bench.now() + 60.0
    while bench.now() < until and visit.device.way is None and not visit.trouble:
        run.session.enter(bench.now())
        pass_time(bench, run, 1.0)
    if sets:
        pass_time(bench, run, 60.0, until=lambda: visit.device.way.done)
        assert (visit.device.way.result, visit.phase, visit.device.proofs) == (Result.TAKEN, Phase.MAY_PROVE, [])
    else:
        said = f"{named.mac} does not answer at 192.168.61.7; {unit.mac} does."
        assert visit.trouble.message == said
        assert unit.saved.interface == IPv4Interface("192.168.61.7/24")


def test_without_a_free_laptop_address_it_is_said_and_no_other_way_is_taken(practice):
    bench, run = practice("BL-01")
    session = run.session
    session.cable.laptop.own = ()
    walk(bench, run, {Phase.MAY_SET})
    session.visit.free_address = None
    assert "No free laptop address found in 10.84.16.0/22: press a" in narrate.next_line(session, bench.now()).sentence
    session.enter(bench.now())
    assert (session.phase, session.device.way) == (Phase.MAY_SET, None)
    session.stages.access.name_other("10.84.19.77/22", bench.now())
    session.enter(bench.now())
    pass_time(bench, run, until=lambda: session.phase is Phase.SETTING)
    assert session.device.way.name == "dhcp"


def test_what_runs_a_network_can_be_said_to_be_the_device(practice):
    """A router that is being commissioned: after the sentence the technician says that this is it."""
    bench, run = practice("TG-01")
    bench.plug(*scenario.house(), switch=True)
    session = run.session
    session.cable.search.louder(bench.now())
    pass_time(bench, run, 8.0)
    router = next(each.mac for each in session.cable.finder.devices() if each.servers)
    session.cable.search.point_at(router)
    assert "press d if this is the device" in session.cable.search.obstacle
    session.cable.search.accept()
    assert session.cable.search.obstacle is None
    other = next(each.mac for each in session.cable.finder.devices() if each.mac != router)
    session.cable.search.point_at(other)
    assert "may be any device: compare its label (m), or press d" in session.cable.search.obstacle
    assert not narrate.next_line(session, bench.now()).enter
    session.cable.search.label(str(other))
    assert session.cable.search.obstacle is None, "its label says that it is the one"


def test_who_looks_for_a_former_address_of_the_laptop_was_made_to(practice):
    """The address that was borrowed for the device before is no gateway of the next one."""
    bench, run = practice("TG-01")
    session = walk(bench, run, {Phase.POWER_CYCLE})
    former = session.cable.laptop.borrowed[0].ip
    walk(bench, run, {Phase.RECORDED})
    bench.plug()
    run.next_device()
    device = scenario.stand_in("OX-02")
    for at in range(4):
        question = arp.arp_question(device.mac, former, sender=IPv4Address("172.29.4.100"))
        run.session.receive(wire.hear(wire.Frame(at=bench.now() + at, data=question)))
    assert run.session.cable.finder.device(device.mac).best.gateway is None


def test_a_row_that_is_only_set_is_not_proven(practice):
    bench, run = practice("TG-01")
    walk(bench, run, {Phase.POWER_CYCLE})
    pass_time(bench, run, 0.1)
    assert (run.job.register.rows()[0].state, run.job.register.rows()[0].is_proven) == ("set", False)
    assert all(proof.passed for proof in run.job.register.rows()[0].last.proofs.values())


@pytest.mark.parametrize(
    ("text", "number", "is_last", "cut"),
    [("each", 3, False, True), ("last", 3, False, False), ("last", 3, True, True), ("every 5", 5, False, True),
     ("5", 6, False, False), ("5", 6, True, True), ("0", 1, True, None), ("now and then", 1, True, None)],
)  # fmt: skip
def test_of_which_units_of_a_crate_the_power_is_cut(text, number, is_last, cut):
    if cut is None:
        with pytest.raises(errors.BadInput, match="enter each, last"):
            PowerCuts.parse(text)
    else:
        assert PowerCuts.parse(text).wanted(number, is_last=is_last) is cut


@pytest.mark.parametrize(
    ("text", "said"), [("each", "of each unit"), ("last", "of the last unit only"), ("13", "of one unit in 13, and")]
)
def test_of_which_units_is_said_as_one_says_it(text, said):
    assert PowerCuts.parse(text).words.startswith(said)


def test_a_crate_stops_at_what_is_not_like_its_first_unit(practice):
    """Another kind, and what failed, wait for somebody to look; the same kind goes by itself once it was taken."""
    bench, run = practice("OX-01")
    session = walk(bench, run, {Phase.MAY_RECORD})
    crate = Crate(session, PowerCuts(1))
    assert crate.goes_on(session, bench.now())
    session.device.proofs[0].passed = False
    assert not crate.goes_on(session, bench.now()), "what failed is not recorded by itself"
    bench, run = practice("FD-01", job="other.askport")
    pass_time(bench, run, 12.0)
    said = crate.says(run.session, narrate.next_line(run.session, bench.now()), bench.now())
    assert "This is not like OX-01 (oxygen probe head): its kind is feed hopper controller" in said.sentence, said
    session = walk(bench, run, {Phase.MAY_SET})
    assert not crate.goes_on(session, bench.now())
    bench, run = practice("OX-01", job="third.askport")
    unit = scenario.stand_in("OX-01")
    unit.saved = replace(unit.saved, interface=IPv4Interface("192.168.61.99/24"))
    unit.host.mac = MacAddress.parse("00:00:5e:00:53:4e")
    bench.plug(unit)
    pass_time(bench, run, until=lambda: bool((c := run.session.cable.search.candidate) and c.is_found))
    said = crate.says(run.session, narrate.next_line(run.session, bench.now()), bench.now())
    assert "and this one is at 192.168.61.99" in said.sentence, said


def test_in_a_crate_the_unit_that_is_recorded_and_still_plugged_in_is_not_taken_as_the_next(practice):
    bench, run = practice("TG-01")
    session = walk(bench, run, {Phase.RECORDED})
    crate = Crate(session, PowerCuts(1))
    pass_time(bench, run, 0.1)
    run.next_device()
    bench.power(False)
    bench.power(True)
    pass_time(bench, run, until=lambda: bool((c := run.session.cable.search.candidate) and c.is_found))
    said = crate.says(run.session, narrate.next_line(run.session, bench.now()), bench.now())
    assert (said.enter, said.hands, said.said[:28]) == (False, "Plug in TG-02.", "This is TG-01, proven today.")


def test_a_live_network_is_no_switch_of_ones_own(practice):
    """With the cable in the wrong socket, one that has a tag by its label is left, and nothing is set."""
    bench, run = practice("OX-01")
    bench.plug(*scenario.house(), switch=True)
    pass_time(bench, run, span=6.0)
    crate = SwitchCrate([run.item])
    crate.scan(f"{run.session.cable.finder.devices()[-1].mac} OX-01")
    going = SwitchRun(run, crate)
    for _ in range(300):
        going.step()
        pass_time(bench, run, span=0.1)
    assert going.is_over
    assert crate.units[0].turn is Turn.LEFT
    assert "DHCP server" in crate.units[0].because or "router" in crate.units[0].because
    assert journal(run, WasSet) == []


@pytest.mark.long
def test_units_without_any_address_are_set_by_mac_all_on_one_switch_and_blink_when_asked(practice):
    """Three that speak PROFINET DCP: one shows itself, and all go without a key and without a laptop address there."""
    bench, run = practice("FL-01")
    units = [FlowComputer(MacAddress.parse(f"00:00:5e:00:53:a{number}"), stand_in.Settings()) for number in (1, 2, 3)]
    bench.plug(*units, switch=True)
    pass_time(bench, run, span=7.0)
    run.session.cable.search.louder(bench.now())
    pass_time(bench, run, span=3.0)
    run.session.cable.search.point_at(units[1].mac)
    assert run.session.stages.find.blink()
    pass_time(bench, run, span=0.5)
    assert [each.blinks for each in units] == [0, 1, 0]
    site = run.item.target.interface
    run.work = [replace(run.item, tag=f"FL-1{n}", planned=None,
                        target=Target(interface=IPv4Interface(f"{site.ip + n}/22"))) for n in (1, 2, 3)]  # fmt: skip
    crate = SwitchCrate(run.work)
    for number, unit in enumerate(units, 1):
        crate.scan(f"{unit.mac} FL-1{number}")
    going = SwitchRun(run, crate, cuts_power=False)
    for _ in range(1200):
        going.step()
        pass_time(bench, run, span=0.1)
    assert (going.is_over, crate.sentence) == (True, "3 recorded without their power cycle: FL-11; FL-12; FL-13.")
    assert [each.saved.interface.ip for each in units] == [site.ip + 1, site.ip + 2, site.ip + 3]
    assert journal(run, Borrowed) == [] or all(each.interface.ip in site.network for each in journal(run, Borrowed))


@pytest.mark.parametrize("renamed", [False, True])
def test_what_the_plan_calls_a_station_is_told_before_its_address_and_held_against_its_word(practice, renamed):
    bench, run = practice("FL-01")
    unit = FlowComputer(MacAddress.parse("00:00:5e:00:53:a1"), stand_in.Settings())
    bench.plug(unit)
    session = walk(bench, run, {Phase.MAY_SET})
    assert session.stages.setting.lines(bench.now())[0][0] == "set name flow-1, to be kept"
    session.enter(bench.now())
    pass_time(bench, run, until=lambda: session.device.was_taken)
    assert unit.called == b"flow-1"
    unit.called = b"another" if renamed else unit.called
    walk(bench, run, {Phase.NOT_PROVEN, Phase.POWER_CYCLE})
    said = next(each for each in session.device.proofs if each.name == "read-back")
    assert said.passed is not renamed
    assert ("It says that it is called another, and was told flow-1." in said.because) is renamed


def test_what_is_no_name_of_a_station_is_said_before_anything_is_told(practice):
    bench, run = practice("FL-01")
    bench.plug(FlowComputer(MacAddress.parse("00:00:5e:00:53:a1"), stand_in.Settings()))
    planned = run.item.planned.model_copy(update={"columns": {"Station name": "Feed 3"}})
    run.session.device.work = replace(run.item, planned=planned)
    session = walk(bench, run, {Phase.MAY_SET})
    assert "'Feed 3' is not a name of a station" in session.stages.setting.lines(bench.now())[1]


def six_heads(bench, run):
    """Hang six twins on a switch, each with its tag; return them when they are up, and who is who."""
    heads = scenario.twins()
    bench.plug(*heads, switch=True)
    run.work = [item for item in scenario.WORK if item.tag.startswith("OX")]
    crate = SwitchCrate(run.work)
    for number, head in enumerate(heads, 1):
        crate.scan(f"{head.mac} OX-0{number}")
    pass_time(bench, run, until=lambda: all(head.up for head in heads))
    return heads, crate


@pytest.mark.long
@pytest.mark.by_day(1)
@pytest.mark.parametrize("on_adapter", [True, False])
def test_the_program_itself_takes_at_most_ten_seconds_a_unit_or_for_all_side_by_side(practice, on_adapter):
    """In virtual time, over six heads on a switch: what it takes beside the device's own restart."""
    bench, run = practice("OX-01", on_adapter=on_adapter)
    heads, crate = six_heads(bench, run)
    going, done = SwitchRun(run, crate, cuts_power=False), [bench.now()]
    while not going.is_over and bench.now() < 200.0:
        going.step()
        pass_time(bench, run, span=0.1)
        recorded = sum(each.turn is Turn.RECORDED for each in crate.units)
        done += [bench.now()] * (recorded + 1 - len(done))
    own = heads[0].answers_for_s + heads[0].restart_s
    assert len(done) == 7
    longest = max(after - before for before, after in pairwise(done)) if on_adapter else done[-1] - done[0]
    assert longest - own <= 10.0, done
    measured = [each.last.proofs[name].passed for each in run.job.register.rows() for name in ("mask", "gateway")]
    assert (measured, "not measured" in crate.sentence) == ([True] * 12, False)


@pytest.mark.long
def test_a_unit_is_not_told_an_address_that_another_unit_of_the_crate_holds_now(practice):
    """Planned for the first, held by the fourth, which has not had its turn."""
    bench, run = practice("OX-01")
    heads, crate = six_heads(bench, run)
    heads[3].host.take(IPv4Interface(f"{crate.units[0].item.target.interface.ip}/22"), None)
    before, going = heads[0].host.interface, SwitchRun(run, crate, cuts_power=False)
    while not going.is_over and bench.now() < 200.0:
        going.step()
        pass_time(bench, run, span=0.1)
    assert (crate.units[0].turn, heads[0].host.interface) == (Turn.LEFT, before)
    assert f"{heads[3].mac} answers there: it is in use" in crate.units[0].because
    assert {each.turn for each in crate.units[1:]} == {Turn.RECORDED}


@pytest.mark.long
def test_one_wrong_mask_among_units_side_by_side_is_found_and_no_other(practice):
    """Each is measured from addresses of its own: the neighbour's answers are not taken for its own."""
    bench, run = practice("OX-01")
    heads, crate = six_heads(bench, run)
    going, wrong = SwitchRun(run, crate, cuts_power=False), heads[2]
    while not going.is_over and bench.now() < 200.0:
        going.step()
        at = wrong.host.interface
        if at and at.network.prefixlen == 22:  # its page takes the address, and makes another mask of it
            wrong.host.interface = IPv4Interface(f"{at.ip}/23")
        pass_time(bench, run, span=0.1)
    assert [each.turn for each in crate.units] == [Turn.LEFT if n == 2 else Turn.RECORDED for n in range(6)]
    assert "mask is /23, planned /22" in crate.units[2].because


def test_a_way_that_is_left_for_another_closes_its_connection_and_stays_on_record(practice):
    """EtherNet/IP has told it something when w is pressed: what it took then was not typed in by hand."""
    bench, run = practice("FL-02")
    session = walk(bench, run, {Phase.MAY_SET})
    session.enter(bench.now())
    pass_time(bench, run, until=lambda: session.device.way.has_acted)
    session.stages.setting.choose_way("hand", bench.now())
    assert [each for each in session.visit.effects if isinstance(each, channels.CloseChannel)]
    pass_time(bench, run, 1.0)
    bench.device.host.take(session.device.target.interface, session.device.target.gateway)
    pass_time(bench, run, until=lambda: session.phase is Phase.PROVING)
    left, then = journal(run, WasSet)
    assert (left.way, left.result, "Stopped before the end" in left.because) == ("cip", "sent", True)
    assert (then.way, then.result, then.gives) == ("cip", "taken", False)


def test_what_a_proof_does_as_it_ends_is_done():
    """A port that opened is closed again, also where its proof is the one that ends the course."""
    subject = Subject(mac=MacAddress(b"\2\0\0\0\0\x09"), at=IPv4Interface("10.84.16.21/22"),
                      laptop_mac=MacAddress(b"\2\0\0\0\0\x01"), laptop=IPv4Interface("10.84.19.240/22"))  # fmt: skip
    proving = Proving([PortOpens(subject, 80, now=0.0)])
    proving.handle_timer(0.0)
    (asked,) = (packet.read_packet(each.data).get(Tcp) for each in proving.poll())
    opened = Tcp(src_port=80, dst_port=asked.src_port, seq=1, ack=asked.seq + 1, flags=TcpFlag.SYN | TcpFlag.ACK)
    proving.receive(wire.hear(wire.Frame(at=0.1, data=packet.frame_between(subject.ends.back, opened))))
    assert proving.done
    assert [packet.read_packet(each.data).get(Tcp).flags for each in proving.poll()] == [TcpFlag.RST]


@pytest.mark.long
@pytest.mark.parametrize("places", [0, 2])
def test_a_crate_ends_where_few_places_are_to_be_had_or_none(practice, monkeypatch, places):
    """Those that there are do all; where there is none, it is said why nothing was done."""
    bench, run = practice("OX-01")
    really, given = run.lane, []

    async def refused(view):
        if len(given) == places:
            raise errors.MachineRefused("There is no more place beside the adapter.")
        given.append(view)
        return await really(view)

    monkeypatch.setattr(run, "lane", refused)
    _, crate = six_heads(bench, run)
    going = SwitchRun(run, crate, cuts_power=False)
    while not going.is_over and bench.now() < 900.0:
        going.step()
        pass_time(bench, run, span=0.5)
    assert going.is_over
    assert len(given) == places
    states = {unit.turn for unit in crate.units}
    assert states == ({Turn.RECORDED} if places else {Turn.LEFT})
    assert places or {unit.because for unit in crate.units} == {"There is no more place beside the adapter."}


@pytest.mark.night
def test_one_unit_that_never_comes_back_keeps_nobody_from_being_asked_about_the_others(practice):
    """They show no clock, so somebody has to say that their power was cut: while they are still waited for."""
    bench, run = practice("OX-01")
    heads, crate = six_heads(bench, run)
    going = SwitchRun(run, crate, cuts_power=True)
    while not going.cut and bench.now() < 300.0:
        going.step()
        pass_time(bench, run, span=0.1)
    for head in heads:
        head.host.ports = None  # no port, no clock
    begun, asked = bench.now(), []
    for head in heads:
        head.power(False, bench.now())
    pass_time(bench, run, span=5.0)
    for head in heads[1:]:
        head.power(True, bench.now())
    while bench.now() < begun + 280.0 and not asked:
        going.step()
        pass_time(bench, run, span=1.0)
        asked = going.cut.unsure if going.cut.is_unsure else []
    assert asked == [f"OX-0{number}" for number in range(2, 7)]


def test_a_port_that_goes_down_each_time_a_second_mac_address_is_shown_is_shown_one_only(practice):
    """Once may be a pulled cable; and what goes down later, at the power cycle, counts for nothing."""
    bench, run = practice("TG-01")
    for turn in range(2):
        session = walk(bench, run, {Phase.TRYING_PORTS})
        assert session.cable.laptop.is_beside
        for on in (False, True):
            bench.power(on)
            pass_time(bench, run, 5.0)
        assert session.cable.laptop.is_beside is (turn == 0)
    assert "each time a second MAC address is shown" in session.cable.laptop.why_on_adapter
    walk(bench, run, {Phase.MAY_RECORD})
    assert [each.beside for each in journal(run, Borrowed)][-1] is False
    bench, run = practice("UV-01", job="other.askport")
    session = walk(bench, run, {Phase.MAY_RECORD})
    assert session.cable.laptop.is_beside


def test_two_fast_enters_at_record_lose_nothing_and_offer_another_tag(practice):
    """The second comes before the first was carried out: it waits until the record is written."""
    bench, run = practice("TG-01")
    session = walk(bench, run, {Phase.MAY_RECORD})
    tag = session.device.work.tag
    session.enter(bench.now())
    with suppress(errors.Refused):
        run.next_device()
    pass_time(bench, run, span=1.0)
    if run.session is session:
        run.next_device()
    assert tag in run.job.register.recorded_tags()
    assert run.session.device.work.tag != tag
    assert journal(run, GaveBack)


def test_going_back_leads_to_a_step_that_there_is_something_to_do_at(practice):
    """Where the laptop reaches the device already, Reach would lead straight to Set again, as if the key were dead."""
    bench, run = practice("TG-01")
    session = walk(bench, run, {Phase.MAY_SET}, hands=False)
    assert session.stages.step_before is Step.FIND
    session.stages.go_back(session.stages.step_before, bench.now())
    assert session.phase is Phase.FINDING
    walk(bench, run, {Phase.POWER_CYCLE})
    assert session.stages.step_before is Step.SET
