"""Twins of one crate on a switch: real pages behind a bridge that move their address, each set by its label."""

import json
import os
import signal
import subprocess
import sys
import time
from dataclasses import replace
from ipaddress import IPv4Address, IPv4Interface

import pytest

from askport.bench import scenario
from askport.core.addresses import MacAddress
from askport.core.crate import concerning, switch_crate
from askport.core.errors import BadInput
from askport.core.formats.ipv4 import IPv4, ipv4_frame
from askport.core.lessons.drafting import draft
from askport.core.lessons.exchange import Exchange
from askport.core.lessons.marks import Marks
from askport.core.lessons.page_lesson import learn
from askport.core.plan import planned_device, working_order
from askport.core.plan.target import Target
from askport.core.register.entries import DevicePlanned
from askport.edges.switch_run import SwitchRun
from conftest import ASKPORT, LAPTOP, NEW_CLOCK, askport, wait_for

DEFAULT, COUNT = "192.168.61.7", 6
MACS = [f"00:00:5e:00:53:{0x41 + number:02x}" for number in range(COUNT)]
TAGS = [f"PH-{number + 1:02}" for number in range(11)]
PLANNED = {"address": "", "prefix": 22, "gateway": "10.84.19.254"}
SHOWN = """<title>pH head</title><form action=/set><input name=ip value="AT"><input name=len value="24">
<input name=gw value="GW"></form>"""
PAGE = r"""
import http.server, subprocess, sys, urllib.parse
mode, SHOWN = sys.argv[1:]
class Page(http.server.BaseHTTPRequestHandler):
    def log_message(self, *_): pass
    def do_GET(self):
        path, _, query = self.path.partition("?")
        form = dict(urllib.parse.parse_qsl(query))
        if form and mode == "refuses": return self.send_error(403)
        moves = f"ip addr flush dev e0; ip addr add {form.get('ip')}/{form.get('len')} dev e0;"
        moves += f"ip route add default via {form.get('gw')} onlink dev e0"
        run = "ip link set e0 down" if mode == "pulled" else moves
        if form: subprocess.Popen("sleep 0.3; " + run, shell=True)
        at = subprocess.run(["ip", "-br", "-4", "addr", "show", "e0"], capture_output=True, text=True).stdout.split()
        ip, bits = at[2].split("/") if len(at) > 2 else ("", "")
        way = subprocess.run(["ip", "route", "show", "default"], capture_output=True, text=True).stdout.split()
        shown = SHOWN.replace("AT", ip).replace("24", bits).replace("GW", way[2] if way else "")
        self.send_response(200); self.end_headers(); self.wfile.write(shown.encode())
http.server.ThreadingHTTPServer(("", 80), Page).serve_forever()
"""
KIND = """schema = "askport.kind/1"
name = "pH head"
[recognise]
mac = ["00:00:5e:00:53:4"]
[delivered]
address = "192.168.61.7/24"
[needs]
boot_s = 15
[[way]]
by = "page"
scheme = "http"
takes_effect = "at once"
permanent = "yes"
set = [{ get = "/set?ip={address}&len={prefix}&gw={gateway}" }]
"""


@pytest.fixture
def job(tmp_path):
    return planned_job(tmp_path, TAGS)


def planned_job(tmp_path, tags):
    path, plan = tmp_path / "hall.askport", tmp_path / "plan.csv"
    rows = [f"{tag},10.84.16.{31 + place},22,10.84.19.254" for place, tag in enumerate(tags)]
    plan.write_text("\n".join(["tag,address,prefix,gateway", *rows]))
    made = askport("plan", "import", plan, "--job", path)
    assert made.returncode == 0, made.stderr
    (tmp_path / "ph-head.kind.toml").write_text(KIND)
    return path


def switch_with_six(cable, modes):
    cable.bridge()
    units = [cable.behind("br0", mac, f"{DEFAULT}/24") for mac in MACS]
    for unit, mode in zip(units, modes, strict=True):
        cable.start_in(unit, sys.executable, "-c", PAGE, mode, SHOWN)
        if mode != "silent":
            cable.listens(80, at=unit)
    return units


def power(cable, units, *, on):
    """Pull the power of the switch with all that hang on it, or put it back; it is up before they are."""
    cable.ip("link", "set", "zd0", "up" if on else "down")
    for unit in units:
        if on:  # before it can be asked: one that answers with its old clock has run on
            subprocess.run(["ip", "netns", "exec", unit, *NEW_CLOCK.strip(";").split()], check=True)
        subprocess.run(["ip", "-n", unit, "link", "set", "e0", "up" if on else "down"], check=True)
        if on:  # what the kernel forgets with its link, a device has kept
            route = ["route", "add", "default", "via", "10.84.19.254", "dev", "e0"]
            subprocess.run(["ip", "-n", unit, *route], check=True)


def cut_power_when_asked(cable, program, units):
    said = [""]
    while "Switch off the switch" not in said[-1]:
        said.append(program.stderr.readline())
        assert said[-1], "".join(said) + program.stdout.read()
    time.sleep(10)  # their clocks are watched for some seconds before they say anything
    power(cable, units, on=False)
    time.sleep(4)
    power(cable, units, on=True)
    out, said = program.stdout.read(), program.stderr.read()
    assert program.wait(60) == 0, out + said
    return out


def test_six_twins_on_a_switch_without_a_key_after_the_last_label(cable, job):
    units = switch_with_six(cable, ["works"] * COUNT)
    before, pipe = cable.adapter(), subprocess.PIPE
    crate = cable.command("crate", "zl0", "--job", job, "--labels", "-", "--power-cycle", "--json")
    program = cable.start("laptop", *crate, stdin=pipe, stdout=pipe, stderr=pipe, text=True)
    # A barcode reader types the MAC address as the label has it, and then the tag; not in the order of the plan.
    for mac, tag in reversed(list(zip(MACS, TAGS[:COUNT], strict=True))):
        program.stdin.write(f"{mac.replace(':', '').upper()}\n{tag}\n")
    program.stdin.close()
    document = json.loads(out := cut_power_when_asked(cable, program, units))
    assert [(each["tag"], each["state"]) for each in document["units"]] == [
        (tag, "proven") for tag in reversed(TAGS[:COUNT])
    ]
    listed = json.loads(askport("register", "list", job, "--json").stdout)["devices"]
    as_left = {each["tag"]: (each["mac"], each["state"], each["as_left"]["address"]["value"]) for each in listed}
    assert as_left == {tag: (mac, "proven", f"10.84.16.{31 + place}")
                       for place, (tag, mac) in enumerate(zip(TAGS[:COUNT], MACS, strict=True))}  # fmt: skip
    assert [len(each["visits"]) if isinstance(each["visits"], list) else each["visits"] for each in listed] == [1] * 6
    held = [subprocess.run(["ip", "-n", unit, "addr", "show", "e0"], capture_output=True, text=True).stdout
            for unit in units]  # fmt: skip
    assert all(f"10.84.16.{31 + place}/22" in each for place, each in enumerate(held))
    assert cable.adapter() == before
    assert "power of the switch" not in out


@pytest.mark.night
def test_where_nobody_is_there_to_be_asked_a_crate_without_clocks_ends_and_says_so(cable, job):
    """The switch was pulled, and nothing shows that the units were: no record says so."""
    units = switch_with_six(cable, ["works"] * COUNT)
    for unit in units:
        subprocess.run(["ip", "netns", "exec", unit, "sysctl", "-qw", "net.ipv4.tcp_timestamps=0"], check=True)
    crate = cable.command("crate", "zl0", "--job", job, "--labels", "-", "--power-cycle", "--json")
    program = cable.start("laptop", *crate, stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.PIPE,
                          text=True)  # fmt: skip
    program.stdin.write("".join(f"{mac}\t{tag}\n" for mac, tag in zip(MACS[:2], TAGS, strict=False)))
    program.stdin.close()
    while "Switch off the switch" not in (line := program.stderr.readline()):
        assert line, program.stdout.read()
    time.sleep(5)
    cable.ip("link", "set", "zd0", "down")
    time.sleep(4)
    cable.ip("link", "set", "zd0", "up")
    begun = time.monotonic()
    out, said = program.stdout.read(), program.stderr.read()
    assert program.wait(60) == 1, out + said
    assert time.monotonic() - begun < 240, "it ends as soon as all are back"
    told = json.loads(out)["units"]
    assert [each["state"] for each in told] == ["recorded"] * 2
    assert all("Nothing has shown that its power was cut" in each["because"] for each in told), told


@pytest.mark.night
def test_one_that_refuses_and_one_that_is_pulled_are_gone_on_from_and_named(cable, job, tmp_path):
    units = switch_with_six(cable, ["works", "refuses", "works", "pulled", "works", "works"])
    labels, before = tmp_path / "labels.txt", cable.adapter()
    labels.write_text("".join(f"{mac}\t{tag}\n" for mac, tag in zip(MACS[:5], TAGS[:5], strict=True)))
    run = cable.askport("crate", "zl0", "--job", job, "--labels", labels, timeout=170)
    assert run.returncode == 1, run.stderr
    states = {line.split()[0]: line.split()[2] for line in run.stdout.splitlines() if line.startswith("PH-")}
    assert states == dict(zip(TAGS[:5], ["recorded", "left", "recorded", "left", "recorded"], strict=True)), run.stdout
    last = run.stdout.splitlines()[-1]
    assert all(each in last for each in ("Not done: PH-02 (", "PH-04 (")), last
    kept = subprocess.run(["ip", "-n", units[5], "addr", "show", "e0"], capture_output=True, text=True).stdout
    assert DEFAULT in kept, "nothing is set on a MAC address that has no tag"
    assert cable.adapter() == before


def test_behind_a_port_that_is_bound_to_one_mac_each_unit_is_told_its_own_values_only(cable, tmp_path):
    """On the adapter, where one address means one unit at a time, they go one after the other."""
    units = switch_with_six(cable, ["works"] * COUNT)[:3]
    job, labels = planned_job(tmp_path, TAGS[:3]), tmp_path / "labels.txt"
    labels.write_text("".join(f"{mac}\t{tag}\n" for mac, tag in zip(MACS, TAGS[:3], strict=False)))
    bind(cable)
    before = cable.adapter()
    run = cable.askport("crate", "zl0", "--job", job, "--labels", labels, timeout=400)
    held = [subprocess.run(["ip", "-n", unit, "addr", "show", "e0"], capture_output=True, text=True).stdout
            for unit in units]  # fmt: skip
    assert [f"10.84.16.{31 + place}/22" in each for place, each in enumerate(held)] == [True] * 3, (run, held)
    states = {line.split()[0]: line.split()[2] for line in run.stdout.splitlines() if line.startswith("PH-")}
    assert states == dict.fromkeys(TAGS[:3], "recorded"), run
    assert cable.adapter() == before


def labelled_crate(cable, tmp_path, count, *on):
    """Hang units with pages on a switch, each with a label; return their tags, the job, the labels' file, and them."""
    tags, macs = [f"PH-{n + 1:02}" for n in range(count)], [f"00:00:5e:77:00:{n + 1:02x}" for n in range(count)]
    job, labels = planned_job(tmp_path, tags), tmp_path / "labels.txt"
    (tmp_path / "ph-head.kind.toml").write_text(KIND.replace("00:00:5e:00:53:4", "00:00:5e:77"))
    labels.write_text("".join(f"{mac}\t{tag}\n" for mac, tag in zip(macs, tags, strict=True)))
    cable.bridge()
    units = [cable.behind("br0", mac, f"{DEFAULT}/24") for mac in macs]
    for unit in units:
        cable.start_in(unit, *on, sys.executable, "-c", PAGE, "works", SHOWN)
        cable.listens(80, at=unit)
    return tags, job, labels, units


@pytest.mark.night
@pytest.mark.parametrize("count", [24] if "ASKPORT_CRATES" in os.environ else [6])
def test_a_crate_that_was_interrupted_goes_on_where_it_stopped_through_to_power_back(cable, tmp_path, count):
    """Those that were recorded before keep that, and the power cycle of all at the end proves them too."""
    _, job, labels, units = labelled_crate(cable, tmp_path, count)
    before, pipe = cable.adapter(), subprocess.PIPE
    crate = cable.command("crate", "zl0", "--job", job, "--labels", labels, "--power-cycle", "--json")
    first = cable.start("laptop", *crate, stdout=pipe, stderr=pipe, text=True)

    def states():
        listed = askport("register", "list", job, "--json")
        return [each["state"] for each in json.loads(listed.stdout or '{"devices": []}')["devices"]]

    assert wait_for(lambda: states().count("unproven") >= 2), states()
    first.send_signal(signal.SIGINT)
    first.communicate(timeout=60)
    assert (first.returncode, cable.adapter()) == (130, before)
    recorded = states().count("unproven")
    second = cable.start("laptop", *crate, stdout=pipe, stderr=pipe, text=True)
    told = json.loads(cut_power_when_asked(cable, second, units))["units"]
    assert [each["state"] for each in told].count("proven") == count, (recorded, told)
    assert states() == ["proven"] * count


@pytest.mark.night
@pytest.mark.parametrize("how", ["all at once", "bound port", "third of a core"])
def test_of_a_crate_of_24_each_is_told_its_own_values_and_what_is_recorded_is_true(cable, tmp_path, how):
    """With all else of the machine on the other core, and two that never rest on the one of the program."""
    tags, job, labels, units = labelled_crate(cable, tmp_path, 24, "taskset", "-c", "1")
    if how == "bound port":
        bind(cable)
    for _ in range(2 if how == "third of a core" else 0):
        cable.start("device", "taskset", "-c", "0", sys.executable, "-c", "while True: pass")
    crate = ["taskset", "-c", "0", *cable.command("crate", "zl0", "--job", job, "--labels", labels, "--json")]
    program = cable.start("laptop", *crate, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)
    out, said = program.communicate(timeout=1800)
    units_told = {each["tag"]: each["state"] for each in json.loads(out)["units"]}
    assert (program.returncode, units_told) == (0, dict.fromkeys(tags, "recorded")), out + said
    listed = json.loads(askport("register", "list", job, "--json").stdout)["devices"]
    for place, (unit, device) in enumerate(zip(units, sorted(listed, key=lambda each: each["tag"]), strict=True)):
        held = subprocess.run(["ip", "-n", unit, "addr", "show", "e0"], capture_output=True, text=True).stdout
        assert f"10.84.16.{31 + place}/22" in held, (place, held)
        measured = {name: each["value"] for name, each in device["as_left"].items() if each["basis"] == "measured"}
        assert measured == PLANNED | {"address": f"10.84.16.{31 + place}"}, device


def bind(cable):
    """Have the port at the laptop let nothing in that is not from its own MAC address."""
    chain = f"chain f {{\ntype filter hook forward priority 0;\niifname zd0 ether saddr != {LAPTOP} drop\n}}\n"
    bound = f"table bridge t {{\n{chain}}}\n"
    subprocess.run([*cable.inside("device"), "nft", "-f", "-"], input=bound, text=True, check=True)


def test_while_a_unit_is_proven_a_twin_is_heard_where_it_claims_what_is_its_own_and_nowhere_else():
    """A late answer to what was asked of everybody comes from where the twins are still."""
    twin, ours, final = MacAddress.parse(MACS[1]), MacAddress.parse(MACS[5]), IPv4Address("10.84.16.31")

    def heard(src, *said_to):
        packet = IPv4(src=IPv4Address(src), dst=IPv4Address("10.84.19.238"), protocol=1, payload=b"")
        frame = ipv4_frame(packet, src=twin, dst=ours)
        return concerning.concerns(frame, {bytes(twin)}, {bytes(each) for each in said_to}, [final])

    assert (heard(DEFAULT), heard(DEFAULT, ours), heard("10.84.16.31")) == (False, True, True)


def test_labels_are_scanned_and_what_cannot_be_meant_is_said():
    work = [working_order.WorkItem(tag=tag) for tag in TAGS[:3]]
    crate = switch_crate.SwitchCrate(work)
    assert crate.scan("00-00-5E-00-53-41") == "00:00:5e:00:53:41: now scan its tag."
    assert crate.scan("ph-01") == "00:00:5e:00:53:41 is PH-01."
    assert crate.scan(f"{MACS[1]};PH-03") == f"{MACS[1]} is PH-03."
    for text, why in (("PH-02", "not a whole MAC address"), ("", "not a whole MAC"),
                      (f"{MACS[2]} PH-01", "PH-01 is 00:00:5e:00:53:41 already"),
                      (f"{MACS[2]} PH-99", "No device with the tag 'PH-99'")):  # fmt: skip
        with pytest.raises(BadInput, match=why):
            crate.scan(text)
    assert "is PH-01 already, by its label" in crate.scan(MACS[0])
    crate.scan(MACS[2])
    with pytest.raises(BadInput, match="has no tag yet"):
        crate.scan(MACS[3])
    assert [(str(each.mac), each.item.tag, each.by) for each in crate.in_order(map(MacAddress.parse, MACS))] == [
        (MACS[2], "PH-02", "the order alone")
    ]
    assert crate.waiting[0].item.tag == "PH-01"


RUNS = int(os.environ.get("ASKPORT_CRATES", "0"))
"""How often every crate of silent units is set by command and screen; ``make crates`` does."""
SOME = [("kind", 4, "crate"), ("row", 2, "crate"), ("others", 4, "crate"), ("lesson", 2, "crate"),
        ("others", 2, "screen"), ("lesson", 4, "screen")]  # fmt: skip
EVERY = [(how, count, by) for how in ("kind", "lesson", "row", "others") for count in (2, 4, 11)
         for by in ("crate", "screen") for _ in range(RUNS)]  # fmt: skip
ODD = "10.77.3.9"


def silent_kind(how):
    """Return the kind file of units that say nothing: written by hand, or as a lesson at one of them makes it."""
    told = f'[delivered]\naddress = "{DEFAULT}/24"\n'
    if how != "lesson":
        text = KIND.replace(told, told.replace(DEFAULT, ODD) if how == "kind" else "")
        return text.replace('00:00:5e:00:53:4"]', '00:00:5e:77"]\nbanner = ["pH*"]')
    shown = Exchange(method="GET", path="/", status=200, answer=SHOWN.replace("AT", ODD).replace("GW", "10.77.3.1"))
    sent = Exchange(method="GET", path="/set?ip=10.84.16.99&len=22&gw=10.84.19.254", status=200)
    target = Target(interface=IPv4Interface("10.84.16.99/22"), gateway=IPv4Address("10.84.19.254"))
    lesson = learn([shown, sent], present=IPv4Address(ODD), target=target)
    return draft(lesson, name="pH head", marks=Marks(MacAddress.parse("00:00:5e:77:00:0f")), secure=False, port=80,
                 after_restart=False, learned="Learned on it", delivered=lesson.found, lasted=True)  # fmt: skip


@pytest.mark.by_day(2)
@pytest.mark.parametrize(("how", "count", "by"), EVERY or SOME)
def test_silent_units_are_asked_at_their_own_mac_for_where_they_may_be(cable, tmp_path, terminal, how, count, by):
    """They say nothing by themselves, and no guess fits: kind, lesson, plan or the one that speaks tells where."""
    planned = TAGS if count == 2 else TAGS[:count]
    job = planned_job(tmp_path, planned)
    cable.bridge()
    (tmp_path / "ph-head.kind.toml").write_text(silent_kind(how))
    given = [(f"00:00:5e:77:00:{n + 1:02x}", TAGS[n]) for n in range(count)]
    for place, (mac, _) in enumerate(given):
        at = f"10.84.16.{31 + place}/22" if how == "row" else f"{ODD}/24"
        unit = cable.behind("br0", mac, None)
        talks = "while :; do ping -c 1 -W 1 10.77.3.1; done" if how == "others" and place == 0 else "true"
        begins = f"ip link set e0 down addrgenmode none; ip addr add {at} dev e0; ip link set e0 up;"
        cable.start_in(unit, "sh", "-c", f"{begins} ip route add default via 10.84.19.254; {talks}")
        cable.start_in(unit, sys.executable, "-c", PAGE, "works", SHOWN)
    order = given if how == "others" else given[::-1]
    if by == "crate":
        labels = tmp_path / "labels.txt"
        labels.write_text("".join(f"{mac}\t{tag}\n" for mac, tag in order))
        run = cable.askport("crate", "zl0", "--job", job, "--labels", labels, "--json", timeout=400)
        states = {each["tag"]: each["state"] for each in json.loads(run.stdout)["units"]}
        assert states == dict.fromkeys(TAGS[:count], "recorded"), run.stdout + run.stderr
    else:
        by_the_screen(
            terminal(*cable.inside("laptop"), *ASKPORT, "--job", str(job)), order, is_all=len(planned) == count
        )
    devices = json.loads(askport("register", "list", job, "--json").stdout)["devices"]
    left = {each["tag"]: (each["mac"], each["as_left"]["address"]["value"]) for each in devices}
    assert left == {tag: (mac, f"10.84.16.{31 + place}") for place, (mac, tag) in enumerate(given)}


def by_the_screen(screen, labels, *, is_all):
    """Choose the adapter, press x, scan every label, and begin; then leave the power cycle out."""
    screen.until("Use zl0")
    screen.keys("Enter")
    screen.until("x Several on switch")
    screen.keys("x")
    screen.until("Scan the label of a unit")
    for mac, tag in labels:
        screen.keys(mac.replace(":", ""), "Enter", tag, "Enter")
        screen.until(tag)
    screen.until("begin with Enter on an empty line")
    screen.keys("Enter")
    screen.until("Switch off the switch", seconds=40 + 20 * len(labels))
    screen.keys("l")
    screen.until(f"{len(labels)} recorded without their power cycle")
    screen.keys("Escape")
    screen.until("Every device on the job list" if is_all else "Job list")
    screen.keys("q")
    screen.until("ended 0")


def test_a_wrong_label_is_mended_by_scanning_the_right_one_twice_and_the_plan_follows(practice):
    """The plan has the MAC address of the first for the second row: what the label says twice is what counts."""
    _, run = practice("OX-01")
    work = [item for item in scenario.WORK if item.tag in ("OX-01", "OX-02", "OX-03")]
    first, second, third = [head.mac for head in scenario.twins()][:3]
    wrong = [replace(item, mac=mac, planned=planned_device.PlannedDevice(tag=item.tag, mac=mac))
             for item, mac in zip(work, (second, first, None), strict=True)]  # fmt: skip
    run.work = wrong
    run.job.append_all([DevicePlanned(device=each.planned) for each in wrong], run.wire.wall(0.0))
    crate = switch_crate.SwitchCrate(wrong)
    with pytest.raises(BadInput, match=f"the plan has {first} for OX-02. If that is wrong, scan .* once more"):
        crate.scan(f"{first} OX-01")
    assert crate.units == []
    crate.scan(str(first))
    assert crate.scan("OX-01") == f"{first} is OX-01."
    going = SwitchRun(run, crate)
    crate.scan(f"{third} OX-03")
    going.step()
    with pytest.raises(BadInput, match="OX-03 is .* already, by its label"):
        crate.scan(f"{second} OX-03")
    crate.scan(f"{second} OX-03")
    going.step()
    assert {each.item.tag: each.mac for each in crate.units} == {"OX-01": first, "OX-03": second}
    planned = {each.tag: each.mac for each in run.job.register.plan().devices if each.tag.startswith("OX-0")}
    assert [planned[tag] for tag in ("OX-01", "OX-02", "OX-03")] == [first, None, second]
