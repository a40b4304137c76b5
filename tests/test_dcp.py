"""PROFINET DCP: a station that follows the standard, at the other end of a virtual cable; its bytes: test_judged."""

import json
import sys
import time
from ipaddress import IPv4Address, IPv4Interface

import pytest

from askport.core import addresses, errors
from askport.core.formats import dcp, packet
from askport.core.formats.dcp import Block, Dcp, FrameId, decode_profinet, encode_dcp
from askport.core.kinds.model import SCHEMA, Kind
from askport.core.plan.target import Target
from askport.core.ways import dcp_way, start
from conftest import DEVICE, askport

STATION = r"""
import json, os, socket, struct, subprocess, sys, time
# A station as IEC 61158-6-10 has it: asked by identify, get and set; what is set for now is not written to its memory.
memory, refuses = sys.argv[1], int(sys.argv[2]) if len(sys.argv) > 2 else 0
mode = sys.argv[3] if len(sys.argv) > 3 else ""
kept = json.load(open(memory)) if os.path.exists(memory) else {"ip": ["0.0.0.0"] * 3, "name": ""}
line = socket.socket(socket.AF_PACKET, socket.SOCK_RAW, socket.htons(0x8892)); line.bind(("zd0", 0x8892))
own = line.getsockname()[4]
def use(ip):
    subprocess.run(["ip", "addr", "flush", "dev", "zd0"])
    prefix = sum(bin(each).count("1") for each in socket.inet_aton(ip[1]))
    if ip[0] != "0.0.0.0": subprocess.run(["ip", "addr", "add", f"{ip[0]}/{prefix}", "dev", "zd0"])
    if ip[2] not in ("0.0.0.0", ip[0]):
        subprocess.run(["ip", "route", "add", "default", "via", ip[2], "dev", "zd0"])
now = dict(kept); use(now["ip"])
def block(kind, value): return struct.pack("!HH", kind, len(value)) + value + b"\0" * (len(value) % 2)
def answer(to, frame_id, service, xid, blocks):
    head = struct.pack("!HBBIHH", frame_id, service, 1, xid, 0, len(blocks))
    line.send((to + own + b"\x88\x92" + head + blocks).ljust(60, b"\0"))
def ip_block(): return block(0x0102, b"\0\1" + b"".join(map(socket.inet_aton, now["ip"])))
def name_block(): return block(0x0202, b"\0\0" + now["name"].encode())
while True:
    frame = line.recv(2000)
    frame_id, service, kind, xid, _, length = struct.unpack_from("!HBBIHH", frame, 14)
    body, to = frame[26:26 + length], frame[6:12]
    if kind != 0 or frame[6:12] == own: continue
    if frame_id == 0xFEFE:
        time.sleep(0.05)
        ours = block(0x0201, b"\0\0Valve island") + name_block() + block(0x0203, b"\0\0\x0f\xfe\x01\x02") + ip_block()
        answer(to, 0xFEFF, 5, xid, ours)
    elif frame_id == 0xFEFD and service == 3:
        answer(to, 0xFEFD, 3, xid, ip_block() + name_block())
    elif frame_id == 0xFEFD and service == 4 and frame[0:6] == own:
        option, size = struct.unpack_from("!HH", body); value = body[4:4 + size]
        lasts = value[:2] == b"\0\1"
        if not refuses and option == 0x0102:
            new = [socket.inet_ntoa(value[at:at + 4]) for at in (2, 6, 10)]
            now = {**now, "ip": new}; kept = now if lasts else kept
        if not refuses and option == 0x0202:
            now = {**now, "name": value[2:].decode()}; kept = now if lasts else kept
        if not refuses and option == 0x0506:
            now = kept = {"ip": ["0.0.0.0"] * 3, "name": ""}; use(now["ip"])
        if mode == "from elsewhere": own = bytes.fromhex("02000000009a")
        if mode != "loses": answer(to, 0xFEFD, 4, xid, block(0x0504, struct.pack("!HB", option, refuses)))
        own = line.getsockname()[4]
        if option == 0x0503: open(memory + ".blinked", "w").close()
        json.dump(kept, open(memory, "w"))
        if not refuses and option == 0x0102: use(now["ip"])
"""


@pytest.fixture
def station(cable, tmp_path):
    """Gives what switches the station on, as it is in its crate at first, and with what it kept after a power cycle."""
    cable.ip("addr", "flush", "dev", "zd0")
    running = []

    def power(*more):
        while running:
            running[-1].kill()
            running.pop().wait()
        cable.ip("link", "set", "zd0", "down")
        time.sleep(1.3)
        cable.ip("link", "set", "zd0", "up")
        running.append(cable.start("device", sys.executable, "-c", STATION, str(tmp_path / "memory"), *more))
        cable.listens("DCP", "packet")

    return power


SET = [
    "--mac",
    DEVICE,
    "--to",
    "10.84.16.45/22",
    "--gateway",
    "10.84.19.254",
    "--by",
    "dcp",
    "--seconds",
    "20",
    "--json",
]


@pytest.mark.by_day(0)
@pytest.mark.parametrize("lasts", [True, False])
def test_a_station_without_an_address_is_set_proven_and_found_again_or_not(cable, station, tmp_path, lasts):
    station()
    before = cable.adapter()
    found = json.loads(cable.askport("find", "zl0", "--loudness", "greet", "--seconds", "4", "--json").stdout)
    (device,) = found["devices"]
    assert (device["mac"], device["addresses"]) == (DEVICE, [])
    assert any(each["protocol"] == "dcp" and each["vendor"] == 4094 for each in device["identities"])
    empty = cable.askport("settings", "zl0", "--mac", DEVICE, "--by", "dcp", "--json")
    assert (empty.returncode, json.loads(empty.stdout)["address"]) == (1, None)
    run = cable.askport("assign", "zl0", *SET, *([] if lasts else ["--temporary"]))
    document = json.loads(run.stdout)
    assert (document["result"], document["permanent"], run.returncode) == ("taken", lasts, 0), run.stdout + run.stderr
    assert ("for now only" in run.stdout) is not lasts
    prove = cable.askport(
        "prove", "zl0", "--mac", DEVICE, "--at", "10.84.16.45/22", "--gateway", "10.84.19.254", "--json"
    )
    assert prove.returncode == 0, prove.stdout
    read = json.loads(cable.askport("settings", "zl0", "--mac", DEVICE, "--by", "dcp", "--json").stdout)
    assert (read["address"], read["prefix"], read["gateway"]) == ("10.84.16.45", 22, "10.84.19.254")
    assert cable.adapter() == before
    blinks = cable.askport("blink", "zl0", "--mac", DEVICE)
    assert (blinks.returncode, (tmp_path / "memory.blinked").exists()) == (0, True), blinks.stderr
    assert cable.askport("blink", "zl0", "--mac", f"{DEVICE[:-2]}01").returncode == 1
    station()
    again = cable.askport("settings", "zl0", "--mac", DEVICE, "--by", "dcp", "--json")
    assert json.loads(again.stdout)["address"] == ("10.84.16.45" if lasts else None)


def test_the_error_behind_the_success_is_said_and_nothing_is_set(cable, station):
    station("6")
    run = cable.askport("assign", "zl0", *SET)
    document = json.loads(run.stdout)
    assert (document["result"], run.returncode) == ("refused", 1)
    assert "it is in operation: its controller has a connection to it" in document["because"]
    assert "10.84.16.45" not in cable.ip("addr", "show", "zd0")


def test_a_station_is_named_keeps_that_and_forgets_all_when_told_to(cable, station):
    def told(*more):
        run = cable.askport("station", "zl0", "--mac", DEVICE, "--json", *more)
        return json.loads(run.stdout), run.returncode

    station()
    assert cable.askport("assign", "zl0", *SET).returncode == 0
    document, status = told("--name", "feed-lane-3")
    assert (document["name"], document["address"], document["done"], status) == (
        "feed-lane-3", "10.84.16.45", True, 0,
    ), document  # fmt: skip
    station()
    assert told()[0]["name"] == "feed-lane-3"
    known = cable.askport("identify", "zl0", "--mac", DEVICE, "--at", "10.84.16.45").stdout
    assert "PROFINET DCP: vendor 4094, product 258" in known
    document, status = told("--reset")
    assert (document["name"], document["address"], document["done"], status) == (None, None, True, 0), document
    station("5")
    document, status = told("--name", "feed-lane-4")
    assert (document["name"], status) == (None, 1)
    assert "something on the device itself may hold it" in document["because"]
    assert "something on the device" in cable.askport("blink", "zl0", "--mac", DEVICE).stderr


def test_what_a_command_tells_comes_out_of_the_plan_too(tmp_path):
    """The plan's own columns, where job and tag are named: a station's name, and what a kind file asks for."""
    (tmp_path / "plan.csv").write_text("Tag;Address;Station name\nFL-01;10.84.16.45;feed-lane-3\n")
    job = tmp_path / "site.askport"
    told = ["assign", "zl0", *SET[:-1], "--dry-run", "--job", job]
    assert "set name" not in askport(*told, "--tag", "FL-01").stdout
    assert not job.exists()
    imported = askport("plan", "import", tmp_path / "plan.csv", "--job", job)
    assert imported.returncode == 0, imported.stderr
    assert "set name feed-lane-3, to be kept" in askport(*told, "--tag", "FL-01").stdout
    assert "set name" not in askport(*told, "--tag", "FL-02").stdout
    assert "set name" not in askport(*told).stdout


@pytest.mark.parametrize(("text", "fault"), [
    ("Feed", "a to z"), ("-feed", "a to z"), ("feed..lane", "a to z"), ("x" * 64, "a to z"), ("port-001", "of ports"),
    ("10.84.16.4", "like an address"), (".".join(["x" * 60] * 5), "240"), ("", "a to z"), ("feed\n", "a to z"),
])  # fmt: skip
def test_what_is_no_name_of_a_station_is_said_to_be_none(text, fault):
    with pytest.raises(errors.BadInput, match=fault):
        dcp.station_name(text)
    assert dcp.station_name("feed-lane.valve-3") == b"feed-lane.valve-3"


@pytest.mark.parametrize("code", range(1, 7))
def test_every_block_error_has_its_sentence(code):
    answer = Dcp(FrameId.GET_SET, 4, 1, 7, blocks=((Block.CONTROL_RESPONSE, bytes((1, 2, code))),))
    assert decode_profinet(encode_dcp(answer)).refusals == [code]
    assert dcp.REFUSALS[code].startswith("it ")


@pytest.mark.parametrize("mode", ["loses", "from elsewhere"])
def test_a_station_whose_answer_is_lost_or_comes_from_its_second_mac_is_followed(station, cable, mode):
    station("0", mode)
    run = cable.askport("assign", "zl0", *SET)
    document = json.loads(run.stdout)
    assert (document["result"], run.returncode) == ("taken", 0), run.stdout
    assert document["permanent"] is (None if mode == "loses" else True)


@pytest.mark.parametrize(
    ("needs", "gateway", "told"),
    [("own-address", None, "10.84.16.45"), (None, None, "0.0.0.0"), ("own-address", "10.84.19.254", "10.84.19.254")],
)
def test_a_station_that_insists_on_a_gateway_is_given_its_own_address(needs, gateway, told):
    kind = Kind.model_validate({"schema": SCHEMA, "name": "reader", "needs": {"gateway": needs} if needs else {}})
    target = Target(interface=IPv4Interface("10.84.16.45/22"), gateway=IPv4Address(gateway) if gateway else None)
    mac = addresses.MacAddress.parse(DEVICE)
    way = dcp_way.SetByDcp(
        start.Start(mac=mac, target=target, laptop_mac=mac, laptop=None, old=None, now=0.0, xid=lambda: 7, kind=kind)
    )
    way.handle_timer(0.0)
    sent = packet.read_packet(way.poll()[0].data).get(Dcp)
    assert sent.get(Block.IP)[-4:] == IPv4Address(told).packed
