"""What really happens to a device while it is set: clients that take what is given, slips, moves seen by themselves."""

import json
import subprocess
import sys
import time
from datetime import datetime

import pytest

from conftest import DEVICE, NEW_CLOCK, askport, wait_for

TARGET = ["--to", "10.84.16.21/22", "--gateway", "10.84.19.254", "--dns", "10.84.19.253,10.84.19.252"]
UDHCPC = """#!/bin/sh
[ "$1" = bound ] || [ "$1" = renew ] || exit 0
ip addr flush dev "$interface"; ip addr add "$ip/$mask" dev "$interface"; ip route add default via "$router"
echo "$ip $subnet $router $dns" >"$0.took"
"""
DHCLIENT = """#!/bin/sh
[ "$reason" = BOUND ] || [ "$reason" = REBOOT ] || exit 0
ip addr add "$new_ip_address/$new_subnet_mask" dev "$interface"; ip route add default via "$new_routers"
echo "$new_ip_address $new_subnet_mask $new_routers $new_domain_name_servers" >"$0.took"
"""
BOOTPC = """#!/bin/sh
for try in 1 2 3 4 5 6 7 8 9; do
    said=$("$1" --dev zd0 --returniffail --timeoutwait 4 --serverbcast 2>/dev/null) && break
done
eval "$said"
ip addr add "$IPADDR/$NETMASK" dev zd0; ip route add default via "$GATEWAYS_1"
echo "$IPADDR $NETMASK $GATEWAYS_1 $DNSSRVS_1 $DNSSRVS_2" >"$0.took"
"""


@pytest.mark.parametrize("client", ["udhcpc", "dhclient", "bootpc"])
def test_real_clients_take_exactly_what_is_given_and_a_second_one_gets_nothing(cable, tmp_path, client):
    script = tmp_path / client
    script.write_text({"udhcpc": UDHCPC, "dhclient": DHCLIENT, "bootpc": BOOTPC}[client])
    script.chmod(0o755)
    if client == "udhcpc":
        cable.bridge()
        second = cable.behind("br0", "02:00:00:00:00:77", None)
        first = cable.behind("br0", "02:00:00:00:00:76", None)
        for name in (second, first):
            cable.start_in(name, "udhcpc", "-i", "e0", "-f", "-t", "30", "-T", "1", "-s", str(script))
        mac, more = "02:00:00:00:00:76", ["--others-are-fine"]
    elif client == "dhclient":
        config = tmp_path / "conf"
        config.write_text("retry 1;\ninitial-interval 1;\nrequest subnet-mask, routers, domain-name-servers;\n")
        cable.partner("dhclient", "-d", "-4", "-sf", str(script), "-cf", str(config),
                      "-lf", str(tmp_path / "leases"), "-pf", str(tmp_path / "pid"), "zd0")  # fmt: skip
        mac, more = DEVICE, []
    else:
        cable.ip("route", "add", "255.255.255.255", "dev", "zd0")
        cable.start("device", "sh", str(script), "bootpc")
        mac, more = DEVICE, []
    said = cable.askport("assign", "zl0", "--mac", mac, *TARGET, "--by", "dhcp", "--seconds", 40, *more, "--json")
    assert said.stdout, said.stderr
    assert json.loads(said.stdout)["result"] == "taken", said.stdout
    took = tmp_path / f"{client}.took"
    assert wait_for(took.exists)
    assert took.read_text().split() == ["10.84.16.21", "255.255.252.0", "10.84.19.254", "10.84.19.253", "10.84.19.252"]
    if client == "udhcpc":
        time.sleep(2)
        addresses = subprocess.run(["ip", "-n", second, "-4", "addr", "show", "e0"], capture_output=True, text=True)
        assert "inet " not in addresses.stdout


@pytest.mark.by_day(0, 3)
@pytest.mark.parametrize(
    ("slip", "said"),
    [
        ("10.84.61.21/22", "moved to 10.84.61.21 instead of 10.84.16.21: two digits or octets are swapped"),
        ("10.48.16.21/22", "moved to 10.48.16.21 instead of 10.84.16.21: two digits or octets are swapped"),
        ("10.84.17.21/22", "moved to 10.84.17.21 instead of 10.84.16.21"),
        ("192.168.61.21/24", "moved to 192.168.61.21 instead of 10.84.16.21"),
    ],
)
def test_a_silent_slip_is_found_and_shown_against_what_was_meant(cable, slip, said):
    """The kernel says nothing of a new address by itself: it is asked where slips land."""
    cable.ip("addr", "add", "192.168.61.7/24", "dev", "zd0")
    cable.ip("link", "set", "lo", "up", at="laptop")
    cable.start("device", "sh", "-c", f"sleep 4; ip addr flush dev zd0; ip addr add {slip} dev zd0; date +%s.%N")
    document = json.loads(
        cable.askport(
            "assign", "zl0", "--mac", DEVICE, *TARGET, "--by", "hand", "--at", "192.168.61.7", "--seconds", 12, "--json"
        ).stdout
    )
    moved = next((step for step in document["steps"] if said in step["text"]), None)
    assert moved, document
    assert document["result"] != "taken"


@pytest.mark.parametrize(
    ("arguments", "said"),
    [
        ([], "needs the length of its echo: give --kind, or --payload 0 to 1472"),
        (["--payload", "9000"], "9000 is none"),
    ],
)
def test_a_ping_without_a_kind_asks_for_the_length(cable, arguments, said):
    run = cable.askport("assign", "zl0", "--mac", DEVICE, *TARGET, "--by", "ping", *arguments, stdin=subprocess.DEVNULL)
    assert (run.returncode, said in run.stderr) == (2, True), run.stderr


def test_a_wrong_mask_is_found_and_shown_against_the_planned_one(cable):
    cable.ip("addr", "add", "10.84.16.21/24", "dev", "zd0")
    run = cable.askport("prove", "zl0", "--mac", DEVICE, "--at", "10.84.16.21/22", "--json")
    failed = [each["because"] for each in json.loads(run.stdout)["proofs"] if each["passed"] is False]
    assert any("Its mask is /24, planned /22" in each for each in failed), failed


FORM = r"""
import http.server, subprocess, sys, time
class Page(http.server.BaseHTTPRequestHandler):
    def log_message(self, *_): pass
    def do_POST(self):
        fields = self.rfile.read(int(self.headers["Content-Length"])).decode()
        self.send_response(200); self.end_headers(); self.wfile.write(b"saved\n")
        address = fields.split("=")[1]
        move = f"sleep 0.3; ip addr flush dev zd0; ip addr add {address}/22 dev zd0; date +%s.%N >{sys.argv[1]}"
        subprocess.Popen(move, shell=True)
http.server.HTTPServer(("", 80), Page).serve_forever()
"""


def test_a_form_sent_through_the_door_by_curl_is_said_to_have_moved_once_it_has(cable, tmp_path):
    """By hand, without a key: the browser is curl."""
    cable.ip("addr", "add", "192.168.61.7/24", "dev", "zd0")
    cable.ip("link", "set", "lo", "up", at="laptop")
    cable.start("device", sys.executable, "-c", FORM, str(tmp_path / "moved"))
    assign = ["assign", "zl0", "--mac", DEVICE, *TARGET, "--by", "hand", "--at", "192.168.61.7", "--json"]
    pipes = {"stdout": subprocess.PIPE, "stderr": subprocess.PIPE, "text": True}
    program = cable.start("laptop", *cable.command(*assign), **pipes)
    url = ""
    while "Its page is at" not in url:
        url = program.stderr.readline()
    time.sleep(3)  # nobody has filled in a form earlier
    assert "saved" in cable.in_laptop("curl", "-sS", "--data", "ip=10.84.16.21", url.split()[4].rstrip(","))
    document = json.loads(program.communicate(timeout=30)[0])
    assert (document["result"], program.returncode) == ("taken", 0)
    seen = datetime.fromisoformat(document["steps"][-1]["at"]).timestamp()
    assert seen + 0.05 >= float((tmp_path / "moved").read_text())


CALLS = r"""
import socket, sys, time
to = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
for _ in range(8):
    for each in sys.argv[1:]:
        address, port = each.split(":")
        to.sendto(b"\0\1\1\0\0\1\0\0\0\0\0\0\1a\0\0\1\0\1", (address, int(port)))
    time.sleep(1)
"""
CUT = f"""
ip link set zd0 down addrgenmode none; ip addr flush dev zd0; {NEW_CLOCK} sleep 2; ip link set zd0 up; sleep 8
ip addr add 10.84.16.21/22 dev zd0; ip route add default via 10.84.19.254 onlink dev zd0; exec "$@"
"""


@pytest.mark.by_day(0)
@pytest.mark.parametrize(("asked", "passed"), [("10.84.19.253", True), ("10.9.9.9", False)])
def test_a_device_that_asks_for_names_after_its_power_cut_shows_its_servers(cable, tmp_path, asked, passed):
    """A real kernel, on the planned server in its subnet or on another one behind its gateway."""
    cable.ip("addr", "add", "10.84.16.21/22", "dev", "zd0")
    cable.ip("route", "add", "default", "via", "10.84.19.254", "onlink", "dev", "zd0")
    prove = ["prove", "zl0", "--mac", DEVICE, "--at", "10.84.16.21/22", "--gateway", "10.84.19.254", "--dns",
             "10.84.19.253", "--power-cycle", "--job", tmp_path / "x.askport", "--json"]  # fmt: skip
    cable.start("device", sys.executable, "-m", "http.server", "80")
    cable.listens(80)
    pipes = {"stdin": subprocess.DEVNULL, "stdout": subprocess.PIPE, "stderr": subprocess.PIPE, "text": True}
    program = cable.start("laptop", *cable.command(*prove), **pipes)
    while "Pull its power" not in program.stderr.readline():
        assert program.poll() is None
    time.sleep(5)  # its clock is watched for some seconds before it says anything
    cable.start("device", "sh", "-c", CUT, "sh", sys.executable, "-c", CALLS, f"{asked}:53", "10.9.9.8:123")
    document = json.loads(program.communicate(timeout=120)[0])
    proofs = {each["name"]: each for each in document["proofs"]}
    assert proofs["power-cycle"]["passed"], proofs["power-cycle"]
    assert (proofs["calls"]["passed"], program.returncode) == (passed, 0 if passed else 1)
    assert proofs["calls"]["measured"] in (f"DNS {asked} and NTP 10.9.9.8", f"NTP 10.9.9.8 and DNS {asked}")
    assert document["as_left"]["dns"] == {"value": [asked], "basis": "heard"}


ALL = {"same-mac", "old-gone", "echo", "port-80", "page", "mask", "gateway", "power-cycle", "services"}
SECOND = r"""
import socket, sys
mac = bytes.fromhex("0200000000aa")
wire = socket.socket(socket.AF_PACKET, socket.SOCK_RAW, socket.htons(0x806))
wire.bind(("zd0", 0))
while True:
    frame = wire.recv(2000)
    if frame[20:22] == b"\0\1" and frame[38:42] == bytes((10, 84, 16, 21)):
        wire.send(frame[6:12] + mac + b"\x08\x06" + frame[14:20] + b"\0\2" + mac + frame[38:42] + frame[22:32])
"""


@pytest.mark.by_day(1, 4)
@pytest.mark.parametrize(
    ("wrong", "failed"),
    [
        ("", set()),
        ("a second MAC", {"same-mac"}),
        ("the old address", {"old-gone"}),
        ("a closed port", {"port-80"}),
        ("forgets", {"power-cycle"}),
    ],
)
def test_each_wrong_thing_fails_its_own_proof_and_no_other(cable, wrong, failed):
    """A real kernel with a server on its port, whose power is cut by its link; a wrong mask or gateway: test_kernel."""
    cable.ip("addr", "add", "10.84.16.21/22", "dev", "zd0")
    cable.ip("route", "add", "default", "via", "10.84.19.254", "onlink", "dev", "zd0")
    server = cable.start("device", sys.executable, "-m", "http.server", "80")
    cable.listens(80)
    if wrong == "a closed port":
        server.terminate()
        server.wait(60)
    elif wrong == "a second MAC":
        cable.start("device", sys.executable, "-c", SECOND)
    elif wrong == "the old address":
        cable.ip("addr", "add", "192.168.61.7/24", "dev", "zd0")
    prove = ["prove", "zl0", "--mac", DEVICE, "--at", "10.84.16.21/22", "--gateway", "10.84.19.254", "--was",
             "192.168.61.7", "--open", "80", "--power-cycle", "--json"]  # fmt: skip
    pipes = {"stdin": subprocess.DEVNULL, "stdout": subprocess.PIPE, "stderr": subprocess.PIPE, "text": True}
    program = cable.start("laptop", *cable.command(*prove), **pipes)
    for line in program.stderr:
        if "Pull its power" in line:
            time.sleep(5)
            cut = CUT.replace("10.84.16.21/22", "192.168.61.7/24") if failed else CUT
            cable.start("device", "sh", "-c", cut, "sh", "ping", "-c", "20", "10.84.19.254")
            break
    document = json.loads(program.communicate(timeout=180)[0])
    told = {each["name"]: each["passed"] for each in document["proofs"]}
    assert {name for name, passed in told.items() if passed is False} == failed, document
    assert program.returncode == (1 if failed else 0)
    if not failed:
        assert set(told) == ALL
        assert {each["name"] for each in document["after_power_cut"] if each["passed"]} == ALL - {
            "power-cycle",
            "services",
        }


def test_one_that_has_moved_before_it_is_watched_is_found_all_the_same(cable, tmp_path):
    """The technician has typed already, or the address was wrong: that is said, and is on no record as found."""
    cable.ip("addr", "add", "10.84.17.21/22", "dev", "zd0")
    run = cable.askport(
        "assign", "zl0", "--mac", DEVICE, *TARGET, "--by", "hand", "--at", "192.168.61.7", "--seconds", 12, "--json",
        "--job", tmp_path / "j.askport",
    )  # fmt: skip
    assert f"{DEVICE} does not answer at 192.168.61.7. It is watched for all the same." in run.stderr, run.stderr
    document = json.loads(run.stdout)
    texts = [step["text"] for step in document["steps"]]
    assert any("10.84.17.21 instead of 10.84.16.21" in each for each in texts), texts
    (row,) = json.loads(askport("register", "list", tmp_path / "j.askport", "--json").stdout)["devices"]
    assert row["as_found"]["address"] != "192.168.61.7"
