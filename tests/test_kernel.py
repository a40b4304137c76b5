"""The whole way on a real kernel's wire: network namespaces, a virtual cable, a real DHCP client and server."""

import json
import os
import shutil
import signal
import subprocess
import sys
import tempfile
import time
from ipaddress import IPv4Address
from pathlib import Path
from random import Random

import pytest

from askport.core.addresses import MacAddress
from askport.core.formats import arp, ethernet, tcp
from askport.core.formats.packet import Ends, frame_between
from askport.edges import invoker
from conftest import DEVICE, LAPTOP, again, askport, children, wait_for
from test_readers import TOLD

CLIENT_SCRIPT = """#!/bin/sh
[ "$1" = bound ] || [ "$1" = renew ] || exit 0
ip addr flush dev "$interface"
ip addr add "$ip/$mask" dev "$interface"
ip route add default via "$router"
"""


def one_sentence(run, status):
    """An error is one line without a traceback, with the contract's exit status."""
    assert run.returncode == status, run.stderr
    assert run.stdout == ""
    assert run.stderr.count("\n") == 1
    return run.stderr


def test_a_silent_device_is_called_and_certain(cable):
    cable.ip("addr", "add", "10.84.16.40/22", "dev", "zd0")
    run = cable.askport(
        "find", "zl0", "--loudness", "call", "--within", "10.84.16.0/24", "--seconds", 10, "--until-found", "--json"
    )
    assert run.returncode == 0, run.stderr
    document = json.loads(run.stdout)
    device = document["devices"][0]
    assert (device["mac"], device["addresses"][0]["address"]) == (DEVICE, "10.84.16.40")
    assert device["addresses"][0]["belief"] == "certain"
    assert (document["laptop_macs"], document["frames"]["lost"]) == ([LAPTOP], 0)


def test_a_device_that_looks_for_its_gateway_is_heard_without_a_frame_of_ours(cable):
    cable.ip("addr", "add", "192.168.61.7/24", "dev", "zd0")
    cable.ip("route", "add", "default", "via", "192.168.61.254")
    cable.start("device", "ping", "-c", "40", "-i", "0.2", "203.0.113.1")
    run = cable.askport("find", "zl0", "--loudness", "listen", "--seconds", 3, "--json")
    assert run.returncode == 0, run.stderr
    belief = json.loads(run.stdout)["devices"][0]["addresses"][0]
    assert (belief["address"], belief["belief"], belief["origin"]) == ("192.168.61.7", "certain", "unknown")
    assert (belief["gateway"], belief["gateway_basis"]) == ("192.168.61.254", "heard")
    assert "asked for 192.168.61.254 from 192.168.61.7" in belief["because"][0]


def test_nothing_is_nothing_and_what_the_machine_refuses_is_said_in_a_line(cable):
    empty = cable.askport("find", "zl0", "--loudness", "call", "--within", "10.84.16.0/30", "--seconds", 1, "--json")
    assert empty.returncode == 1
    assert all(device["addresses"] == [] for device in json.loads(empty.stdout)["devices"])
    assert "There is no adapter 'nope'" in one_sentence(cable.askport("find", "nope"), 3)
    holder = cable.start("laptop", *cable.command("borrow", "zl0", "10.84.16.9/22"))
    assert wait_for(lambda: "10.84.16.9" in cable.adapter()), "the borrowed address"
    other = cable.askport("borrow", "zl0", "10.84.16.10/22", "--on-adapter", "--", "true")
    assert "Another run of Ask Port has borrowed on zl0" in one_sentence(other, 3)
    holder.send_signal(signal.SIGINT)
    assert holder.wait(60) == 130
    cable.ip("link", "set", "zd0", "down")
    run = cable.askport("find", "zl0", "--seconds", 1, "--json")
    assert (run.returncode, run.stdout) == (3, ""), run.stderr
    assert "zl0 has no link: plug" in run.stderr.splitlines()[-1]


def test_a_real_client_takes_the_address_and_it_is_proven_until_it_moves(cable, tmp_path):
    script = tmp_path / "script"
    script.write_text(CLIENT_SCRIPT)
    script.chmod(0o755)
    # Its first words are no request: it looks for a neighbour of before until its client starts.
    cable.ip("addr", "add", "192.168.61.9/24", "dev", "zd0")
    words = 'ping -q -i 0.5 -w 4 192.168.61.1; ip addr flush dev zd0; exec "$@"'
    udhcpc = ["udhcpc", "-i", "zd0", "-f", "-t", "30", "-T", "1", "-s", str(script)]
    cable.start("device", "sh", "-c", words, "sh", *udhcpc)
    target = ["--mac", DEVICE, "--to", "10.84.16.21/22", "--gateway", "10.84.19.254"]
    job = tmp_path / "job.askport"
    run = cable.askport(
        "assign", "zl0", *target, "--by", "dhcp", "--seconds", 20, "--job", job, "--tag", "BL-01", "--json"
    )
    assert run.returncode == 0, run.stdout + run.stderr
    document = json.loads(run.stdout)
    assert (document["result"], document["permanent"]) == ("taken", False)
    assert "inet 10.84.16.21/22" in cable.ip("addr", "show", "zd0")
    assert "default via 10.84.19.254" in cable.ip("route")

    prove = ["prove", "zl0", "--mac", DEVICE, "--at", "10.84.16.21/22", "--was", "192.168.61.7", "--job", job, "--json"]
    run = cable.askport(*prove)
    assert run.returncode == 0, run.stdout + run.stderr
    assert [each["passed"] for each in json.loads(run.stdout)["proofs"]] == [True, True, True, True]
    row = json.loads(cable.askport("register", "list", job, "--json").stdout)["devices"][0]
    assert (row["tag"], row["result"], row["as_found"]["asked_by"]) == ("BL-01", "taken", "dhcp")
    bases = {name: (value["value"], value["basis"]) for name, value in row["as_left"].items()}
    assert bases["address"] == ("10.84.16.21", "measured")
    assert bases["prefix"] == (22, "measured")
    assert bases["gateway"] == ("10.84.19.254", "measured")
    assert (bases["dns"], row["state"], row["proofs_left_out"]) == (([], "given"), "unproven", ["power-cycle"])

    cable.ip("link", "set", "zd0", "down")
    cable.ip("link", "set", "zd0", "address", "02:00:00:00:00:77", "up")
    cable.ip("addr", "replace", "10.84.16.21/22", "dev", "zd0")
    run = cable.askport(*prove)
    assert run.returncode == 1
    failed = [each for each in json.loads(run.stdout)["proofs"] if not each["passed"]]
    assert "same-mac" in [each["name"] for each in failed]
    assert "held by 02:00:00:00:00:77, not by" in failed[0]["because"]


def test_where_a_server_gives_out_addresses_nobody_is_answered(cable, tmp_path):
    cable.ip("addr", "add", "10.84.19.253/22", "dev", "zd0")
    config, leases = tmp_path / "udhcpd.conf", tmp_path / "leases"
    leases.touch()
    config.write_text(
        f"start 10.84.18.1\nend 10.84.18.9\ninterface zd0\nlease_file {leases}\npidfile {tmp_path}/pid\n"
        "option subnet 255.255.252.0\n"
    )
    cable.start("device", "udhcpd", "-f", str(config))
    run = cable.askport(
        "assign", "zl0", "--mac", "02:00:00:00:00:55", "--to", "10.84.16.21/22", "--by", "dhcp", "--json"
    )
    assert run.returncode == 1, run.stderr
    document = json.loads(run.stdout)
    assert document["result"] == "refused"
    assert "Another address server answers here (10.84.19.253" in document["because"]


@pytest.mark.parametrize("comes", [True, False])
def test_find_waits_for_the_link_and_hears_the_first_words(cable, comes):
    """Started before the device has power: what it says when its link comes is in the answer."""
    cable.ip("link", "set", "zd0", "down")
    # The kernel tells of a lost carrier once a second only.
    assert wait_for(lambda: "state DOWN" in cable.ip("link", "show", "zl0", at="laptop"))
    find = ["find", "zl0", "--loudness", "listen", "--seconds", 25 if comes else 2, "--until-found", "--json"]
    program = cable.start("laptop", *cable.command(*find), stdout=subprocess.PIPE)
    if not comes:
        assert (program.wait(60), program.stdout.read()) == (3, b"")
        return
    time.sleep(4)
    cable.ip("addr", "add", "192.168.61.7/24", "dev", "zd0")
    cable.ip("link", "set", "zd0", "up")
    cable.start("device", "ping", "-c", "1", "192.168.61.254")
    document = json.loads(program.communicate(timeout=30)[0])
    assert (program.returncode, document["devices"][0]["addresses"][0]["belief"]) == (0, "certain")


PLANNED, BY_DEFAULT = {"prefix": 22, "gateway": "10.84.19.254"}, "default via 10.84.19.254"


@pytest.mark.by_day(0, 2, 5, 6, 8, 10, 11)
@again
@pytest.mark.parametrize(
    ("prefix", "routes", "lets_in", "failed", "measured", "said"),
    [
        (22, [BY_DEFAULT], "", [], PLANNED, ""),
        (24, [BY_DEFAULT], "", ["mask"], PLANNED | {"prefix": 24}, ""),
        (16, [BY_DEFAULT], "", ["mask"], PLANNED | {"prefix": 16}, ""),
        (22, ["default via 10.84.19.1"], "", ["gateway"], PLANNED | {"gateway": "10.84.19.1"}, ""),
        (22, [], "", [], {"prefix": 22}, "it has no gateway, or it lets nobody outside in"),
        (22, [BY_DEFAULT], "ip saddr != 10.84.16.0/24 drop", ["echo"], {}, "may be what it lets in"),
        (22, [BY_DEFAULT], "ip saddr != 10.84.16.0/22 drop", [], {"prefix": 22}, "or it lets nobody outside in"),
        (22, [BY_DEFAULT], "icmp type echo-request limit rate over 1/second drop", [], PLANNED, ""),
        (22, [BY_DEFAULT, "10.0.0.0/8 via 10.84.16.1"], "", [], PLANNED, ""),
        (22, ["10.0.0.0/8 via 10.84.19.254"], "", [], {"prefix": 22}, "to all other addresses it stays silent"),
        (22, ["default nexthop via 10.84.19.254 nexthop via 10.84.16.1"], "", ["gateway"], {"prefix": 22},
         "It sends through more than one gateway"),
        (22, [BY_DEFAULT, "neighbour"], "", [], {"prefix": 22}, "does not say which address its gateway has"),
    ],
)  # fmt: skip
def test_mask_and_gateway_are_what_was_measured_and_what_nothing_shows_is_not_shown(
    cable, prefix, routes, lets_in, failed, measured, said, run
):
    cable.ip("addr", "add", f"10.84.16.21/{prefix}", "dev", "zd0")
    cable.in_device("sysctl", "-qw", "net.ipv4.fib_multipath_hash_policy=0")
    for each in routes:
        if each == "neighbour":
            cable.ip("neigh", "add", "10.84.19.254", "lladdr", "02:00:00:00:00:77", "nud", "permanent", "dev", "zd0")
        else:
            cable.ip(
                "route",
                "add",
                *each.replace("nexthop via", "nexthop dev zd0 onlink via").split(),
                *([] if "nexthop" in each else ["dev", "zd0", "onlink"]),
            )
    rules = f"table ip t {{\nchain c {{\ntype filter hook input priority 0;\n{lets_in}\n}}\n}}\n"
    subprocess.run([*cable.inside("device"), "nft", "-f", "-"], input=rules, text=True, check=True)
    made = cable.askport(
        "prove", "zl0", "--mac", DEVICE, "--at", "10.84.16.21/22", "--gateway", "10.84.19.254", "--json"
    )
    document = json.loads(made.stdout)
    assert [each["name"] for each in document["proofs"] if each["passed"] is False] == failed, document
    assert document["passed"] is (measured == PLANNED), document
    assert made.returncode == (0 if measured == PLANNED else 1)
    for name in PLANNED:
        left = document["as_left"][name]
        assert (left["value"], left["basis"] == "measured") == (measured.get(name), name in measured), document
    there = {"value": "10.84.16.21", "basis": "measured"} if "echo" not in failed else {"value": None, "basis": None}
    assert document["as_left"]["address"] == there  # ARP alone shows nobody
    assert said in " ".join(each["because"] for each in document["proofs"]), document


@again
@pytest.mark.parametrize("kept", ["on another port", "nowhere"])
def test_an_old_address_that_is_kept_on_another_port_is_not_left(cable, kept, run):
    cable.ip("addr", "add", "10.84.16.21/22", "dev", "zd0")
    cable.in_device("sysctl", "-qw", "net.ipv4.conf.all.arp_ignore=1")
    cable.ip("link", "add", "second", "type", "veth", "peer", "name", "third")
    cable.ip("link", "set", "second", "up")
    if kept == "on another port":
        cable.ip("addr", "add", "192.168.61.7/24", "dev", "second")
    made = cable.askport("prove", "zl0", "--mac", DEVICE, "--at", "10.84.16.21/22", "--was", "192.168.61.7", "--json")
    gone = next(each for each in json.loads(made.stdout)["proofs"] if each["name"] == "old-gone")
    assert (gone["passed"], made.returncode) == ((True, 0) if kept == "nowhere" else (False, 1)), made.stdout


PAGE = """
import http.server, os, subprocess
class Page(http.server.BaseHTTPRequestHandler):
    def do_GET(self):
        self.send_response(200); self.end_headers(); self.wfile.write(b"saved")
        subprocess.Popen("sleep 0.2; ip addr flush dev zd0; ip addr add 10.84.16.21/22 dev zd0",
                         shell=True)
http.server.HTTPServer(("", 80), Page).serve_forever()
"""


def test_by_hand_its_page_is_reached_where_it_is_and_the_move_is_seen(cable):
    """The laptop borrows what reaches it, and a door stands beside: the form is sent, and the device has moved."""
    cable.ip("addr", "add", "192.168.61.7/24", "dev", "zd0")
    cable.ip("link", "set", "lo", "up", at="laptop")
    cable.start("device", sys.executable, "-c", PAGE)
    assign = ["assign", "zl0", "--mac", DEVICE, "--to", "10.84.16.21/22", "--by", "hand", "--at", "192.168.61.7"]
    pipes = {"stdout": subprocess.PIPE, "stderr": subprocess.PIPE, "text": True}
    program = cable.start("laptop", *cable.command(*assign, "--json"), **pipes)
    url = ""
    while "Its page is at" not in url:
        url = program.stderr.readline()
    fetch = "import sys, urllib.request as u; print(u.urlopen(sys.argv[1], timeout=5).read())"
    assert "saved" in cable.in_laptop(sys.executable, "-c", fetch, url.split()[4].rstrip(","))
    document = json.loads(program.communicate(timeout=30)[0])
    assert (document["result"], program.returncode) == ("taken", 0)
    assert "10.84" not in cable.adapter()


def test_what_proves_waits_for_the_link_as_what_finds_does(cable):
    """The cable is plugged in, or the device gets its power, after the command was typed."""
    cable.ip("addr", "add", "10.84.16.21/22", "dev", "zd0")
    cable.ip("link", "set", "zd0", "down")
    program = cable.start("laptop", *cable.command("prove", "zl0", "--mac", DEVICE, "--at", "10.84.16.21/22"),
                          stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)  # fmt: skip
    assert "has no link yet: plug the cable in at both ends" in program.stderr.readline()
    cable.ip("link", "set", "zd0", "up")
    assert "ping to 10.84.16.21" in program.communicate(timeout=60)[0]
    assert program.returncode == 0


AS_USER = """
import sys
sys.path.insert(0, sys.argv.pop(1))
from askport.cli.main import main
main()
"""


def test_a_job_under_sudo_is_the_users_and_keeps_the_outcome(cable, tmp_path):
    """Made as whoever called, who cannot enter the folder of the program, and tried before anything is changed."""
    own = tmp_path / "src"
    shutil.copytree(Path(invoker.__file__).parents[2], own)
    tmp_path.chmod(0o700)
    home = Path(tempfile.mkdtemp())
    os.chown(home, 65534, 65534)
    cable.ip("addr", "add", "10.84.16.21/22", "dev", "zd0")
    job = home / "new.askport"
    prove = ["prove", "zl0", "--mac", DEVICE, "--at", "10.84.16.21/22", "--job", str(job), "--tag", "BL-01"]
    as_user = [*cable.inside("laptop"), "env", "SUDO_UID=65534", "SUDO_GID=65534", sys.executable, "-c", AS_USER, own]
    try:
        run = subprocess.run([*as_user, *prove], capture_output=True, text=True)
        assert run.returncode == 0, run.stderr
        assert job.stat().st_uid == 65534
        row = json.loads(askport("register", "list", job, "--json").stdout)["devices"][0]
        assert (row["tag"], row["state"], row["as_left"]["prefix"]["basis"]) == ("BL-01", "unproven", "measured")
        run = subprocess.run([*as_user, "report", job, "--out", home / "papers"], capture_output=True, text=True)
        assert {each.stat().st_uid for each in (home / "papers").iterdir()} == {65534}, run.stderr
        os.chown(home, 0, 0)
        job.chmod(0o444)
        run = subprocess.run([*as_user, *prove], capture_output=True, text=True)
        assert (run.returncode, run.stderr.count("The job file"), "Borrowed" in run.stderr) == (3, 1, False), run.stderr
    finally:
        shutil.rmtree(home)


RACES = int(os.environ.get("ASKPORT_RACES", "3"))
"""How often a client starts beside a real server; ``make races`` does it 100 times."""


@pytest.mark.parametrize("race", range(RACES))
def test_beside_a_server_that_pings_before_it_offers_no_client_is_ever_answered(cable, tmp_path, race):
    """dnsmasq at its defaults answers after 3 s; a client starts at any moment of the first ten seconds."""
    cable.bridge()
    server = cable.behind("br0", "02:00:00:00:00:53", "10.84.19.253/22")
    client = cable.behind("br0", "02:00:00:00:00:21", None)
    cable.partner("dnsmasq", "-k", "-C", "/dev/null", "-p", "0", "-i", "e0", "-u", "root", "-l",
                  str(tmp_path / "leases"), "--dhcp-range", "10.84.18.1,10.84.18.99,1h", at=server)  # fmt: skip
    time.sleep(0.5)
    script = tmp_path / "script"
    script.write_text(CLIENT_SCRIPT)
    script.chmod(0o755)
    delay = Random(race).uniform(0, 10)
    udhcpc = ["udhcpc", "-i", "e0", "-f", "-t", "30", "-T", "1", "-s", str(script)]
    cable.start_in(client, "sh", "-c", f'sleep {delay}; exec "$@"', "sh", *udhcpc)
    run = cable.askport("assign", "zl0", "--mac", "02:00:00:00:00:21", "--to", "10.84.16.21/22", "--by", "dhcp",
                        "--others-are-fine", "--seconds", 16, "--json")  # fmt: skip
    document = json.loads(run.stdout)
    said = [step["text"] for step in document["steps"]]
    assert (document["result"], [each for each in said if "answered" in each and "No other" not in each]) == (
        "refused", []), (delay, said)  # fmt: skip
    assert "10.84.19.253" in document["because"]


@again
@pytest.mark.parametrize("is_pulled", [False, True])
def test_a_cable_that_is_pulled_for_an_instant_is_another_one(cable, is_pulled, run):
    """In the site's socket first, then straight in the device: the server there was another cable's."""
    cable.ip("addr", "add", "10.9.0.1/24", "dev", "zd0")
    server = cable.partner("dnsmasq", "-k", "-C", "/dev/null", "-p", "0", "-i", "zd0", "-u", "root", "-l", "/dev/null",
                           "--no-ping", "-F", "10.9.0.10,10.9.0.20")  # fmt: skip
    cable.listens(67, over="udp")
    finding = cable.start("laptop", *cable.command("find", "zl0", "--loudness", "greet", "--seconds", 12, "--json"),
                          stdout=subprocess.PIPE, text=True)  # fmt: skip
    time.sleep(6)
    server.kill()
    server.wait()
    if is_pulled:
        cable.in_device("sh", "-c", "ip link set zd0 down; ip link set zd0 up")
    told = json.loads(finding.communicate(timeout=60)[0])
    assert ("address-server" in [each["code"] for each in told["hazards"]]) is not is_pulled, told["hazards"]


def test_what_is_borrowed_works_and_is_given_back(cable):
    cable.ip("addr", "add", "10.84.16.40/22", "dev", "zd0")
    cable.ip("addr", "add", "192.0.2.7/24", "dev", "zl0", at="laptop")
    before = cable.adapter()
    run = cable.askport("borrow", "zl0", "10.84.16.9/22", "--", "ping", "-c1", "-W2", "10.84.16.40")
    assert run.returncode == 0, run.stderr
    assert "1 received" in run.stdout
    assert cable.adapter() == before
    assert cable.askport("borrow", "zl0", "--to", "10.84.16.40", "--", "sh", "-c", "exit 7").returncode == 7
    assert "in use by" in one_sentence(cable.askport("borrow", "zl0", "10.84.16.40/22"), 1)
    assert cable.adapter() == before
    known = cable.ip("-4", "neigh", "show", "dev", "zl0", at="laptop")
    run = cable.askport("borrow", "zl0", "10.84.16.9/22", "--on-adapter", "--", "ping", "-c1", "-W2", "10.84.16.40")
    assert ("1 received" in run.stdout, cable.adapter()) == (True, before), run.stderr
    assert cable.ip("-4", "neigh", "show", "dev", "zl0", at="laptop") == known, run.stderr  # nor is it remembered


@pytest.mark.parametrize("who", ["program", "program and keeper"])
def test_the_adapter_survives_the_hardest_end(cable, who):
    """Killed without warning, the keeper gives back within a second; with the keeper gone too, restore does."""
    cable.ip("addr", "add", "192.0.2.7/24", "dev", "zl0", at="laptop")
    before = cable.adapter()
    program = cable.start("laptop", *cable.command("borrow", "zl0", "10.84.16.9/22"))
    assert wait_for(lambda: "10.84.16.9" in cable.adapter()), "the borrowed address"
    keeper = int(next(each for each in children(program.pid)))
    if who == "program":
        os.kill(program.pid, signal.SIGKILL)
        assert wait_for(lambda: cable.adapter() == before), "giving back"
    else:
        os.kill(keeper, signal.SIGSTOP)
        os.kill(program.pid, signal.SIGKILL)
        os.kill(keeper, signal.SIGKILL)
        assert wait_for(lambda: not os.path.exists(f"/proc/{keeper}") or state_of(keeper) == "Z"), "the keeper's end"
        assert cable.adapter() != before
        run = cable.askport("restore")
        assert (run.returncode, "gave back 10.84.16.9/22" in run.stdout) == (0, True), run.stderr
        assert cable.adapter() == before
    again = cable.askport("restore", "zl0")
    assert (again.returncode, again.stdout) == (0, "Nothing was left borrowed.\n")


def state_of(pid):
    with open(f"/proc/{pid}/stat") as stat:
        return stat.read().split(")")[1].split()[0]


TAGGED = """
import socket, sys, time
wire = socket.socket(socket.AF_PACKET, socket.SOCK_RAW)
wire.bind(("zd0", 0))
while True:
    wire.send(bytes.fromhex(sys.argv[1]))
    time.sleep(0.1)
"""


def test_a_tag_that_the_kernel_took_out_is_put_back(cable):
    """The kernel hands a tagged frame over without its tag; a device on a tagged port must not look untagged."""
    question = arp.arp_question(MacAddress.parse(DEVICE), IPv4Address("10.84.16.1"), sender=IPv4Address("10.84.16.40"))
    tagged = ethernet.encode_ethernet(ethernet.decode_ethernet(question)._replace(tags=(7,)))
    cable.start("device", sys.executable, "-c", TAGGED, tagged.hex())
    run = cable.askport("find", "zl0", "--seconds", 1, "--json")
    device = json.loads(run.stdout)["devices"][0]
    assert device["addresses"][0]["address"] == "10.84.16.40"
    assert device["vlans"] == [7]


MANY = """
import socket, sys
wire = socket.socket(socket.AF_PACKET, socket.SOCK_RAW)
wire.bind(("zd0", 0))
for number in range(80):
    wire.send(bytes.fromhex(sys.argv[1])[:-1] + bytes([number]))
"""
LATE = """
import asyncio, json, os, signal, socket, struct, sys, threading, time
from askport.core.addresses import MacAddress
from askport.edges.keeper import relay
from askport.edges.kernel.packet_socket import open_packet_socket
from askport.edges.packet_wire import PacketWire

async def read():
    everything = struct.pack("HBBI", 6, 0, 0, 65536)
    opened = open_packet_socket("zl0", socket.if_nametoindex("zl0"), everything)
    near, reader = relay.start(opened)
    wire = PacketWire("zl0", [MacAddress(b"\\2\\7\\0\\0\\0\\1")], near)
    if sys.argv[1] == "relay":
        os.kill(reader, signal.SIGSTOP)
    print("listens", flush=True)
    input()
    time.sleep(2)  # the laptop does something else
    woke, heard = wire.now(), []
    threading.Timer(1, os.kill, (reader, signal.SIGCONT)).start()
    while frames := await wire.wait(wire.now()):
        heard += [(frame.at - woke, wire.heard_until - woke) for frame in frames if frame.data[12:14] == b"\\x08\\x06"]
    print(json.dumps({"heard": heard, "until": wire.heard_until - woke, "behind": wire.counts().behind_s}))

asyncio.run(read())
"""


@again
@pytest.mark.parametrize("who", ["program", "relay"])
def test_a_frame_that_is_read_late_has_the_time_at_which_it_came(cable, who, run):
    """And nobody counts as silent before all that came is read: more than one batch of it."""
    pipes = {"stdin": subprocess.PIPE, "stdout": subprocess.PIPE, "stderr": subprocess.STDOUT, "text": True}
    late = cable.start("laptop", sys.executable, "-c", LATE, who, **pipes)
    assert late.stdout.readline() == "listens\n"
    question = arp.arp_question(MacAddress.parse(DEVICE), IPv4Address("10.84.16.1"), sender=IPv4Address("10.84.16.40"))
    subprocess.run([*cable.inside("device"), sys.executable, "-c", MANY, question.hex()], check=True)
    told = json.loads(late.communicate("all sent\n")[0])
    assert (len(told["heard"]), told["behind"]) == (80, 0)
    assert max(at for at, _ in told["heard"]) <= -2
    assert max(until for _, until in told["heard"][:40]) <= -2
    assert told["until"] >= 0


EVERYTHING = """
import socket, sys, time
wire = socket.socket(socket.AF_PACKET, socket.SOCK_RAW)
wire.bind(("zd0", 0))
for _ in range(40):
    for line in open(sys.argv[1]):
        wire.send(bytes.fromhex(line))
    time.sleep(0.2)
"""


def test_what_any_reader_can_read_passes_the_kernels_filter_and_bulk_does_not(cable, tmp_path):
    """One frame of every protocol, each from a MAC address of its own, beside TCP data that says nothing."""
    senders = {name: MacAddress(bytes((2, 7, 0, 0, 0, number))) for number, name in enumerate(TOLD)}
    frames = [frame[:6] + senders[name] + frame[12:] for name, (frame, _, _) in TOLD.items()]
    bulk = Ends(src_mac=MacAddress(b"\2\7\0\0\1\0"), src=IPv4Address("10.1.1.1"),
                dst_mac=MacAddress.parse(LAPTOP), dst=IPv4Address("10.1.1.2"))  # fmt: skip
    frames.append(frame_between(bulk, tcp.Tcp(src_port=80, dst_port=40000, flags=tcp.TcpFlag.ACK, payload=bytes(900))))
    listing = tmp_path / "frames"
    listing.write_text("\n".join(frame.hex() for frame in frames))
    cable.start("device", sys.executable, "-c", EVERYTHING, str(listing))
    document = json.loads(cable.askport("find", "zl0", "--seconds", 2.5, "--json").stdout)
    heard = {device["mac"] for device in document["devices"]}
    missing = [name for name, mac in senders.items() if str(mac) not in heard and name != "dhcp vendor"]
    assert missing == []
    assert str(bulk.src_mac) not in heard
    assert document["frames"]["unreadable"] == 0


def test_the_log_tells_what_was_asked_of_the_keeper_and_why_frames_were_dropped(cable, tmp_path):
    """Cleaned of what could steer a terminal, and named where something went wrong."""
    cable.ip("addr", "add", "192.168.61.7/24", "dev", "zd0")
    hostile = bytes.fromhex("ffffffffffff" + DEVICE.replace(":", "") + "0806") + b"\x1b]0;x\x07" + bytes(10)
    sends = f"import socket; s = socket.socket(17, 3); s.bind(('zd0', 0)); [s.send({hostile!r}) for _ in range(3)]"
    environment = os.environ | {"XDG_STATE_HOME": str(tmp_path)}
    borrows = ["borrow", "zl0", "192.168.61.9/24", "--", "true"]
    subprocess.run([*cable.inside("laptop"), *cable.command(*borrows)], env=environment, check=True)
    log = tmp_path / "askport" / "askport.log"
    find = ["--log-level", "debug", "find", "zl0", "--loudness", "listen", "--seconds", "2"]
    listens = subprocess.Popen([*cable.inside("laptop"), *cable.command(*find)], env=environment,
                               stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)  # fmt: skip
    assert wait_for(lambda: log.read_text().count('event="keeper: take"') == 2)
    time.sleep(0.3)
    cable.start("device", sys.executable, "-c", sends)
    listens.wait(60)
    text = log.read_text()
    for told in ('event="keeper: take" adapter=zl0', "address=192.168.61.9/24", 'event="keeper: gave back"',
                 f'event="frame dropped" source={DEVICE}', "ARP could not be read"):  # fmt: skip
        assert told in text, told
    assert all(line.isprintable() for line in text.splitlines())


TAKES_PINGS = """
import socket, struct, subprocess, sys
wire = socket.socket(socket.AF_PACKET, socket.SOCK_RAW, socket.htons(0x0800))
wire.bind(("zd0", 0x0800))
while True:
    frame = wire.recv(2000)
    if frame[:6].hex(":") != sys.argv[1] or frame[23] != 1 or frame[34] != 8:
        continue
    total = struct.unpack("!H", frame[16:18])[0]
    if total == 28 + int(sys.argv[2]):
        address = socket.inet_ntoa(frame[30:34])
        subprocess.run(["ip", "addr", "add", address + "/22", "dev", "zd0"], stderr=subprocess.DEVNULL)
"""


@pytest.mark.parametrize(("length", "result"), [(127, "taken"), (126, "sent")])
def test_an_address_is_taken_from_an_echo_of_its_length_and_from_no_other(cable, tmp_path, length, result):
    kind = tmp_path / "mast.toml"
    kind.write_text('schema = "askport.kind/1"\nname = "mast"\n[[way]]\nby = "ping"\npayload = 127\npermanent = "no"\n')
    cable.start("device", sys.executable, "-c", TAKES_PINGS, DEVICE, str(length))
    cable.listens("pings", "packet")
    before = cable.adapter()
    run = cable.askport("assign", "zl0", "--mac", DEVICE, "--to", "10.84.16.90/22", "--by", "ping", "--kind", kind,
                        "--seconds", 8, "--json")  # fmt: skip
    document = json.loads(run.stdout)
    assert (document["result"], run.returncode) == (result, 0 if result == "taken" else 1), document
    assert document["permanent"] is (False if result == "taken" else None)
    assert "Borrowed" not in run.stderr
    assert cable.adapter() == before


def test_what_the_laptop_remembers_of_a_device_is_as_before_after_find(cable):
    """The kernel learns a device's link-local address when that answers; another adapter's neighbours stay."""
    for at, dev in (("laptop", "zl0"), ("device", "zd0")):
        cable.ip("link", "set", dev, "addrgenmode", "eui64", at=at)
        cable.ip("link", "set", dev, "down", at=at)
        cable.ip("link", "set", dev, "up", at=at)
    assert wait_for(lambda: "tentative" not in cable.ip("-6", "addr", "show", at="laptop"))
    known = ["-6", "neigh", "show", "dev", "zl0"]
    before = cable.ip(*known, at="laptop")
    ping = cable.start("device", "ping", "-6", "-i", "0.3", "fe80::ff:fe00:1%zd0")
    find = cable.start("laptop", *cable.command("find", "zl0", "--loudness", "greet", "--seconds", 4, "--json"))
    assert wait_for(lambda: "fe80::ff:fe00:99" in cable.ip(*known, at="laptop"))
    ping.kill()
    find.wait()
    assert cable.ip(*known, at="laptop") == before
