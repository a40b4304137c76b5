"""Beside the adapter: the laptop itself is never touched, whatever happens and however it ends."""

import asyncio
import contextlib
import json
import os
import random
import signal
import subprocess
import sys
import time
from ipaddress import IPv4Address, IPv4Interface
from pathlib import Path
from unittest.mock import AsyncMock, Mock

import pytest

from askport.core.addresses import MacAddress
from askport.core.errors import MachineRefused
from askport.core.reach.beside import beside_mac
from askport.edges.footing import Footing
from conftest import ASKPORT, DEVICE, LAPTOP, children, wait_for
from test_pages import KIND, SERVER

KILLS = int(os.environ.get("ASKPORT_BESIDE", "18")) // 3 + 1
"""How many of the keeper, of the program and of both; ``make beside`` asks for 200 in all."""
BESIDE = str(beside_mac(MacAddress.parse(LAPTOP)))
NAMES_ITS_FRAMES = """
import socket, sys, time
wire = socket.socket(socket.AF_PACKET, socket.SOCK_RAW, socket.ntohs(3))
wire.bind(("zd0", 0)); wire.settimeout(0.2)
print("ready", flush=True)
until, seen = time.monotonic() + float(sys.argv[1]), []
while time.monotonic() < until:
    try: frame, told = wire.recvfrom(2048)
    except TimeoutError: continue
    if told[2] != socket.PACKET_OUTGOING: seen.append((frame[6:12].hex(":"), frame[12:14].hex(), frame[14:].hex()))
print(seen)
"""
VPN = [
    ["addr", "add", "192.168.61.50/24", "dev", "wl0"], ["route", "add", "default", "dev", "wl0", "table", "77"],
    ["rule", "add", "not", "fwmark", "0x77", "table", "77", "priority", "100"],
]  # fmt: skip


def laptop(cable):
    """Return everything of the laptop's own that could change."""
    asked = [["-j", "addr"], ["-j", "route", "show", "table", "all"], ["-j", "-6", "route", "show", "table", "all"],
             ["-j", "rule"], ["-j", "neigh"], ["-j", "link"]]  # fmt: skip
    told = [cable.ip(*each, at="laptop") for each in asked]
    settings = "find /proc/sys/net/ipv4/conf /proc/sys/net/ipv6/conf -type f | sort | xargs grep -s ."
    told.append(cable.in_laptop("sh", "-c", f"nft list ruleset 2>/dev/null; {settings}; true"))
    return told


def second_macs(cable):
    """Return the MAC addresses that the adapter takes frames for beside its own."""
    known = json.loads(cable.in_laptop("bridge", "-j", "fdb", "show", "dev", "zl0"))
    return [each["mac"] for each in known if int(each["mac"][:2], 16) & 1 == 0]


def with_page(cable, tmp_path):
    """Start a device with a page; return what sets it there."""
    cable.ip("addr", "add", "192.168.61.7/24", "dev", "zd0")
    cable.start("device", sys.executable, "-c", SERVER, "open", "no", "plain")
    kind = tmp_path / "page.toml"
    kind.write_text(KIND.replace("SCHEME", "http").replace("TOKEN", "{token}"))
    cable.listens(80)
    return ["assign", "zl0", "--mac", DEVICE, "--to", "10.84.16.40/22", "--gateway", "10.84.19.254", "--by", "page",
            "--at", "192.168.61.7", "--kind", kind, "--json"]  # fmt: skip


PROVE = ["prove", "zl0", "--mac", DEVICE, "--at", "10.84.16.40/22", "--gateway", "10.84.19.254", "--open", "80",
         "--was", "192.168.61.7", "--json"]  # fmt: skip


@pytest.mark.by_day(2, 4)
@pytest.mark.parametrize("besides", ["nothing", "own address", "firewall", "wi-fi", "vpn"])
def test_nothing_of_the_laptop_changes_over_a_whole_assign_and_prove(cable, tmp_path, besides):
    """The kernel's own monitor tells of nothing but the adapter's promiscuity."""
    if besides == "own address":
        for each in ("192.168.61.20/24", "10.84.16.9/22"):
            cable.ip("addr", "add", each, "dev", "zl0", at="laptop")
    elif besides == "firewall":
        cable.drop_all()
    elif besides in ("wi-fi", "vpn"):
        cable.wifi("192.168.61.50/25", "192.168.61.201/25")
        for each in VPN if besides == "vpn" else ():
            cable.ip(*each, at="laptop")
    assign = with_page(cable, tmp_path)
    time.sleep(2.5)  # until the other adapter has its IPv6 address
    before = laptop(cable)
    told = tmp_path / "monitor"
    with told.open("w") as out:
        monitor = subprocess.Popen([*cable.inside("laptop"), "ip", "-o", "monitor", "all"], stdout=out)
        time.sleep(0.3)
        runs = [cable.askport(*assign), cable.askport(*PROVE)]
        time.sleep(0.3)
        monitor.terminate()
        monitor.wait()
    assert json.loads(runs[0].stdout)["result"] == "taken", runs[0]
    assert json.loads(runs[1].stdout)["passed"], runs[1]
    assert all("beside zl0 back" in each.stderr for each in runs)
    assert [line for line in told.read_text().splitlines() if not line.startswith("[LINK]2: zl0@")] == []
    assert laptop(cable) == before


@pytest.mark.by_day(0)
@pytest.mark.parametrize("manager", ["NetworkManager", "/lib/systemd/systemd-networkd", "dhcpcd"])
def test_a_network_manager_is_not_asked_for_anything(cable, tmp_path, manager):
    with_page(cable, tmp_path)
    with cable.managed(manager) as beside:
        time.sleep(2.5)
        before = laptop(cable)
        fetch = ["borrow", "zl0", "--to", "192.168.61.7", "--", "curl", "-s", "-m", "5", "http://192.168.61.7/"]
        run = subprocess.run([*beside, *cable.command(*fetch)], capture_output=True, text=True, timeout=30)
        assert (run.returncode, "t-4711" in run.stdout) == (0, True), run
        assert laptop(cable) == before


@pytest.mark.by_day(2)
@pytest.mark.parametrize("who", ["keeper", "program", "both"])
def test_the_kernel_takes_it_away_however_it_is_killed(cable, tmp_path, who):
    """At any moment of a whole proof: a second later there is no trace, and nothing has to be given back."""
    with_page(cable, tmp_path)
    prove = ["prove", "zl0", "--mac", DEVICE, "--at", "192.168.61.7/24", "--open", "80", "--power-cycle"]
    before, dice = laptop(cable), random.Random(who)
    for _ in range(KILLS):
        program = cable.start("laptop", *cable.command(*prove))
        assert wait_for(lambda: children(program.pid), 10)  # noqa: B023
        keeper = int(children(program.pid)[0])
        time.sleep(dice.uniform(0.0, 3.0))
        if who != "program":
            os.kill(keeper, signal.SIGKILL)
        if who != "keeper":
            program.kill()
        assert wait_for(lambda: not second_macs(cable)), who
        assert laptop(cable) == before
        assert wait_for(lambda: program.poll() is not None), who  # noqa: B023
    assert cable.askport("restore").stdout == "Nothing was left borrowed.\n"


def test_a_command_runs_there_as_whoever_called_and_has_no_rights(cable, tmp_path):
    with_page(cable, tmp_path)
    script = "ip -br -4 addr show cable0; id -u; grep -h CapEff /proc/self/status; curl -s -m 5 http://192.168.61.7/"
    run = cable.askport("borrow", "zl0", "--to", "192.168.61.7", "--", "sh", "-c", f"{script}; exit 7",
                        env={**os.environ, "SUDO_UID": "12345", "SUDO_GID": "12345"})  # fmt: skip
    assert run.returncode == 7, run
    assert [each in run.stdout for each in ("192.168.61.", "12345", "CapEff:\t0000000000000000", "t-4711")] == [
        True
    ] * 4
    again = cable.askport("borrow", "zl0", "--to", "192.168.61.7", "--", "no-such-command")
    assert (again.returncode, "there is no command 'no-such-command'" in again.stderr) == (127, True)


def test_a_command_goes_on_where_the_program_was_stopped_and_goes_on(cable):
    """Ctrl-Z and fg: what waits for signals is woken by none."""
    borrow = cable.command("borrow", "zl0", "192.168.61.9/24", "--", "sh", "-c", "sleep 3; echo went on")
    program = cable.start("laptop", *borrow, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)
    assert wait_for(lambda: second_macs(cable))
    time.sleep(0.5)
    for _ in range(5):
        os.kill(program.pid, signal.SIGSTOP)
        time.sleep(0.05)
        os.kill(program.pid, signal.SIGCONT)
        time.sleep(0.05)
    out, said = program.communicate(timeout=60)
    assert (program.returncode, out) == (0, "went on\n"), said


def test_a_command_ends_where_program_and_keeper_are_killed(cable):
    """Then nobody passes anything on to it: what it was started by being gone is enough, and nothing remains."""
    program = cable.start("laptop", *cable.command("borrow", "zl0", "192.168.61.9/24", "--", "sleep", "600"))
    assert wait_for(lambda: second_macs(cable))
    assert wait_for(lambda: any("sleep" in Path(f"/proc/{each}/cmdline").read_text() for each in children(program.pid)))
    below = [int(each) for each in children(program.pid)]
    for each in (program.pid, *(each for each in below if "keeper" in Path(f"/proc/{each}/cmdline").read_text())):
        os.kill(each, signal.SIGKILL)
    program.wait(60)
    assert wait_for(lambda: not second_macs(cable))
    assert wait_for(lambda: "promiscuity 0" in cable.ip("-details", "link", "show", "zl0", at="laptop"))


def test_a_command_ends_with_its_keeper(cable):
    program = cable.start("laptop", *cable.command("borrow", "zl0", "192.168.61.9/24", "--", "sleep", "60"))
    assert wait_for(lambda: second_macs(cable))
    keeper = next(int(each) for each in children(program.pid) if "keeper" in Path(f"/proc/{each}/cmdline").read_text())
    os.kill(keeper, signal.SIGKILL)
    assert wait_for(lambda: program.poll() is not None and not second_macs(cable))


def test_it_says_nothing_by_itself_and_answers_for_what_is_borrowed_only(cable):
    """From the place beside the adapter no frame comes until the device asks for what is borrowed there."""
    watching = cable.start("device", sys.executable, "-c", NAMES_ITS_FRAMES, "5", stdout=subprocess.PIPE, text=True)
    assert watching.stdout.readline() == "ready\n"
    cable.ip("addr", "add", "192.168.61.7/24", "dev", "zd0")
    held = cable.start("laptop", *cable.command("borrow", "zl0", "192.168.61.9/24", "--", "sleep", "60"))
    assert wait_for(lambda: second_macs(cable))
    time.sleep(1.0)
    asked = [subprocess.run([*cable.inside("device"), "ping", "-c", "1", "-W", "1", f"192.168.61.{last}"],
                            capture_output=True).returncode for last in (9, 10)]  # fmt: skip
    seen = eval(watching.stdout.readline())
    assert asked == [0, 1]
    said = [(kind, rest) for sender, kind, rest in seen if sender == BESIDE]
    assert said, seen
    assert {kind for kind, _ in said} <= {"0806", "0800"}
    assert all(kind == "0800" or rest[12:16] == "0002" or "c0a83d07" in rest for kind, rest in said), said
    assert {sender for sender, *_ in seen} == {LAPTOP, BESIDE}
    held.terminate()


def test_a_port_that_is_bound_to_one_mac_address_has_it_borrowed_on_the_adapter(cable, tmp_path):
    """A switch lets the first MAC address through and no other; that is said."""
    with_page(cable, tmp_path)
    cable.in_device("sh", "-c", "ip addr flush dev zd0; ip link set zd0 down")
    cable.bridge()
    cable.ip("link", "set", "zd0", "up")
    cable.behind("br0", "02:00:00:00:00:98", "192.168.61.7/24")
    chain = f"chain f {{\ntype filter hook forward priority 0;\niifname zd0 ether saddr != {LAPTOP} drop\n}}\n"
    bound = f"table bridge t {{\n{chain}}}\n"
    subprocess.run([*cable.inside("device"), "nft", "-f", "-"], input=bound, text=True, check=True)
    before = laptop(cable)
    run = cable.askport("borrow", "zl0", "--to", "192.168.61.7", "--", "ping", "-c", "1", "-W", "2", "192.168.61.7")
    assert run.returncode == 0, run
    assert "answers only the MAC address of zl0 itself" in run.stderr, run.stderr
    assert "on zl0 back" in run.stderr
    assert laptop(cable)[0] == before[0]
    proven = cable.askport("prove", "zl0", "--mac", "02:00:00:00:00:98", "--at", "192.168.61.7/24")
    assert (proven.returncode, "the MAC address of zl0 itself" in proven.stderr) == (0, True), proven


def test_an_adapter_that_takes_no_second_mac_address_is_borrowed_on(cable):
    """One that is a port of a bridge on the laptop, say: said in one sentence."""
    cable.ip("link", "add", "br9", "type", "bridge", at="laptop")
    cable.ip("link", "set", "zl0", "master", "br9", at="laptop")
    run = cable.askport("borrow", "zl0", "192.168.61.9/24", "--", "ip", "-br", "-4", "addr", "show", "zl0")
    assert (run.returncode, "192.168.61.9/24" in run.stdout) == (0, True), run
    assert "zl0 takes no second MAC address" in run.stderr
    assert "goes on the adapter" in run.stderr


TWINS = ("02:00:00:00:00:a1", "02:00:00:00:00:a2", "02:00:00:00:00:a3")
ITS_NAME = """
import http.server, sys
class Page(http.server.BaseHTTPRequestHandler):
    def log_message(self, *_): pass
    def do_GET(self):
        self.send_response(200); self.end_headers(); self.wfile.write(sys.argv[1].encode())
http.server.HTTPServer(("", 80), Page).serve_forever()
"""


def test_one_without_a_place_still_has_its_device_pinned():
    """Or a stranger with the same address would be talked to."""
    keeper = AsyncMock(
        adapter="lo", wire=Mock(), on_adapter=None, enter=AsyncMock(side_effect=MachineRefused("No.", code="no-place"))
    )
    pinned = IPv4Address("192.168.61.7"), MacAddress.parse(DEVICE)

    async def pin_and_borrow():
        footing = Footing(keeper)
        await footing.pin(*pinned)
        return await footing.borrow(IPv4Interface("192.168.61.9/24"))

    assert asyncio.run(pin_and_borrow()) == "No. The temporary address goes on the adapter."
    keeper.pin.assert_awaited_once_with(*pinned, place=None)


def test_only_one_at_a_time_stands_on_the_adapter_and_what_it_borrowed_is_given_back():
    """Or an address that two have pinned there would mean the unit of the other."""
    keeper = AsyncMock(adapter="lo", wire=Mock(), on_adapter=None)
    first, second = (Footing(keeper, on_adapter=True) for _ in range(2))
    second.place = 1  # a lane of its own, which fell back

    async def take_turns():
        await first.pin(IPv4Address("192.168.61.7"), MacAddress.parse(TWINS[0]))
        with pytest.raises(MachineRefused, match="waits its turn"):
            await second.pin(IPv4Address("192.168.61.7"), MacAddress.parse(TWINS[1]))
        await first.give_back()
        await second.borrow(IPv4Interface("192.168.61.9/24"))
        await second.give_back()

    asyncio.run(take_turns())
    assert (keeper.pin.await_count, keeper.give_back.await_count, keeper.on_adapter) == (1, 2, None)


@pytest.mark.night
def test_twins_with_one_address_have_a_door_each_at_the_same_time(cable, tmp_path):
    """Two doors are fetched from in turn, fifty times, while a third follows its unit to another address."""
    cable.bridge()
    rooms = [cable.behind("br0", mac, "192.168.61.7/24") for mac in TWINS]
    for room, mac in zip(rooms, TWINS, strict=True):
        cable.start_in(room, sys.executable, "-c", ITS_NAME, mac)
    cable.ip("link", "set", "lo", "up", at="laptop")
    for room in rooms:
        cable.listens(80, at=room)
    before = laptop(cable)
    with contextlib.ExitStack() as doors:
        urls = [doors.enter_context(cable.door("192.168.61.7", "--pin", mac)) for mac in TWINS]
        jars = [str(tmp_path / str(number)) for number in range(3)]
        fetch = lambda number: cable.in_laptop(  # noqa: E731
            "curl", "-sL", "-m", "5", "-b", jars[number], "-c", jars[number], urls[number]
        )
        assert [fetch(number) for number in range(3)] == list(TWINS)
        urls = [url.rpartition("/")[0] + "/" for url in urls]
        subprocess.run(["ip", "-n", rooms[2], "addr", "flush", "dev", "e0"], check=True)
        subprocess.run(["ip", "-n", rooms[2], "addr", "add", "192.168.61.77/24", "dev", "e0"], check=True)
        subprocess.run(["ip", "netns", "exec", rooms[2], "ping", "-c", "1", "-W", "1", "192.168.61.1"])
        got = [(fetch(0), fetch(1)) for _ in range(50)]
        assert got == [TWINS[:2]] * 50
        assert wait_for(lambda: "has moved to 192.168.61.77" in fetch(2) or fetch(2) == TWINS[2])
    assert laptop(cable) == before


ITS_PAGE6 = r"""
import http.server, socket, subprocess, sys, urllib.parse
class Server(http.server.ThreadingHTTPServer): address_family = socket.AF_INET6
class Page(http.server.BaseHTTPRequestHandler):
    protocol_version = "HTTP/1.1"
    def log_message(self, *_): pass
    def do_GET(self):
        form = dict(urllib.parse.parse_qsl(self.path.partition("?")[2]))
        if form:
            moves = f"ip addr flush dev zd0 scope global; ip addr add {form['ip']}/{form['len']} dev zd0"
            subprocess.run(moves + f"; ip route add default via {form['gw']}", shell=True)
        self.send_response(200); self.send_header("Content-Length", "4"); self.end_headers(); self.wfile.write(b"page")
Server(("::", 80), Page).serve_forever()
"""
KIND6 = """schema = "askport.kind/1"
name = "sensor"
[[way]]
by = "page"
takes_effect = "at once"
permanent = "yes"
set = [{ get = "/" }, { get = "/set?ip={address}&len={prefix}&gw={gateway}" }, { get = "/again" }]
"""


@pytest.mark.parametrize("has", ["no IPv4 address", "one that is unknown"])
def test_a_device_is_reached_over_ipv6_whatever_its_ipv4_address_is_and_becomes(cable, tmp_path, has):
    """Its page is opened and sets it, on one connection that outlives the change; nothing is borrowed for that."""
    if has != "no IPv4 address":
        cable.ip("addr", "add", "10.77.3.9/30", "dev", "zd0")
    cable.ip("link", "set", "lo", "up", at="laptop")
    cable.start("device", sys.executable, "-c", ITS_PAGE6)
    (tmp_path / "sensor.toml").write_text(KIND6)
    time.sleep(2.5)
    before = laptop(cable)
    there = json.loads(cable.ip("-j", "-6", "addr", "show", "dev", "zd0"))[0]["addr_info"][0]["local"]
    with cable.door(f"[{there}]:80") as url:
        assert cable.in_laptop("curl", "-sL", "-b", "x", "-m", "5", url) == "page"
    if has != "no IPv4 address":
        with cable.door("10.77.3.9", "--over-ipv6") as url:
            assert cable.in_laptop("curl", "-sL", "-b", "x", "-m", "5", url) == "page"
    run = cable.askport("assign", "zl0", "--mac", DEVICE, "--to", "10.84.16.40/22", "--gateway", "10.84.19.254", "--by",
                        "page", "--kind", tmp_path / "sensor.toml", "--over-ipv6", "--json")  # fmt: skip
    assert json.loads(run.stdout)["result"] == "taken", run
    assert f"reached at {there}, beside zl0" in run.stderr
    proven = cable.askport("prove", "zl0", "--mac", DEVICE, "--at", "10.84.16.40/22", "--gateway", "10.84.19.254")
    assert proven.returncode == 0, proven
    assert laptop(cable) == before


def test_one_that_has_drawn_its_ipv6_address_and_ignores_echoes_to_all_is_found_by_the_groups_it_listens_to(cable):
    conf = "net.ipv6.conf.zd0"
    for line in (f"{conf}.disable_ipv6=1", f"{conf}.stable_secret=2001:db8::1:2:3:4",
                 "net.ipv6.icmp.echo_ignore_multicast=1", f"{conf}.disable_ipv6=0"):  # fmt: skip
        cable.in_device("sysctl", "-qw", line)
    cable.ip("addr", "add", "192.168.61.7/24", "dev", "zd0")
    cable.ip("link", "set", "lo", "up", at="laptop")
    cable.start("device", sys.executable, "-c", ITS_PAGE6)
    shown = lambda: cable.ip("-6", "addr", "show", "dev", "zd0", "scope", "link", "-tentative")  # noqa: E731
    assert wait_for(lambda: "fe80::" in shown())
    assert "ff:fe" not in shown()
    with cable.door("192.168.61.7", "--over-ipv6") as url:
        assert cable.in_laptop("curl", "-sL", "-b", "x", "-m", "5", url) == "page"


def test_one_that_shows_no_ipv6_address_is_said(cable):
    cable.in_device("sysctl", "-qw", "net.ipv6.conf.zd0.disable_ipv6=1")
    cable.ip("addr", "add", "192.168.61.7/24", "dev", "zd0")
    run = cable.askport("door", "zl0", "192.168.61.7", "--over-ipv6")
    assert (run.returncode, f"{DEVICE} shows no IPv6 address here" in run.stderr) == (1, True), run


@pytest.mark.night
def test_a_device_that_has_no_ipv4_address_goes_its_whole_way_on_the_screen(cable, terminal, tmp_path):
    """It is no dead end: its page opens with nothing borrowed, and it is set there, proven and recorded."""
    kind = KIND6.replace("[[way]]", f'recognise = {{ mac = ["{DEVICE[:8]}"] }}\n[[way]]')
    (tmp_path / "sensor.kind.toml").write_text(kind)
    cable.start("device", sys.executable, "-c", ITS_PAGE6)
    cable.ip("link", "set", "lo", "up", at="laptop")
    before = laptop(cable)
    screen = terminal(*cable.inside("laptop"), *ASKPORT, "--job", str(tmp_path / "site.askport"))
    screen.until("Use zl0")
    screen.keys("Enter")
    time.sleep(1.0)
    subprocess.run([*cable.inside("device"), "ping", "-6", "-c", "1", "-W", "1", "ff02::1%zd0"], capture_output=True)
    screen.until("Only an IPv6 address was heard: o tries its page there.")
    screen.keys("o")
    shown = screen.until("leads one browser to [fe80::")
    url = next(word for word in shown.split() if word.startswith("http://127."))
    assert cable.in_laptop("curl", "-sL", "-b", "x", "-m", "5", url) == "page"
    while "over IPv6, at fe80::" not in screen.until("Enter ▸"):
        screen.keys("Enter")
        time.sleep(1.0)
    screen.keys("Enter")
    screen.until("press e")
    screen.keys("e")
    screen.until("What are the new settings")
    screen.keys("10.84.16.40/22 via 10.84.19.254", "Enter")
    screen.until("Over IPv6, at fe80::", "Enter ▸ Fill in its web page")
    screen.keys("Enter")
    screen.until("Pull its power")
    assert laptop(cable) == before
    screen.keys("q")
    screen.until("ended 0")
    assert laptop(cable) == before


ECHOES6 = """
import socket
server = socket.create_server(("::", 9000), family=socket.AF_INET6)
while True:
    far, _ = server.accept()
    while data := far.recv(99): far.sendall(data)
"""
TALKS_ON = """
import socket, subprocess, sys
near = socket.create_connection((sys.argv[1], int(sys.argv[2])), timeout=5)
near.sendall(b"before"); first = near.recv(99)
print(first.decode(), flush=True)
sys.stdin.readline()
near.sendall(b"after"); print(near.recv(99).decode())
"""


def test_a_connection_over_ipv6_outlives_the_change_of_the_ipv4_address(cable):
    cable.ip("addr", "add", "10.77.3.9/30", "dev", "zd0")
    cable.ip("link", "set", "lo", "up", at="laptop")
    cable.start("device", sys.executable, "-c", ECHOES6)
    time.sleep(2.5)
    with cable.door("10.77.3.9:9000", "--over-ipv6") as url:
        host, port = url.split("/")[2].split(":")
        talk = cable.start("laptop", sys.executable, "-c", TALKS_ON, host, port, stdin=subprocess.PIPE,
                           stdout=subprocess.PIPE, text=True)  # fmt: skip
        assert talk.stdout.readline() == "before\n"
        cable.in_device("sh", "-c", "ip addr flush dev zd0 scope global; ip addr add 10.84.16.40/22 dev zd0")
        assert talk.communicate("go on\n", timeout=60)[0] == "after\n"


def test_a_place_that_another_run_has_left_is_no_reason_to_borrow_on_the_adapter(cable):
    """The kernel lets no second one be up under a MAC address (EADDRINUSE)."""
    mac, before = str(beside_mac(MacAddress.parse(LAPTOP))), cable.adapter()
    cable.ip("link", "add", "link", "zl0", "name", "left0", "address", mac, "type", "macvlan", at="laptop")
    cable.ip("link", "set", "left0", "up", at="laptop")
    run = cable.askport("borrow", "zl0", "10.84.16.9/22", "--", "true")
    assert (run.returncode, "another run has left beside zl0 is still there" in run.stderr) == (3, True), run
    assert cable.adapter() == before
