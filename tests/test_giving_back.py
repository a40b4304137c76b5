"""What is borrowed is given back: many ends at many moments, twins, two adapters, a real network manager."""

import fcntl
import itertools
import json
import os
import random
import signal
import socket
import subprocess
import sys
import termios
import time
from pathlib import Path

import pytest

from askport.edges.packet_filter import assemble
from conftest import ASKPORT, wait_for

ENDINGS = int(os.environ.get("ASKPORT_ENDINGS", "7"))
"""How many; ``make endings`` asks for 210."""
CHANGES = (
    ["10.84.16.9/22"],
    ["10.84.16.9/22", "--pin", "10.84.16.40=02:00:00:00:00:99"],
    ["10.84.16.9/22", "--instead", "--pin", "192.0.2.1=02:00:00:00:00:99"],
    ["10.84.16.9/22", "10.84.16.10/22", "172.29.4.50/24", "--pin", "172.29.4.100=02:00:00:00:00:99"],
    ["192.0.2.9/24", "172.29.4.50/24", "--instead"],
    ["10.84.16.9/22", "--route", "203.0.113.0/24=10.84.16.40"],
)
FETCH = ("curl", "-sSLf", "-b", "x", "-m", "5")
WAYS_TO_END = ("SIGTERM", "SIGKILL", "SIGINT", "keeper", "both", "terminal")


def snapshot(cable):
    """Return addresses, routes and neighbours of the adapter; what is left of a lifetime does not count."""
    told = [json.loads(cable.ip("-j", kind, "show", *dev, at="laptop")) for kind, dev in
            (("addr", ["dev", "zl0"]), ("route", []), ("neigh", ["dev", "zl0"]))]  # fmt: skip
    for address in told[0][0]["addr_info"]:
        for name in ("valid_life_time", "preferred_life_time"):
            address[name] = address[name] > 10_000_000
    told[2] = [each for each in told[2] if "PERMANENT" in each["state"]]
    return told


def furnish(cable):
    """Give the laptop's adapter what a used one has."""
    for address in (
        ["192.0.2.7/24", "brd", "+"],
        ["192.0.2.8/24"],
        ["198.18.0.5/16", "valid_lft", "900", "preferred_lft", "800"],
    ):
        cable.ip("addr", "add", *address, "dev", "zl0", at="laptop")
    cable.ip("route", "add", "198.51.100.0/24", "via", "192.0.2.1", "dev", "zl0", "metric", "7", at="laptop")
    cable.ip("neigh", "add", "192.0.2.1", "lladdr", "02:00:00:00:00:aa", "nud", "permanent", "dev", "zl0", at="laptop")


def end(way, program, keeper):
    if way == "keeper":
        os.kill(keeper, signal.SIGKILL)
    elif way == "both":
        os.kill(keeper, signal.SIGSTOP)
        os.kill(program.pid, signal.SIGKILL)
        os.kill(keeper, signal.SIGKILL)
    elif way == "terminal":
        os.close(program.terminal)
        program.terminal = None
    else:
        os.kill(program.pid, getattr(signal, way))


def own_terminal():
    """Make standard input the terminal whose end is the program's end."""
    fcntl.ioctl(0, termios.TIOCSCTTY, 0)


def stuck(program, terminal):
    """Have a program that does not end say where it is."""
    program.send_signal(signal.SIGABRT)
    program.wait()
    return "" if program.terminal is None else os.read(terminal, 65536).decode()[-3000:]


def test_the_adapter_is_as_before_after_every_end(cable):
    """Each end at a random moment, from before the keeper is there until long after everything was borrowed."""
    furnish(cable)
    before, dice = snapshot(cable), random.Random(7)
    for number, (change, way) in enumerate(
        itertools.islice(itertools.cycle(itertools.product(CHANGES, WAYS_TO_END)), ENDINGS)
    ):
        ours, theirs = os.openpty()
        program = subprocess.Popen([*cable.inside("laptop"), *cable.command("borrow", "zl0", *change)], stdin=theirs,
                                   stdout=theirs, stderr=theirs, start_new_session=True,
                                   env={**os.environ, "PYTHONFAULTHANDLER": "1"}, preexec_fn=own_terminal)  # fmt: skip
        os.close(theirs)
        program.terminal = ours
        keepers = lambda: Path(f"/proc/{program.pid}/task/{program.pid}/children").read_text().split()  # noqa: E731,B023
        assert wait_for(lambda: keepers() or program.poll() is not None), (change, way)  # noqa: B023
        time.sleep(dice.choice((0.0, 0.1, 0.3, 0.6, 0.9, 1.5)))
        children = keepers()
        if children:
            end(way, program, int(children[0]))
        if way == "keeper":
            program.send_signal(signal.SIGINT)
        assert wait_for(lambda: program.poll() is not None), (number, change, way, stuck(program, ours))  # noqa: B023
        if way in ("keeper", "both"):
            assert cable.askport("restore").returncode == 0
        assert wait_for(lambda: snapshot(cable) == before), (number, change, way, snapshot(cable), before)
        if program.terminal is not None:
            os.close(ours)
    assert cable.askport("restore").stdout == "Nothing was left borrowed.\n"


def test_twins_are_reached_one_by_one_in_any_order(cable, tmp_path):
    """Three namespaces with one address on a bridge, each with a page that names itself."""
    cable.bridge()
    cable.ip("link", "set", "lo", "up", at="laptop")
    macs = [f"02:00:00:00:00:1{number}" for number in range(3)]
    for number, mac in enumerate(macs):
        name = cable.behind("br0", mac, "172.29.4.100/24")
        home = tmp_path / str(number)
        home.mkdir()
        (home / "index.html").write_text(f"I am unit {number}")
        cable.start_in(name, sys.executable, "-m", "http.server", "80", cwd=home)
        cable.listens(80, at=name)
    for number in (2, 0, 1):
        run = cable.askport("borrow", "zl0", "172.29.4.50/24", "--pin", f"172.29.4.100={macs[number]}", "--",
                            *FETCH, "http://172.29.4.100/")  # fmt: skip
        assert f"I am unit {number}" in run.stdout, run.stderr
    for number in (1, 0):
        with cable.door("172.29.4.100", "--pin", macs[number]) as url:
            assert f"I am unit {number}" in cable.in_laptop(*FETCH, url)
    assert "172.29.4" not in cable.ip("addr", "show", "zl0", at="laptop")


def test_a_command_s_traffic_goes_over_the_cable_or_it_is_not_started(cable, tmp_path):
    """Both the cable and a better route have the subnet: the device that is named is reached, and else nobody."""
    cable.ip("addr", "add", "192.168.1.200/24", "dev", "zd0")
    (tmp_path / "index.html").write_text("the device")
    cable.start("device", sys.executable, "-m", "http.server", "80", cwd=tmp_path)
    cable.wifi("192.168.1.50/24", "192.168.1.200/24")
    before = cable.adapter()
    fetch = "import urllib.request as u; print(u.urlopen('http://192.168.1.200', timeout=5).read().decode())"
    time.sleep(1.0)
    run = cable.askport("borrow", "zl0", "--to", "192.168.1.200", "--on-adapter", "--", sys.executable, "-c", fetch)
    assert (run.stdout, run.returncode) == ("the device\n", 0), run.stderr
    run = cable.askport("borrow", "zl0", "192.168.1.77/24", "--on-adapter", "--", "true")
    assert run.returncode == 3, run.stderr
    assert "wl0 has 192.168.1.50/24 in the same subnet. The command would go there" in run.stderr
    assert cable.adapter() == before


def test_the_door_goes_over_the_cable_while_wi_fi_has_the_same_subnet(cable, tmp_path):
    """A second adapter with a better route to the same subnet: the door still reaches the device on the cable."""
    cable.ip("addr", "add", "192.168.1.200/24", "dev", "zd0")
    (tmp_path / "index.html").write_text("the device")
    cable.start("device", sys.executable, "-m", "http.server", "80", cwd=tmp_path)
    cable.ip("link", "set", "lo", "up", at="laptop")
    cable.wifi("192.168.1.50/24", "192.168.1.200/24")
    time.sleep(1.0)
    with cable.door("192.168.1.200:80") as url:
        nobody = ["setpriv", "--reuid=65534", "--regid=65534", "--clear-groups"]
        stranger = subprocess.run([*cable.inside("laptop"), *nobody, *FETCH, url], capture_output=True, text=True)
        assert (stranger.returncode > 0, stranger.stdout) == (True, ""), "another local user is not let in"
        assert cable.in_laptop(*FETCH, url) == "the device"
        wifi = subprocess.run(
            [*cable.inside("laptop"), "ping", "-c1", "-W2", "-I", "wl0", "192.168.1.200"], capture_output=True
        )
        assert wifi.returncode == 0
    for wrong, said in (("10.84.16.40:99999", "not a TCP port"), ("fe80::zz", "not an address of a device")):
        run = cable.askport("door", "zl0", wrong)
        assert (run.returncode, said in run.stderr) == (2, True)


def test_a_device_is_reached_by_its_ipv6_link_local_address(cable, tmp_path):
    (tmp_path / "index.html").write_text("over IPv6")
    for at, dev in (("laptop", "zl0"), ("device", "zd0")):
        cable.ip("link", "set", dev, "addrgenmode", "eui64", at=at)
        cable.ip("addr", "add", "fe80::1:2/64" if at == "laptop" else "fe80::99/64", "dev", dev, "nodad", at=at)
    cable.ip("link", "set", "lo", "up", at="laptop")
    cable.start("device", sys.executable, "-m", "http.server", "80", "--bind", "::", cwd=tmp_path)
    cable.listens(80)
    with cable.door("[fe80::99]:80") as url:
        assert cable.in_laptop(*FETCH, url) == "over IPv6"


MANAGED = {
    "NetworkManager": (["nmcli", "-g", "GENERAL.NM-MANAGED", "device", "show", "zl0"], "yes", "no"),
    "/lib/systemd/systemd-networkd": (["networkctl", "list", "--no-legend", "zl0"], "configured", "unmanaged"),
    "dhcpcd": (["echo", "it goes on"], "on", "on"),
}


@pytest.mark.by_day(0)
@pytest.mark.parametrize("manager", MANAGED)
def test_what_is_borrowed_survives_a_network_manager_which_gets_its_adapter_back(cable, manager):
    """A real one, in charge of the adapter: some take a foreign address off, at the latest when the link comes back."""
    question, managed, let_go = MANAGED[manager]
    with cable.managed(manager) as beside:
        state = lambda: subprocess.run([*beside, *question], capture_output=True, text=True).stdout.strip()  # noqa: E731
        assert wait_for(lambda: state().endswith(managed)), state()
        before = snapshot(cable)
        program = subprocess.Popen([*beside, *ASKPORT, "borrow", "zl0", "10.84.16.9/22"], stderr=subprocess.DEVNULL)
        assert wait_for(lambda: "10.84.16.9" in cable.adapter())
        assert state().endswith(let_go), state()
        assert "192.168.7.5/24" in cable.adapter()
        cable.ip("link", "set", "zd0", "down")
        time.sleep(1.5)
        cable.ip("link", "set", "zd0", "up")
        time.sleep(1.5)
        assert "10.84.16.9" in cable.adapter()
        program.kill()
        program.wait()
        assert wait_for(lambda: snapshot(cable) == before), f"\n{snapshot(cable)}\n{before}"
        assert wait_for(lambda: state().endswith(managed)), state()
        run = subprocess.run([*beside, *ASKPORT, "borrow", "zl0", "10.84.16.9/22", "--instead", "--", "ip", "addr"],
                             capture_output=True, text=True)  # fmt: skip
        if manager == "dhcpcd":
            assert (run.returncode, "borrow beside them, not instead" in run.stderr) == (3, True), run
        else:
            assert ("10.84.16.9/22" in run.stdout, "192.168.7.5" in run.stdout) == (True, False), run
        assert wait_for(lambda: snapshot(cable) == before), f"\n{snapshot(cable)}\n{before}"


NONSENSE = (
    b'{"verb": "enter", "place": 0}', b'{"verb": "socket", "place": 0, "family": 2, "kind": 1}',
    b'{"verb": "claim", "place": 0, "macs": ["00:00:5e:00:53:01"]}', b'{"verb": "claim", "place": 0, "macs": []}',
    b'{"verb": "claim", "place": 0, "macs": ["../../etc"]}', b'{"verb": "namespace", "place": [0]}',
    b"\xff\xfe", b"[]", b"{}", b'{"verb": "shell", "run": "id"}', b'{"verb": ["borrow"]}', b'{"verb": "borrow"}',
    b'{"verb": "borrow", "address": "10.0.0.1/8; reboot"}', b'{"verb": "borrow", "address": {"a": 1}}',
    b'{"verb": "pin", "address": "10.0.0.1", "mac": "zz"}', b'{"verb": "pin", "address": "10.0.0.1", "mac": "00"}',
    b'{"verb": "take", "adapter": "zl2"}',
    b'{"verb": "route", "to": "x", "via": "y"}', b'{"verb": "open", "filter": "0"}', b"[" * 8000,
    b'{"verb": "borrow", "address": "10.0.0.9/24", "adapter": "zl1", "index": 1}',
)  # fmt: skip


HOLDS_NAME = (
    "import socket, time; s = socket.socket(socket.AF_UNIX); s.bind(chr(0) + 'askport-keeper-zl0'); time.sleep(30)"
)


def test_nobody_else_can_keep_an_adapter_from_being_borrowed(cable):
    """What tells that it is in use lies where only root can write."""
    cable.start("laptop", "setpriv", "--reuid=65534", "--clear-groups", "python3", "-c", HOLDS_NAME)
    time.sleep(0.5)
    assert cable.askport("borrow", "zl0", "10.84.16.9/22", "--on-adapter", "--", "true").returncode == 0
    assert Path("/run/askport").stat().st_mode & 0o077 == 0


def test_the_keeper_refuses_everything_but_its_verbs_on_its_adapter(cable):
    """Nonsense is answered with a sentence, another adapter's name is not listened to, and it stays at its post."""
    cable.ip("link", "add", "zl1", "type", "veth", "peer", "name", "zl2", at="laptop")
    other = cable.ip("addr", "show", "zl1", at="laptop")
    before = snapshot(cable)
    ours, theirs = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
    ours.settimeout(5)
    keeper = subprocess.Popen([*cable.inside("laptop"), sys.executable, "-I", "-m", "askport.edges.keeper",
                               str(theirs.fileno())], pass_fds=[theirs.fileno()])  # fmt: skip
    theirs.close()
    ours.send(json.dumps({"verb": "take", "adapter": "zl0"}).encode())
    assert json.loads(ours.recv(8192)) == {"ready": True}
    for message in NONSENSE:
        ours.send(message)
        answer = json.loads(ours.recv(8192))
        assert ("error" in answer) is (b"zl1" not in message), (message, answer)
    assert cable.ip("addr", "show", "zl1", at="laptop") == other
    ours.send(json.dumps({"verb": "open", "filter": assemble().hex()}).encode())
    answer, descriptors, _, _ = socket.recv_fds(ours, 8192, 1)
    assert (json.loads(answer)["mac"], len(descriptors)) == ("02:00:00:00:00:01", 1)
    os.close(descriptors[0])
    ours.close()
    assert keeper.wait(60) == 0
    assert wait_for(lambda: snapshot(cable) == before)


def test_an_adapter_that_is_pulled_out_is_said_to_be_gone(cable):
    program = subprocess.Popen([*cable.inside("laptop"), *cable.command("borrow", "zl0", "10.84.16.9/22")],
                               stderr=subprocess.PIPE, stdout=subprocess.DEVNULL, text=True)  # fmt: skip
    assert wait_for(lambda: "10.84.16.9" in cable.adapter())
    cable.ip("link", "del", "zl0", at="laptop")
    said = program.communicate(timeout=60)[1]
    assert (program.returncode, "zl0 has vanished" in said) == (3, True), said
