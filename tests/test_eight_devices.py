"""A job of eight devices as it goes on site: the screen and the commands by turns, with the mistakes that are made."""

import json
import re
import subprocess
import sys
import time

import pytest

from conftest import ASKPORT, askport, wait_for
from test_reports import SERVERS
from test_switch_crate import KIND

pytestmark = pytest.mark.night

AT = "192.168.61.7"
PAGE = r"""
import http.server, pathlib, subprocess, sys, time, urllib.parse
folder, refused = pathlib.Path(sys.argv[1]), []
class Page(http.server.BaseHTTPRequestHandler):
    def log_message(self, *_): pass
    def do_GET(self):
        mode = (folder / "mode").read_text() if (folder / "mode").exists() else ""
        if mode == "asks who" and self.headers.get("Authorization") != "Basic Zml0dGVyOm1hcmtlZC1zZWNyZXQ=":
            self.send_response(401); self.send_header("WWW-Authenticate", 'Basic realm="head"')
            return self.end_headers()
        form = dict(urllib.parse.parse_qsl(self.path.partition("?")[2]))
        if form and mode == "refuses once" and not refused: return refused.append(self.send_error(403))
        gateway = "" if (folder / "no-gateway").exists() else f"ip route add default via {form.get('gw')} dev zd0"
        after = 20 if mode == "moves late" else 0.3
        if form and mode == "answers late": time.sleep(6)
        to = f"{form.get('ip')}/{form.get('len')}"
        moves = f"sleep {after}; ip addr flush dev zd0; ip addr add {to} dev zd0; {gateway}"
        if form: subprocess.Popen(moves, shell=True)
        if form and mode == "sends elsewhere":
            self.send_response(302); self.send_header("Location", "http://10.9.9.9/done"); return self.end_headers()
        self.send_response(200)
        if form and mode == "tears": self.send_header("Content-Length", "9999")
        self.end_headers(); self.wfile.write(b"<title>pH head</title>")
http.server.ThreadingHTTPServer(("", 80), Page).serve_forever()
"""
SPEAKS = "while :; do ping -c 1 -W 1 192.168.61.254; sleep 0.5; done"


def mac_of(number):
    return f"00:00:5e:00:53:4{number}"


class Bench:
    """One unit after the other on the cable."""

    def __init__(self, cable, tmp_path):
        self.cable, self.has_no_gateway, self.mode = cable, tmp_path / "no-gateway", tmp_path / "mode"
        cable.start("device", sys.executable, "-c", PAGE, str(tmp_path))
        self.talks = cable.start("device", "sh", "-c", SPEAKS)

    def plug(self, number):
        self.cable.ip("link", "set", "zd0", "down")
        self.cable.ip("addr", "flush", "dev", "zd0")
        self.cable.ip("link", "set", "zd0", "address", mac_of(number), "addrgenmode", "none")
        self.cable.ip("addr", "add", f"{AT}/24", "dev", "zd0")
        self.cable.ip("link", "set", "zd0", "up")


def walk(screen, tag):
    """Go on until a device is recorded."""
    press_until(screen, rf"{tag} +(un)?proven")


def press_until(screen, pattern):
    """Press Enter where it says so, and leave the power cycle out, until something stands there."""
    deadline = time.monotonic() + 120
    while not re.search(pattern, shown := screen.screen()):
        assert time.monotonic() < deadline, shown
        if "l Skip" in shown:
            screen.keys("l")
        elif "Enter ▸" in shown:
            screen.keys("Enter")
        time.sleep(0.7)


def test_eight_devices_with_every_mistake_on_the_way(cable, terminal, tmp_path):
    job, plan = tmp_path / "hall.askport", tmp_path / "plan.csv"
    rows = [f"HD-0{n},{mac_of(n) if n == 3 else ''},10.84.16.{30 + n},22,10.84.19.254" for n in range(1, 9)]
    plan.write_text("\n".join(["tag,mac,address,prefix,gateway", *rows]))
    assert askport("plan", "import", plan, "--job", job).returncode == 0
    (tmp_path / "ph-head.kind.toml").write_text(KIND)
    bench, before = Bench(cable, tmp_path), cable.adapter()
    bench.plug(1)
    screen = terminal(*cable.inside("laptop"), *ASKPORT, "--job", str(job))
    screen.until("Use zl0")
    screen.keys("Enter")
    screen.until(mac_of(1), "HD-01")
    walk(screen, "HD-01")
    bench.plug(3)  # it is HD-02's turn, and the plan has this MAC address for HD-03
    screen.keys("Enter")
    screen.until("as HD-03 (the plan has its MAC address)")
    screen.keys("n")
    screen.until("tag")
    screen.keys("HD-05", "Enter")
    shown = " ".join(screen.until("Which planned device is 00:00:5e:00:53:43?").split())
    screen.keys("Enter")
    screen.keys(re.search(r"(\d) for HD-03", shown)[1])
    walk(screen, "HD-03")
    bench.plug(2)
    screen.keys("Enter")
    screen.until("Use this device: 00:00:5e:00:53:42")
    screen.keys("n")
    screen.until("tag")
    screen.keys("HD-04", "Enter")
    screen.until("· HD-04", "to 10.84.16.34/22")
    walk(screen, "HD-04")
    screen.leave()

    def commands(number, *proofs, proven):
        bench.plug(number)
        assert wait_for(lambda: "LOWER_UP" in cable.ip("link", "show", "zl0", at="laptop"))
        who, to = ["--mac", mac_of(number), "--job", job, "--tag", f"HD-0{number}"], f"10.84.16.{30 + number}/22"
        told = cable.askport("assign", "zl0", *who, "--to", to, "--gateway", "10.84.19.254", "--by", "page",
                             "--kind", tmp_path / "ph-head.kind.toml", "--at", AT)  # fmt: skip
        assert told.returncode == 0, told.stderr
        if proofs:
            run = cable.askport("prove", "zl0", *who, "--at", to, *proofs)
            assert run.returncode == (0 if proven else 1), run.stdout + run.stderr

    commands(5, "--gateway", "10.84.19.254", proven=True)
    bench.has_no_gateway.touch()
    commands(6, "--gateway", "10.84.19.254", proven=False)
    commands(7, proven=False)
    assert cable.adapter() == before
    found = json.loads(askport("register", "list", job, "--json").stdout)["devices"]
    left = {each["tag"]: (each["mac"], each["as_left"]["address"]["value"]) for each in found}
    units = {"HD-01": 1, "HD-03": 3, "HD-04": 2, "HD-05": 5, "HD-06": 6, "HD-07": 7}
    assert left == {tag: (mac_of(unit), f"10.84.16.3{tag[-1]}") for tag, unit in units.items()}
    cover = the_cover(job, tmp_path / "out")
    assert re.search(r"HD-06: .*not verified: .*default gateway", cover), cover
    assert re.search(r"Outstanding \(planned, not started\).*HD-02.*HD-08", cover), cover
    for tag in ("HD-01", "HD-03", "HD-04", "HD-05", "HD-07"):
        assert re.search(rf"(Not proven|Not made|not made|unproven).*{tag}", cover), (tag, cover)
    for server, check in SERVERS.items():
        run = subprocess.run([server, *check], cwd=tmp_path / "out", capture_output=True, text=True)
        assert run.returncode == 0, run.stdout + run.stderr


RUDE = ["", "tears", "answers late", "asks who", "moves late", "refuses once", "sends elsewhere", "is silent"]


def test_eight_units_that_are_rude_each_in_its_own_way_are_recorded_by_screen(cable, terminal, tmp_path):
    """Torn and late answers, a log-in, a late move, a refusal, a way to elsewhere, and nothing said at all."""
    job, plan = tmp_path / "hall.askport", tmp_path / "plan.csv"
    rows = [f"HD-0{n},10.84.16.{30 + n},22,10.84.19.254" for n in range(1, 9)]
    plan.write_text("\n".join(["tag,address,prefix,gateway", *rows]))
    assert askport("plan", "import", plan, "--job", job).returncode == 0
    (tmp_path / "ph-head.kind.toml").write_text(KIND)
    bench, before = Bench(cable, tmp_path), cable.adapter()
    for number, mode in enumerate(RUDE, 1):
        bench.mode.write_text(mode)
        if mode == "is silent":
            bench.talks.kill()
            bench.talks.wait()
        bench.plug(number)
        if number == 1:
            screen = terminal(*cable.inside("laptop"), *ASKPORT, "--job", str(job))
            screen.until("Use zl0")
        screen.keys("Enter")
        if mode == "is silent":
            screen.until("· HD-08", "a Address")
            screen.keys("a")
            screen.until("Device address (from label")
            screen.keys(AT, "Enter")
        screen.until(mac_of(number), f"HD-0{number}")
        if mode == "asks who":
            press_until(screen, "asks for a log-in")
            screen.keys("u")
            for asks, typed in (("log-in name for devices", "fitter"), ("the password of fitter", "marked-secret")):
                screen.until(asks)
                screen.keys(typed, "Enter")
        walk(screen, f"HD-0{number}")
    screen.leave()
    assert cable.adapter() == before
    found = json.loads(askport("register", "list", job, "--json").stdout)["devices"]
    assert [(each["tag"], each["mac"], each["as_left"]["address"]["value"]) for each in found] == [
        (f"HD-0{n}", mac_of(n), f"10.84.16.{30 + n}") for n in range(1, 9)
    ]
    assert b"marked-secret" not in job.read_bytes()


def the_cover(job, out):
    assert askport("report", job, "--out", out).returncode == 0
    run = subprocess.run(["pdftotext", "-l", "2", str(out / "handover.pdf"), "-"], capture_output=True, text=True)
    return " ".join(run.stdout.split())


def test_the_rest_alike_without_a_plan_counts_on_and_says_where_it_ends(cable, terminal, tmp_path):
    """The first unit's address is typed; the next ones get the next, and the subnet's end ends the crate."""
    job = tmp_path / "hall.askport"
    (tmp_path / "ph-head.kind.toml").write_text(KIND)
    bench = Bench(cable, tmp_path)
    bench.plug(1)
    screen = terminal(*cable.inside("laptop"), *ASKPORT, "--job", str(job))
    screen.until("Use zl0")
    screen.keys("Enter")
    screen.until(mac_of(1))
    press_until(screen, "No address is planned")
    screen.keys("e")
    screen.until("Type the number")
    screen.keys("253", "Tab", "Tab", "1", "Enter")
    screen.until("to 192.168.61.253/24")
    press_until(screen, "unit 1 is recorded")
    screen.keys("g")
    screen.until("Power-cycle which units")
    screen.keys("last", "Enter")
    screen.until("crate, like unit 1")
    bench.plug(2)
    screen.keys("Enter")
    screen.until("Take 00:00:5e:00:53:42 as unit 2, like unit 1.")
    screen.keys("Enter")
    screen.until("unit 2 is recorded", "192.168.61.254/24", seconds=90)
    screen.keys("Enter")
    screen.until("no address behind the last one: press e")
    screen.leave()
    found = json.loads(askport("register", "list", job, "--json").stdout)["devices"]
    left = {each["mac"]: each["as_left"]["address"]["value"] for each in found}
    assert left == {mac_of(1): "192.168.61.253", mac_of(2): "192.168.61.254"}
