"""Each measurement and proof has a control: on real kernels, beside whatever the device does anyway."""

import json
import subprocess
import sys

import pytest

from conftest import DEVICE, LAPTOP, NEW_CLOCK, again, wait_for

HOME, ROUTER = "10.84.16.40", "10.84.19.254"

LOOKS = r"""
import socket, struct, sys, time
wire = socket.socket(socket.AF_PACKET, socket.SOCK_RAW)
wire.bind(("zd0", 0))
mac, ip = bytes.fromhex("020000000099"), socket.inet_aton
began = time.time()
while time.time() < began + 40:
    for server in sys.argv[2:]:
        head = struct.pack("!HHHBBH", 0x0806, 1, 0x0800, 6, 4, 1)
        wire.send(b"\xff" * 6 + mac + head + mac + ip(sys.argv[1]) + bytes(6) + ip(server) + bytes(18))
    time.sleep(0.11)
"""


def device(cable, interface=f"{HOME}/22", gateway=None, looks_for=()):
    """Set the device's kernel, and have it look for servers of its own that are not there."""
    cable.ip("addr", "flush", "dev", "zd0")
    cable.ip("addr", "add", interface, "dev", "zd0")
    if gateway:
        cable.ip("route", "replace", "default", "via", gateway, "onlink", "dev", "zd0")
    if looks_for:
        cable.start("device", sys.executable, "-c", LOOKS, interface.split("/")[0], *looks_for)


def measured(cable, address=HOME):
    result = cable.askport("measure", "zl0", "--mac", DEVICE, "--address", address, "--json")
    document = json.loads(result.stdout)
    return document["prefix"], document["gateway"], document["because"]


@pytest.mark.by_day(0)
@pytest.mark.parametrize("gateway", [None, ROUTER, "10.84.16.77"])
def test_a_server_that_it_looks_for_anyway_is_no_gateway_and_moves_no_mask(cable, gateway):
    device(cable, gateway=gateway, looks_for=["10.84.16.5", "10.84.18.77"])
    prefix, found, because = measured(cable)
    assert (prefix, found) == (22, gateway), because


def test_measured_five_times_within_a_minute_each_time_as_it_is_then(cable):
    """What the device remembers of a run before is no answer to this one."""
    for interface, gateway in [(f"{HOME}/22", ROUTER), (f"{HOME}/24", "10.84.16.1"), (f"{HOME}/22", "10.84.19.1"),
                               (f"{HOME}/22", ROUTER), (f"{HOME}/22", None)]:  # fmt: skip
        device(cable, interface, gateway)
        prefix, found, because = measured(cable)
        assert (prefix, found) == (int(interface[-2:]), gateway), because


@pytest.mark.by_day(1)
@pytest.mark.parametrize("interface", ["192.168.1.200/24", "10.84.19.253/22", "172.29.4.127/24", "10.0.0.254/24"])
def test_an_address_near_the_end_of_its_subnet_is_measured_like_any_other(cable, interface):
    device(cable, interface)
    prefix, _, because = measured(cable, interface.split("/")[0])
    assert prefix == int(interface[-2:]), because


@pytest.mark.parametrize(("own", "other"), [(24, 22), (22, 24), (22, 16)])
def test_a_second_address_hides_no_mask(cable, own, other):
    """The wider subnet holds all that the narrower does: which address has which mask cannot be told from outside."""
    device(cable, f"{HOME}/{own}", ROUTER)
    cable.ip("addr", "add", f"10.84.17.5/{other}", "dev", "zd0")
    prefix, _, because = measured(cable)
    assert prefix == (22 if other == 24 else None), because
    assert prefix or "another address beside this one" in because


def test_a_gateway_that_it_remembers_from_its_network_is_named_once_it_checks_on_it(cable):
    device(cable, gateway=ROUTER)
    subprocess.run(["ip", "-n", cable.device, "neigh", "replace", ROUTER, "lladdr", "02:00:00:00:00:fe", "dev", "zd0",
                    "nud", "stale"], check=True)  # fmt: skip
    prefix, found, because = measured(cable)
    assert (prefix, found) == (22, ROUTER), because


@pytest.mark.night
def test_proved_five_times_within_a_minute_each_verdict_as_it_is_then(cable):
    """Right and wrong gateway, right and wrong mask by turns: none is left open for what the device remembers."""
    for interface, gateway, wrong in [
        (f"{HOME}/22", ROUTER, set()), (f"{HOME}/22", "10.84.16.77", {"gateway"}), (f"{HOME}/22", ROUTER, set()),
        (f"{HOME}/16", ROUTER, {"mask"}), (f"{HOME}/22", ROUTER, set()),
    ]:  # fmt: skip
        device(cable, interface, gateway)
        run = cable.askport("prove", "zl0", "--mac", DEVICE, "--at", f"{HOME}/22", "--gateway", ROUTER, "--json")
        proofs = {each["name"]: each["passed"] for each in json.loads(run.stdout)["proofs"]}
        assert {name for name, passed in proofs.items() if passed is False} == wrong, run.stdout
        assert None not in proofs.values(), run.stdout
        assert run.returncode == (1 if wrong else 0)


@pytest.mark.parametrize("asked", [["--power-cycle"], ["--dns", "10.84.19.253"]])
def test_what_was_asked_for_and_not_shown_is_no_pass(cable, tmp_path, asked):
    device(cable, gateway=ROUTER)
    job = tmp_path / "x.askport"
    prove = ["prove", "zl0", "--mac", DEVICE, "--at", f"{HOME}/22", *asked, "--job", job, "--tag", "A", "--json"]
    program = cable.start("laptop", *cable.command(*prove), stdin=subprocess.DEVNULL, stdout=subprocess.PIPE,
                          stderr=subprocess.PIPE, text=True)  # fmt: skip
    if "--power-cycle" in asked:
        out_and_in(cable, program, 1.5)
    document = json.loads(program.communicate(timeout=60)[0])
    assert (document["passed"], program.returncode) == (False, 1), document
    row = json.loads(cable.askport("register", "list", job, "--json").stdout)["devices"][0]
    assert row["state"] == "unproven"


def out_and_in(cable, program, seconds, word=None, *, starts=False):
    """Pull the cable, or the power of a device, once that is asked for; its first word comes some time after its link.

    Without a start it is the plug of a switch, a converter or a slow port in between: its clock runs on.
    """
    while "Pull its power" not in (line := program.stderr.readline()):
        assert line, program.stdout.read()
    script = f"sleep 6; ip link set zd0 down addrgenmode none; sleep {seconds}; ip link set zd0 up;"
    if word is not None:
        script = script.replace("none; sleep", "none; ip addr flush dev zd0; sleep")
        script += f"sleep {word}; ip addr add {HOME}/22 dev zd0;"
    if starts:
        script += NEW_CLOCK
    cable.start("device", "sh", "-c", f"{script} sleep 30")


@pytest.mark.by_day(0, 4)
@again
@pytest.mark.parametrize(
    ("out", "word", "shown"),
    [(1.2, None, False), (3.0, None, False), (2.0, 0.3, False), (1.2, 8.0, True), (5.0, 12.0, False),
     (10.0, None, False), (60.0, None, False), (2.0, 30.0, True), (5.0, 31.0, False), (4.0, 5.0, False)],
)  # fmt: skip
def test_a_pulled_cable_is_no_power_cut(cable, out, word, shown, run):
    """Only a start shows one: no time does, nor what a kernel says as its link comes up."""
    device(cable, looks_for=["10.84.16.5"] if word is None else [])
    cable.start("device", sys.executable, "-m", "http.server", "80")
    cable.listens(80)
    prove = ["prove", "zl0", "--mac", DEVICE, "--at", f"{HOME}/22", "--power-cycle", "--json"]
    program = cable.start("laptop", *cable.command(*prove), stdin=subprocess.DEVNULL, stdout=subprocess.PIPE,
                          stderr=subprocess.PIPE, text=True)  # fmt: skip
    out_and_in(cable, program, out, word, starts=shown)
    document = json.loads(program.communicate(timeout=240)[0])
    proof = next(each for each in document["proofs"] if each["name"] == "power-cycle")
    assert (proof["passed"], document["passed"]) == ((True, True) if shown else (None, False)), document
    assert shown or proof["measured"] == "not shown"


@pytest.mark.night
@again
def test_a_cable_pulled_behind_a_switch_is_no_power_cut(cable, run):
    cable.bridge()
    unit = cable.behind("br0", "02:00:00:00:00:31", f"{HOME}/22")
    prove = ["prove", "zl0", "--mac", "02:00:00:00:00:31", "--at", f"{HOME}/22", "--power-cycle", "--json"]
    program = cable.start("laptop", *cable.command(*prove), stdin=subprocess.DEVNULL, stdout=subprocess.PIPE,
                          stderr=subprocess.PIPE, text=True)  # fmt: skip
    while "Pull its power" not in program.stderr.readline():
        assert program.poll() is None
    cable.start_in(unit, "sh", "-c", "ip link set e0 down; sleep 8; ip link set e0 up; sleep 30")
    proofs = json.loads(program.communicate(timeout=60)[0])["proofs"]
    assert next(each["passed"] for each in proofs if each["name"] == "power-cycle") is None, proofs


LATE_TWIN = r"""
import socket, sys, time
wire = socket.socket(socket.AF_PACKET, socket.SOCK_RAW, socket.htons(0x806)); wire.bind(("zd0", 0))
mac = bytes.fromhex("0200000000aa")
while True:
    frame = wire.recv(2000)
    if frame[20:22] == b"\0\1" and frame[38:42] == bytes((10, 84, 16, 40)) and frame[6:12] != mac:
        time.sleep(2.0)
        wire.send(frame[6:12] + mac + b"\x08\x06" + frame[14:20] + b"\0\2" + mac + frame[38:42] + frame[22:32])
"""


@pytest.mark.by_day(0, 2)
@again
@pytest.mark.parametrize(
    ("lie", "kind"),
    [("late twin", ""), ("old address", ""), ("one neighbour", ""), ("late twin", "feed hopper controller")],
)
def test_a_device_that_lies_about_who_and_where_it_is_fails_its_proof(cable, lie, kind, run):
    more, wrong = ["--kind", kind] if kind else [], "same-mac"
    if lie == "late twin":
        device(cable)
        cable.start("device", sys.executable, "-c", LATE_TWIN)
    elif lie == "old address":  # kept, and answered to senders of its own subnet only
        device(cable)
        cable.ip("addr", "add", "192.168.61.7/24", "dev", "zd0")
        cable.in_device("sysctl", "-qw", "net.ipv4.conf.zd0.arp_ignore=2")
        more, wrong = [*more, "--was", "192.168.61.7"], "old-gone"
    else:  # the device that is meant hangs behind another, which answers for it by proxy
        behind = f"{cable.device}-far"
        cable.add_namespace(behind)
        cable.ip("link", "add", "far1", "type", "veth", "peer", "name", "e0", "netns", behind)
        cable.ip("addr", "add", "10.84.19.77/22", "dev", "zd0")
        cable.ip("link", "set", "far1", "up")
        cable.ip("route", "add", f"{HOME}/32", "dev", "far1")
        cable.ip("neigh", "add", "proxy", HOME, "dev", "zd0")
        cable.in_device("sysctl", "-qw", "net.ipv4.ip_forward=1", "net.ipv4.conf.far1.proxy_arp=1")
        for line in (("addr", "add", f"{HOME}/22", "dev", "e0"), ("link", "set", "e0", "up")):
            subprocess.run(["ip", "-n", behind, *line], check=True)
        more = [*more, "--no-ping"]
    run = cable.askport("prove", "zl0", "--mac", DEVICE, "--at", f"{HOME}/22", *more, "--json")
    proofs = {each["name"]: each for each in json.loads(run.stdout)["proofs"]}
    assert (proofs[wrong]["passed"], run.returncode) == (False, 1), run.stdout


@pytest.mark.by_day(2)
@pytest.mark.parametrize(
    ("interface", "gateway"),
    [(f"{HOME}/22", ROUTER), (f"{HOME}/22", "10.84.16.77"), (f"{HOME}/16", ROUTER), (f"{HOME}/22", None)],
)
def test_screen_and_command_line_come_to_the_same_verdicts(cable, tmp_path, interface, gateway):
    """The crate goes through the session that the screen drives; the command has a course of its own."""
    device(cable, interface, gateway, looks_for=["10.84.16.5"])
    plan, job, labels = tmp_path / "plan.csv", tmp_path / "x.askport", tmp_path / "labels"
    plan.write_text(f"Tag;Address;Mask;Gateway\nTG-01;{HOME};255.255.252.0;{ROUTER}\n")
    labels.write_text(f"{DEVICE} TG-01\n")
    assert cable.askport("plan", "import", plan, "--job", job).returncode == 0
    cable.askport("crate", "zl0", "--job", job, "--labels", labels, timeout=120)
    row = json.loads(cable.askport("register", "list", job, "--json").stdout)["devices"][0]
    by_session = {each["name"]: each["passed"] for each in row["proofs"]}
    run = cable.askport("prove", "zl0", "--mac", DEVICE, "--at", f"{HOME}/22", "--gateway", ROUTER, "--json")
    by_command = {each["name"]: each["passed"] for each in json.loads(run.stdout)["proofs"]}
    assert by_session == by_command, (row["proofs"], run.stdout)


def found_at_greet(cable, *more):
    result = cable.askport("find", "zl0", "--loudness", "greet", "--seconds", 6, *more, "--json")
    devices = json.loads(result.stdout)["devices"]
    return {(each["mac"], at["address"]) for each in devices for at in each["addresses"] if at["belief"] == "certain"}


@pytest.mark.parametrize("case", ["link-local", "laptop beside"])
def test_one_that_answers_nothing_but_a_ping_to_all_is_found_by_greeting(cable, case):
    """It has no gateway: only who asks from its subnet is answered."""
    at = "169.254.83.12/16" if case == "link-local" else f"{HOME}/22"
    cable.ip("addr", "add", at, "dev", "zd0")
    cable.ip("link", "set", "zd0", "addrgenmode", "none")
    cable.in_device("sysctl", "-qw", "net.ipv4.icmp_echo_ignore_broadcasts=0", "net.ipv6.conf.zd0.disable_ipv6=1")
    if case == "laptop beside":
        cable.ip("addr", "add", "10.84.16.9/22", "dev", "zl0", at="laptop")
    assert (DEVICE, at.split("/")[0]) in found_at_greet(cable)


SENDERS = """
import socket
wire = socket.socket(socket.AF_PACKET, socket.SOCK_RAW, socket.htons(3))
wire.bind(("zd0", 3))
seen = set()
print("hears", flush=True)
while True:
    data, (_, _, kind, _, _) = wire.recvfrom(65536)
    if kind != socket.PACKET_OUTGOING and data[6:12] not in seen:
        seen.add(data[6:12])
        print(data[6:12].hex(":"), flush=True)
"""


@pytest.mark.parametrize(
    "command",
    [
        ["prove", "zl0", "--mac", DEVICE, "--at", f"{HOME}/22", "--gateway", ROUTER, "--on-adapter", "--json"],
        ["find", "zl0", "--loudness", "call", "--seconds", "8", "--json"],
    ],
    ids=["prove", "find"],
)
def test_on_the_adapter_a_port_sees_one_mac_address_only(cable, tmp_path, command):
    """A port that is bound to one shuts at a second; what is measured all the same is what there is."""
    cable.ip("addr", "add", f"{HOME}/22", "dev", "zd0")
    cable.ip("route", "add", "default", "via", ROUTER)
    with (tmp_path / "senders").open("w") as senders:
        cable.start("device", sys.executable, "-c", SENDERS, stdout=senders)
    assert wait_for(lambda: "hears" in (tmp_path / "senders").read_text())
    cable.start("device", "ping", "-i", "0.5", "10.84.16.9")
    told = json.loads(cable.askport(*command).stdout)
    assert (tmp_path / "senders").read_text().split()[1:] == [LAPTOP]
    if command[0] == "prove":
        assert told["as_left"]["prefix"] == {"value": 22, "basis": "measured"}, told
    else:
        assert told["devices"][0]["addresses"][0]["prefix"] == 22, told
