"""A member of the group, and what a hostile one gets: a wired cable, and nothing of anybody else's."""

import asyncio
import contextlib
import json
import os
import socket
import struct
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import pytest

from askport.core.errors import MachineRefused
from askport.edges.by_group import ASKS_FOR_A_WORD, bounds
from askport.edges.by_group.member import MOST_AT_ONCE
from askport.edges.keeper import relay
from askport.edges.keeper_client import Keeper
from askport.edges.kernel import namespaces
from conftest import DEVICE, children, wait_for
from group_keeper import GROUP_NUMBER, MEMBER, OTHER, STRANGER, GroupKeeper, user
from test_giving_back import NONSENSE, snapshot

CONNECTIONS = int(os.environ.get("ASKPORT_CONNECTIONS", "40"))


@pytest.fixture
def group(cable, monkeypatch):
    stands = GroupKeeper(cable.inside("laptop"), Path(tempfile.mkdtemp()))
    monkeypatch.setenv("ASKPORT_KEEPER", str(stands.path))
    yield stands
    stands.close()


@contextlib.contextmanager
def at_laptop(cable):
    home, there = namespaces.own(), os.open(f"/run/netns/{cable.laptop}", os.O_RDONLY)
    namespaces.enter(there)
    try:
        yield
    finally:
        namespaces.enter(home)
        os.close(home)
        os.close(there)


def asked(cable, number, *groups, adapter="zl0", word=""):
    """Return a keeper that a user has asked for; what needs the laptop's namespace is done there."""
    with user(number, *groups):
        keeper = Keeper()
    with at_laptop(cable):
        try:
            return keeper.take(adapter, word)
        except MachineRefused:
            keeper.close()
            raise


def raw(group, number, *groups):
    """Return a bare connection of a user, made as soon as there is room for one."""
    control = socket.socket(socket.AF_UNIX, socket.SOCK_SEQPACKET)
    control.settimeout(60)

    def connected():
        with user(number, *groups), contextlib.suppress(BlockingIOError):
            control.connect(str(group.path))
            return True
        return False

    assert wait_for(connected)
    return control


def told(control, request):
    control.send(request if isinstance(request, bytes) else json.dumps(request).encode())
    return json.loads(control.recv(8192) or b"null")


def test_a_member_borrows_without_being_root_and_everything_is_given_back(cable, group):
    """Beside the adapter; the laptop's own end stays as it was, also when the program is lost without a word."""
    before, links = snapshot(cable), cable.ip("link", at="laptop")
    keeper = asked(cable, MEMBER, GROUP_NUMBER)
    keeper._ask_now("enter", place=0)
    keeper._ask_now("borrow", address="10.84.16.9/22", place=0)
    keeper._ask_now("borrow", address="10.84.16.9/22", instead=False)
    assert "10.84.16.9" in cable.ip("addr", "show", "zl0", at="laptop")
    assert (keeper.is_alive, group.refusals()) == (True, [])
    keeper._control.close()
    assert wait_for(lambda: snapshot(cable) == before)
    assert cable.ip("link", at="laptop") == links


def test_an_adapter_has_one_user_at_a_time_and_any_number_that_listen(cable, group):
    """The same user has it as often as they start the program; another only when all of these have ended."""
    first, second, other = (asked(cable, each, GROUP_NUMBER) for each in (MEMBER, MEMBER, OTHER))
    for each in (first, second):
        each.wire.send(GREETING)
    with pytest.raises(MachineRefused, match="in use by mia"):
        other.wire.send(GREETING)
    first.close()
    with pytest.raises(MachineRefused, match="in use by mia"):
        other._ask_now("borrow", address="10.84.16.9/22", instead=False)
    second.close()
    other.wire.send(GREETING)
    other.close()
    assert group.refusals() == ["<4>refused to olaf: zl0 is in use by mia: have them end their Ask Port first."] * 2


GREETING = bytes.fromhex("ffffffffffff" + "020000000001" + "88b5") + b"greeting".ljust(46)
HEARS = """
import socket, sys
wire = socket.socket(socket.AF_PACKET, socket.SOCK_RAW, socket.htons(3))
wire.bind((sys.argv[1], 3))
print("hears", flush=True)
while True: print(wire.recv(65536).hex(), flush=True)
"""


def test_nothing_that_a_member_is_handed_sends_on_another_adapter(cable, group, tmp_path):
    """Nor on its own before the keeper knows; what is no message ends the relay, and nothing else."""
    cable.ip("link", "add", "zl7", "type", "veth", "peer", "name", "zl8", at="laptop")
    for each in ("zl7", "zl8", "lo"):
        cable.ip("link", "set", each, "up", at="laptop")
    heard = {each: tmp_path / each for each in ("zl7", "zl8", "lo", "zd0")}
    for each, path in heard.items():
        cable.start("device" if each == "zd0" else "laptop", sys.executable, "-c", HEARS, each, stdout=path.open("w"))
        assert wait_for(lambda path=path: "hears" in path.read_text())
    keeper = asked(cable, MEMBER, GROUP_NUMBER)
    handed, message = keeper.wire._socket, relay.SENDS.pack(relay.SENDS_KIND, len(GREETING), 0.0) + GREETING
    assert handed.family == socket.AF_UNIX
    for each in ("zl7", "zl8", "lo"):
        with pytest.raises((OSError, TypeError)):
            handed.sendto(message, (each, 3))
    with pytest.raises(OSError):
        handed.setsockopt(263, 1, struct.pack("iHH8s", 1, 1, 0, b""))  # PACKET_ADD_MEMBERSHIP, PACKET_MR_PROMISC
    handed.send(message)  # without a word to the keeper
    with pytest.raises(MachineRefused, match="would not send"):
        wait_for(lambda: asyncio.run(keeper.wire.wait(keeper.wire.now() + 0.2)) and None)  # whatever else is heard
    keeper._ask_now("speak")
    handed.send(message)
    assert wait_for(lambda: GREETING.hex() in heard["zd0"].read_text())
    assert heard["zd0"].read_text().count(GREETING.hex()) == 1
    assert not any(GREETING.hex() in heard[each].read_text() for each in ("zl7", "zl8", "lo"))
    with pytest.raises(MachineRefused, match="relayed already"):
        keeper._ask_now("open", filter="")
    handed.send(b"\1\2\3")
    handed.setblocking(True)
    while handed.recv(relay.MAX_MESSAGE):
        pass
    keeper._ask_now("borrow", address="10.84.16.9/22", instead=False)
    keeps = group.keepers[-1]
    relays = children(keeps.pid)
    keeper._control.close()
    assert wait_for(lambda: keeps.poll() is not None)
    assert not any(Path(f"/proc/{each}").exists() for each in relays)


def test_the_last_of_all_runs_switches_off_what_was_off(cable, group):
    """Not the one that switched it on, which ends while the other still needs it, by whatever end."""
    for kills in (False, True):
        cable.ip("link", "set", "zl0", "down", at="laptop")
        first, second = asked(cable, MEMBER, GROUP_NUMBER), asked(cable, OTHER, GROUP_NUMBER)
        first.switch_on()
        keeps = group.keepers[-2]
        (keeps.kill if kills else first.close)()
        assert wait_for(lambda keeps=keeps: keeps.poll() is not None)
        third = asked(cable, MEMBER, GROUP_NUMBER)
        assert "state UP" in cable.ip("link", "show", "zl0", at="laptop")
        third.close()
        assert "state UP" in cable.ip("link", "show", "zl0", at="laptop")
        second.close()
        assert wait_for(lambda: "state DOWN" in cable.ip("link", "show", "zl0", at="laptop"))
    assert wait_for(lambda: not list(Path("/run/askport").glob("*.journal")))


def test_who_is_not_in_the_group_gets_nothing(cable, group):
    with pytest.raises(MachineRefused, match="not in the group 'askport'"):
        asked(cable, STRANGER)
    assert "sten is not in the group" in group.refusals()[0]


def test_the_adapter_of_the_default_route_is_had_by_its_name_only(cable, group):
    cable.ip("addr", "add", "10.84.16.7/22", "dev", "zl0", at="laptop")
    cable.ip("route", "add", "default", "via", "10.84.16.1", at="laptop")
    for word in ("", "yes", "zl1"):
        with pytest.raises(MachineRefused, match="it is used only if you type its name") as refused:
            asked(cable, MEMBER, GROUP_NUMBER, word=word)
        assert refused.value.code == ASKS_FOR_A_WORD
    asked(cable, MEMBER, GROUP_NUMBER, word="zl0").close()
    cable.ip("route", "del", "default", at="laptop")
    cable.ip("-6", "route", "add", "default", "via", "fe80::1", "dev", "zl0", at="laptop")
    with pytest.raises(MachineRefused, match="type its name"):
        asked(cable, MEMBER, GROUP_NUMBER)


def test_an_adapter_that_no_cable_goes_into_is_refused(cable, group, monkeypatch, tmp_path):
    cable.ip("link", "add", "zl7", "type", "veth", "peer", "name", "zl8", at="laptop")
    for adapter, why in (("zl7", "made by software"), ("lo", "made by software"), ("zl9", "There is no adapter")):
        with pytest.raises(MachineRefused, match=why):
            asked(cable, MEMBER, GROUP_NUMBER, adapter=adapter)
    assert len(group.refusals()) == 3
    (tmp_path / "wl0" / "wireless").mkdir(parents=True)
    (tmp_path / "wl0" / "device").mkdir()
    monkeypatch.setattr(bounds, "_SYS", tmp_path)
    assert bounds._not_wired("wl0") == "wireless"


def test_a_member_does_not_get_at_the_laptop_s_own_traffic(cable, group):
    """On the adapter itself only private ranges; the kernel would send there whatever is in them."""
    before = snapshot(cable)
    keeper = asked(cable, MEMBER, GROUP_NUMBER)
    for details in (
        {"verb": "borrow", "address": "10.0.0.1/0"}, {"verb": "borrow", "address": "192.0.2.1/1"},
        {"verb": "borrow", "address": "198.51.100.1/6"}, {"verb": "route", "to": "0.0.0.0/1", "via": "10.84.16.9"},
        {"verb": "route", "to": "9.9.9.9/32", "via": "10.84.16.9"}, {"verb": "borrow", "address": "127.0.0.5/8"},
        {"verb": "borrow", "address": "240.0.0.1/8"}, {"verb": "route", "to": "127.0.0.0/8", "via": "10.84.16.9"},
        {"verb": "route", "to": "240.0.0.0/4", "via": "10.84.16.9"}, {"verb": "borrow", "address": "192.0.0.9/24"},
    ):  # fmt: skip
        with pytest.raises(MachineRefused, match="not a private range"):
            keeper._ask_now(**details)
    assert snapshot(cable) == before
    keeper.close()


def test_a_member_takes_no_range_in_which_the_laptop_talks_to_others(cable, group):
    """Be it that it is there, sends there, or asks for names there: the cable is no way to those."""
    cable.ip("link", "add", "zl5", "type", "veth", "peer", "name", "zl6", at="laptop")
    cable.ip("link", "set", "zl6", "up", at="laptop")
    cable.ip("link", "set", "zl5", "up", at="laptop")
    cable.ip("addr", "add", "10.20.0.1/16", "dev", "zl5", at="laptop")
    cable.ip("route", "add", "172.20.0.0/16", "via", "10.20.0.254", at="laptop")
    (group.etc / "resolv.conf").write_text("search site\nnameserver 192.168.77.53\nnameserver ::1\n")
    before, keeper = snapshot(cable), asked(cable, MEMBER, GROUP_NUMBER)
    for details in (
        {"verb": "borrow", "address": "10.20.5.5/24"}, {"verb": "borrow", "address": "10.1.1.1/8"},
        {"verb": "route", "to": "10.0.0.0/8", "via": "10.84.16.9"}, {"verb": "borrow", "address": "172.20.9.9/24"},
        {"verb": "route", "to": "10.20.0.254/32", "via": "10.84.16.9"},
        {"verb": "borrow", "address": "192.168.77.1/24"},
        {"verb": "route", "to": "192.168.77.53/32", "via": "10.84.16.9"},
    ):  # fmt: skip
        with pytest.raises(MachineRefused, match="the laptop's own"):
            keeper._ask_now(**details)
    for wrong in ("10.84.16.0/22", "10.84.19.255/22"):
        with pytest.raises(MachineRefused, match="no address of a host"):
            keeper._ask_now("borrow", address=wrong)
    assert snapshot(cable) == before
    keeper._ask_now("borrow", address="10.84.16.9/22")
    keeper._ask_now("route", to="192.168.61.0/24", via="10.84.16.9")
    keeper.close()


@pytest.mark.parametrize("upon", ["bridge", "macvlan", "two halves"])
def test_the_adapter_under_that_of_the_default_route_is_had_by_its_name_only(cable, group, upon):
    way = {"bridge": ["type", "bridge"], "macvlan": ["link", "zl0", "type", "macvlan"]}.get(upon)
    if way:
        cable.ip("link", "add", *way[: way.index("type")], "name", "up9", *way[way.index("type") :], at="laptop")
        cable.ip("link", "set", "up9", "up", at="laptop")
    if upon == "bridge":
        cable.ip("link", "set", "zl0", "master", "up9", at="laptop")
    cable.ip("addr", "add", "10.84.16.7/22", "dev", "up9" if way else "zl0", at="laptop")
    for each in ("default",) if way else ("0.0.0.0/1", "128.0.0.0/1"):
        cable.ip("route", "add", each, "via", "10.84.16.1", at="laptop")
    with pytest.raises(MachineRefused, match="type its name"):
        asked(cable, MEMBER, GROUP_NUMBER)
    asked(cable, MEMBER, GROUP_NUMBER, word="zl0").close()


def test_nonsense_from_a_member_is_refused_and_written_down_on_a_line_of_its_own(cable, group):
    before = snapshot(cable)
    control = raw(group, MEMBER, GROUP_NUMBER)
    assert told(control, {"verb": "take", "adapter": "zl0"}) == {"ready": True}
    wrong = [each for each in NONSENSE if b"zl1" not in each]
    assert all("error" in told(control, each) for each in wrong)
    told(control, {"verb": "pin", "address": "1.2.3.4\n<0>root said so", "mac": "00"})
    assert len(group.refusals()) == len(wrong) + 1
    assert "<0>root" not in [each[:7] for each in group.log.read_text().splitlines()]
    control.close()
    assert wait_for(lambda: snapshot(cable) == before)
    for first in (b"\xff\xfe", b"[]", b"{}", b"[" * 8000, b'{"verb": "take", "adapter": ["zl0"]}'):
        control = raw(group, MEMBER, GROUP_NUMBER)
        assert "error" in told(control, first)
        control.close()


def last_word(control):
    try:
        return json.loads(control.recv(8192) or b'{"error": "closed"}')["error"]
    except ConnectionResetError:
        return "closed"


def test_many_connections_of_one_user_are_refused_and_change_nothing(cable, group):
    """Sixteen wait until their time is up, the others are refused or closed at once; then another user is served."""
    before = snapshot(cable)
    begun = time.monotonic()
    many = [raw(group, MEMBER, GROUP_NUMBER) for _ in range(CONNECTIONS)]
    said = [last_word(each) for each in many]
    waited = said.count("Nothing was asked for in time.")
    rounds = 1 + (time.monotonic() - begun) // 10  # each of those that wait does so for ten seconds
    refused = sum("has 16 connections" in each for each in said)
    assert (0 < waited <= MOST_AT_ONCE * rounds, waited + refused + said.count("closed")) == (True, CONNECTIONS), set(
        said
    )
    assert sum("has 16 connections" in each for each in group.refusals()) >= refused > 0
    for each in many:
        each.close()
    assert wait_for(lambda: all(each.poll() is not None for each in group.keepers))
    asked(cable, OTHER, GROUP_NUMBER).close()
    assert snapshot(cable) == before


@pytest.mark.night
def test_what_one_run_holds_has_an_end_and_what_it_only_asks_has_none(cable, group):
    """A long day is looking at addresses; a thousand neighbours is somebody who fills the kernel."""
    keeper = asked(cable, MEMBER, GROUP_NUMBER)
    keeper._ask_now("enter", place=0)
    for _ in range(1100):
        keeper._ask_now("addresses", place=0)
    for round_ in range(2):
        with pytest.raises(MachineRefused, match="more than one run"):
            for number in range(1001):
                keeper._ask_now("pin", address=f"10.84.{number // 250}.{number % 250}", mac=DEVICE, place=0)
        assert 900 < number < 1001, round_
        keeper.give_back_now()
        keeper._ask_now("enter", place=0)
    keeper.close()


def test_an_adapter_that_is_off_is_switched_on_and_off_again(cable, group):
    cable.ip("link", "set", "zl0", "down", at="laptop")
    keeper = asked(cable, MEMBER, GROUP_NUMBER)
    assert keeper.switched_on is False
    keeper.switch_on()
    assert wait_for(lambda: "state UP" in cable.ip("link", "show", "zl0", at="laptop"))
    assert keeper.give_back_now() == ["the switched-off state"]
    keeper.close()
    assert "state DOWN" in cable.ip("link", "show", "zl0", at="laptop")


def test_an_adapter_that_is_on_stays_on_however_often_it_is_switched_on(cable, group):
    keeper = asked(cable, MEMBER, GROUP_NUMBER)
    with pytest.raises(MachineRefused, match="more than one run"):
        for _ in range(1100):
            keeper.switch_on()
    keeper.close()
    assert wait_for(lambda: all(each.poll() is not None for each in group.keepers))
    assert "state UP" in cable.ip("link", "show", "zl0", at="laptop")


def test_a_client_that_does_not_read_keeps_no_keeper_from_ending(cable, group):
    control = raw(group, MEMBER, GROUP_NUMBER)
    assert told(control, {"verb": "take", "adapter": "zl0"}) == {"ready": True}
    control.setblocking(False)
    with contextlib.suppress(BlockingIOError):
        while True:
            control.send(b'{"verb": "addresses"}')
    keeper = group.keepers[-1]
    keeper.terminate()
    assert wait_for(lambda: keeper.poll() is not None)
    control.close()


def test_nothing_that_comes_or_goes_is_a_traceback(cable, group):
    control = raw(group, MEMBER, GROUP_NUMBER)
    told(control, {"verb": "take", "adapter": "zl0"})
    for place in ("Infinity", "-Infinity", "NaN", "1e400", "[]", "null"):
        assert "error" in told(control, f'{{"verb": "borrow", "address": "10.84.16.9/22", "place": {place}}}'.encode())
    control.close()
    for number, groups in ((STRANGER, ()), (MEMBER, (GROUP_NUMBER,))):
        control = raw(group, number, *groups)
        with contextlib.suppress(OSError):
            control.send(b"[]")
        control.close()
    assert wait_for(lambda: all(each.poll() is not None for each in group.keepers))
    assert "Traceback" not in group.log.read_text(), group.log.read_text()


def test_the_page_on_security_says_how_much_of_ours_runs_as_root():
    code = ("import sys, askport.edges.by_group.__main__ as it; "
            "print(*(each.__file__ for name, each in sys.modules.items() if name.startswith('askport')))")  # fmt: skip
    run = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    modules = run.stdout.split()
    lines = sum(len(Path(each).read_text().splitlines()) for each in modules)
    assert f"{len(modules)} modules of about {round(lines, -2):,} lines" in Path("docs/security.md").read_text()
