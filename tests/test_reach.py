"""Reaching: why two ends can or cannot talk, and what about the laptop is in the way, made real where it can be."""

import asyncio
import json
import subprocess
import sys
import time
from dataclasses import replace
from ipaddress import IPv4Address, IPv4Interface
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from askport.core import errors, wire
from askport.core.addresses import MacAddress
from askport.core.formats.arp import Arp, Op, arp_frame
from askport.core.formats.packet import read_packet
from askport.core.reach.can_talk import can_talk, explain
from askport.core.reach.in_the_way import Adapter, AdapterAddress, cable_hazards, with_hazards
from askport.core.reach.laptop import Laptop
from askport.core.reach.whom_it_answers import WhomItAnswers
from askport.core.visit.steps import Phase
from askport.tui.laptop_watch import LaptopWatch
from conftest import askport, pass_time


@pytest.mark.parametrize(
    ("laptop", "device", "prefix", "agree", "sends", "answers"),
    [("10.84.16.9/22", "10.84.19.200", 22, 22, True, True), ("10.84.16.9/24", "10.84.19.200", 22, 22, False, True),
     ("10.84.16.9/22", "10.84.19.200", 24, 22, True, False), ("10.84.16.9/22", "192.168.61.7", 24, 0, False, False),
     ("192.168.61.8/24", "192.168.61.7", None, 28, True, None)],
)  # fmt: skip
def test_each_end_judges_by_its_own_mask(laptop, device, prefix, agree, sends, answers):
    told = explain(IPv4Interface(laptop), IPv4Address(device), prefix, IPv4Address("10.84.19.254"))
    assert (told.agree, told.laptop_sends, told.device_answers) == (agree, sends, answers)
    assert told.can is can_talk([IPv4Interface(laptop)], IPv4Address(device), prefix).can
    text = " ".join(told.against)
    assert ("the laptop sees the device as outside its subnet" in text) is (not sends)
    assert ("it replies via its gateway 10.84.19.254" in text) is (answers is False)
    assert (len(told.against), set(told.against) <= {*told.lines}) == ((not sends) + (answers is False), True)


@given(st.integers(0x01000000, 0xDFFFFFFF), st.integers(0x01000000, 0xDFFFFFFF), st.integers(8, 30), st.integers(8, 30))
def test_what_is_explained_is_what_is_judged(laptop, device, mine, theirs):
    interface = IPv4Interface((laptop, mine))
    told = explain(interface, IPv4Address(device), theirs)
    assert told.laptop_sends == (told.agree >= mine)
    assert told.device_answers == (told.agree >= theirs)
    assert told.can == can_talk([interface], IPv4Address(device), theirs).can or laptop == device


def test_the_command_says_why():
    run = askport("reach", "10.84.16.9/22", "10.84.19.200/24", "--json")
    document = json.loads(run.stdout)
    assert (run.returncode, document["can_talk"], document["agreeing_bits"]) == (1, False, 22)
    assert (
        document["because"][0]
        == "The laptop's 10.84.16.9/22: network 10.84.16.0, host 0.0.0.9, broadcast 10.84.19.255."
    )
    assert askport("reach", "10.84.16.9/22", "10.84.19.200/22").returncode == 0


CABLE = Adapter(
    name="zl0", kind="wired", link_up=True, switched_on=True, speed_mbps=100, mac="02:00:00:00:00:01", gateway=None,
    addresses=(AdapterAddress(interface=IPv4Interface("192.168.1.5/24"), origin="static"),), dns=(), manager=None,
)  # fmt: skip
WIFI = replace(CABLE, name="wl0", kind="wireless", gateway=IPv4Address("192.168.1.1"))


def codes(*adapters, held=False):
    return {each.name: [code for code, _ in each.hazards] for each in with_hazards(adapters, server_port_held=held)}


def test_what_is_in_the_way_is_named():
    assert codes(CABLE) == {"zl0": []}
    assert codes(CABLE, WIFI) == {"zl0": ["overlapping-subnet"], "wl0": ["default-route"]}
    assert codes(replace(CABLE, half_duplex=True), held=True)["zl0"] == ["half-duplex", "server-port"]
    assert codes(replace(CABLE, link_up=False))["zl0"] == ["link-down"]
    assert codes(CABLE, replace(WIFI, link_up=False))["zl0"] == []
    found = cable_hazards([CABLE], "zl0", device=IPv4Address("192.168.1.200"), way_out="wg0")
    assert [each.code for each in found] == ["better-route"]
    assert "pulled out" in cable_hazards([], "zl0")[0].text
    assert all(each.text.endswith(".") and len(each.text) > 40 for each in found)


def test_what_another_program_takes_off_is_put_back_once_a_minute_and_said():
    laptop, borrowed = Laptop("zl0", MacAddress.parse("02:00:00:00:00:01"), ()), IPv4Interface("10.84.16.9/22")
    assert laptop.take(borrowed, 1.0)
    assert not laptop.take(borrowed, 2.0)
    assert laptop.look([CABLE], now=0.9) == []  # looked at just before it was borrowed
    has_it = replace(CABLE, addresses=(AdapterAddress(interface=borrowed, origin="static"),))
    moments = ((3.0, has_it), (6.0, CABLE), (9.0, has_it), (12.0, CABLE), (67.0, CABLE), (140.0, has_it))
    put_back = [now for now, adapter in moments if laptop.look([adapter], now=now)]
    assert put_back == [6.0, 67.0]
    assert laptop.hazards == []
    laptop.look([CABLE], now=150.0)
    assert [each.code for each in laptop.hazards] == ["address-taken"]
    assert laptop.look([], now=155.0) == []  # pulled out: there is nothing to put it back on
    assert laptop.give_all_back() == [borrowed]
    assert (laptop.addresses, laptop.borrowed_at) == ([], None)


@pytest.mark.parametrize(("slept", "said"), [(0.3, []), (42.0, ["slept"])])
def test_a_laptop_that_has_slept_says_so(practice, monkeypatch, slept, said):
    """The clock that goes on while a computer sleeps tells; the frames' own clock stands still meanwhile."""
    _, run = practice("TG-01")
    asleep = [100.0, 100.0 + slept, 100.0 + slept]
    watch = LaptopWatch(None, asleep=lambda: asleep.pop(0))
    monkeypatch.setattr(
        "askport.tui.laptop_watch.list_adapters", lambda: [replace(CABLE, name=run.session.cable.laptop.adapter)]
    )
    asyncio.run(watch.look(run.session, 5.0))
    assert [each.code for each in run.session.cable.laptop.hazards] == said
    asyncio.run(watch.look(run.session, 70.0))
    assert run.session.cable.laptop.hazards == []


def test_every_hazard_that_can_be_made_real_is_said(cable, tmp_path):
    """A second adapter and a tunnel in the same subnet, half duplex, a held server port, a firewall, no link."""
    cable.ip("addr", "add", "192.168.1.200/24", "dev", "zd0")
    cable.ip("addr", "add", "192.168.1.5/24", "dev", "zl0", at="laptop")
    cable.ip("link", "set", "lo", "up", at="laptop")
    cable.wifi("192.168.1.50/24", "192.168.1.201/24")
    cable.start("laptop", sys.executable, "-c", HOLDS_PORT)
    if Path("/dev/net/tun").exists():
        cable.start("laptop", sys.executable, "-c", TUNNEL_AND_TAP)
    time.sleep(1.0)
    adapters = json.loads(cable.askport("adapters", "--json").stdout)["adapters"]
    said = {each["name"]: {hazard["code"] for hazard in each["hazards"]} for each in adapters}
    assert said["zl0"] == {"overlapping-subnet", "server-port"}
    if "zl7" in said:
        texts = [hazard["text"] for each in adapters if each["name"] == "zl0" for hazard in each["hazards"]]
        assert any("vpn0 (tunnel) is in 192.168.1.0/24 as well" in each for each in texts)
        assert said["zl7"] == {"half-duplex", "server-port"}
    run = cable.askport("find", "zl0", "--seconds", 0.2)
    assert "Open a door" not in run.stderr, "it is in nobody's way beside the adapter"
    run = cable.askport("borrow", "zl0", "10.9.9.9/24", "--on-adapter", "--", "true")
    assert "Open a door to the device, or switch wl0 off" in run.stderr
    assert "Stop it first" in run.stderr
    cable.ip("link", "set", "wl0", "down", at="laptop")
    (tmp_path / "index.html").write_text("page")
    cable.start("device", sys.executable, "-m", "http.server", "80", cwd=tmp_path)
    cable.drop_all()
    fetch = "import sys, urllib.request as u; u.urlopen(sys.argv[1], timeout=15)"
    door = cable.command("door", "zl0", "192.168.1.200", "--on-adapter")
    program = subprocess.Popen([*cable.inside("laptop"), *door],
                               stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)  # fmt: skip
    url = program.stdout.readline().strip()
    subprocess.run([*cable.inside("laptop"), sys.executable, "-c", fetch, url], capture_output=True)
    time.sleep(4.0)
    program.send_signal(2)
    assert "a firewall on the laptop drops its answers. Allow zl0 in it." in program.communicate(timeout=60)[1]


TUNNEL_AND_TAP = """
import ctypes, fcntl, os, socket, struct, subprocess, time
held = []
for name, kind in ((b"vpn0", 1), (b"zl7", 2)):  # IFF_TUN, IFF_TAP; 0x1000 is IFF_NO_PI
    held.append(os.open("/dev/net/tun", os.O_RDWR))
    fcntl.ioctl(held[-1], 0x400454CA, struct.pack("16sH22x", name, kind | 0x1000))
half = ctypes.create_string_buffer(struct.pack("3IH", 2, 0, 0, 100), 44)  # ETHTOOL_SSET, 100 Mb/s, half duplex
inet = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
fcntl.ioctl(inet, 0x8946, struct.pack("16sP16x", b"zl7", ctypes.addressof(half)))
for command in ("addr add 192.168.1.77/24 dev vpn0", "link set vpn0 up", "link set zl7 up"):
    subprocess.run(["ip", *command.split()], check=True)
time.sleep(60)
"""


HOLDS_PORT = (
    "import socket, time; s = socket.socket(socket.AF_INET, socket.SOCK_DGRAM); s.bind(('', 67)); time.sleep(60)"
)


def test_the_technician_may_name_another_laptop_address_with_the_same_checks(practice):
    bench, run = practice("TG-01")
    session = run.session
    pass_time(
        bench,
        run,
        until=lambda: session.cable.search.candidate is not None and session.cable.search.candidate.is_found,
    )
    session.enter(bench.now())
    pass_time(bench, run, until=lambda: session.phase is Phase.MAY_BORROW)
    best = session.device.chosen.best
    assert (best.prefix, str(best.prefix_basis), str(best.gateway)) == (24, "measured", "192.168.61.254")
    for wrong, why in (("192.168.61.7/24", "device's own"), ("192.168.61.254/24", "is taken, heard or planned"),
                       ("10.0.0.9/24", "does not reach"), ("192.168.61.255/24", "broadcast address")):  # fmt: skip
        with pytest.raises(errors.BadInput, match=why):
            session.stages.access.name_other(wrong, bench.now())
    session.stages.access.name_other("192.168.61.99/24", bench.now())
    pass_time(bench, run, until=lambda: session.phase is Phase.MAY_BORROW)
    session.enter(bench.now())
    pass_time(bench, run, until=lambda: bool(session.cable.laptop.borrowed))
    assert [str(each) for each in session.cable.laptop.borrowed] == ["192.168.61.99/24"]
    assert session.cable.laptop.borrowed_at is not None


@pytest.mark.parametrize(
    ("answers", "late", "is_bound"),
    [(("beside", "adapter"), 0, False), (("adapter",), 0, True), ((), 0, False), (("beside", "adapter"), 3, False),
     (("beside",), 1, False)],
)  # fmt: skip
def test_a_port_counts_as_bound_only_where_the_same_question_is_answered_from_one_mac_and_not_from_the_other(
    answers, late, is_bound
):
    """One that is silent to both is not there; one that is late is not bound; whatever else it says tells nothing."""
    device, at = MacAddress.parse("02:00:00:00:00:99"), IPv4Address("10.77.3.9")
    macs = {"beside": MacAddress.parse("02:00:00:00:00:b0"), "adapter": MacAddress.parse("02:00:00:00:00:01")}
    asking, now, asked = WhomItAnswers(device, at, laptop=IPv4Address("10.77.3.200"), now=0.0, **macs), 0.0, 0
    while not asking.done:
        for effect in asking.poll():
            question = read_packet(effect.data).get(Arp)
            asked += 1
            if str(question.spa) != "0.0.0.0":
                continue  # it takes the laptop for a stranger, and answers none but probes
            name = next(name for name, mac in macs.items() if mac == question.sha)
            told = Arp(op=Op.REPLY, sha=device, spa=at, tha=question.sha, tpa=question.spa)
            other = Arp(op=Op.REPLY, sha=device, spa=IPv4Address("10.77.3.10"), tha=macs["beside"], tpa=question.spa)
            for arp in (other, *([told] if name in answers and asked > 3 * late else [])):
                asking.receive(wire.hear(wire.Frame(at=now, data=arp_frame(arp, to=arp.tha))))
        now += 0.1
        asking.handle_timer(now)
    assert asking.adapter_only is is_bound
    assert now < 2.5


@pytest.mark.parametrize(
    "made", [["zl9", "type", "bridge"], ["link", "zl0", "name", "zl9", "type", "macvtap", "mode", "passthru"]]
)
def test_an_adapter_that_is_a_part_of_another_is_said_to_be_with_the_one_that_works(cable, made):
    """A bridge takes what comes in at its port, and a passthru macvtap at what it lies on."""
    cable.ip("addr", "add", "192.168.61.7/24", "dev", "zd0")
    cable.ip("link", "add", *made, at="laptop")
    if made[-1] == "bridge":
        cable.ip("link", "set", "zl0", "master", "zl9", at="laptop")
    cable.ip("link", "set", "zl9", "up", at="laptop")
    reaches = {}
    for adapter in ("zl0", "zl9"):
        run = cable.askport("borrow", adapter, "192.168.61.8/24", "--", "ping", "-c1", "-W2", "192.168.61.7")
        reaches[adapter] = "1 received" in run.stdout
        assert ("zl9 takes what comes in on zl0: use zl9 instead." in run.stderr) is (adapter == "zl0")
    assert reaches == {"zl0": False, "zl9": True}
