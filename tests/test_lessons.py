"""A unit set by hand through the door that learns, others by the lesson: pages in namespaces that really move."""

import json
import re
import signal
import subprocess
import sys
import time
import tomllib
from dataclasses import replace
from ipaddress import IPv4Address, IPv4Interface
from types import SimpleNamespace
from unittest.mock import MagicMock
from urllib.parse import quote

import pytest
import regex
from hypothesis import given
from hypothesis import strategies as st

from askport.core.addresses import MacAddress
from askport.core.channels import Fetched, HttpPort
from askport.core.errors import BadInput, Wants
from askport.core.kinds.kind_reading import read_kind
from askport.core.kinds.placeholders import fill, values_of
from askport.core.lessons.console_lesson import Listening, learn_lines
from askport.core.lessons.drafting import draft
from askport.core.lessons.evidence import as_kept, as_passed, blanked
from askport.core.lessons.exchange import Exchange
from askport.core.lessons.marks import Marks
from askport.core.lessons.page_lesson import learn
from askport.core.plan.target import Target
from askport.core.register.entries import Taught
from askport.core.visit.steps import Phase
from askport.core.ways.page_talk import PageTalk
from askport.tui.parts.lesson_keys import LessonKeys
from conftest import ASKPORT, DEVICE
from test_pages import certificate
from test_session import walk as walk_to

PAGES = r"""
import hashlib, html, http.server, json, os, secrets, ssl, subprocess, sys, threading, time, urllib.parse
mode, renamed = sys.argv[1], sys.argv[3:] == ["renamed"]
sid, token, ticket, draft = secrets.token_hex(8), "", "", {}
def md5(text): return hashlib.md5(text.encode()).hexdigest()
def move(ip, prefix, gw, wait="sleep 0.3"):
    run = f"{wait}; ip addr flush dev zd0; ip addr add {ip}/{prefix} dev zd0; "
    run += f"ip route add default via {gw} onlink dev zd0"
    subprocess.Popen(run, shell=True)
def length(mask): return sum(bin(int(each)).count("1") for each in mask.split("."))
class Page(http.server.BaseHTTPRequestHandler):
    protocol_version = "HTTP/1.1"
    def log_message(self, *_): pass
    def say(self, text, status=200, kind="text/html", **headers):
        self.send_response(status)
        for key, value in {"Content-Type": kind, **headers}.items(): self.send_header(key.replace("_", "-"), value)
        self.send_header("Content-Length", str(len(text))); self.end_headers(); self.wfile.write(text.encode())
    def form(self):
        body = self.rfile.read(int(self.headers.get("Content-Length", 0))).decode()
        is_json = "json" in self.headers.get("Content-Type", "")
        return json.loads(body) if is_json else dict(urllib.parse.parse_qsl(body, keep_blank_values=True))
    def do_GET(self):
        global token, ticket
        path, _, query = self.path.partition("?")
        query = dict(urllib.parse.parse_qsl(query))
        if mode == "get":
            name = "newip" if renamed else "ip"
            if path == "/set": move(query[name], length(query["netmask"]), query["gw"]); return self.say("ok")
            fields = f"<input name={name}><input name=netmask><input name=gw><input name=contrast value=5>"
            return self.say(f"<title>Dosing pump</title><form action=/set>{fields}</form>")
        if mode == "octets":
            if f"sid={sid}" not in self.headers.get("Cookie", ""):
                fields = '<input name="who"><input type="password" name="code">'
                return self.say(f"<title>Valve 3</title><form method=post action=/login>{fields}</form>")
            token = secrets.token_hex(8)
            self.say(f'<form method=post action=/save><input type="hidden" name="csrf" value="{token}">...</form>')
        if mode == "json":
            if not self.allowed(): return
            net = json.dumps({"net": {"address": "192.168.61.7"}, "rev": "r-" + md5(sid)[:12]})
            self.say(net, kind="application/json",
                     Set_Cookie=f"sid={sid}; Secure; HttpOnly; Domain=192.168.61.7")
        if mode == "wizard":
            self.say("<title>Set-up</title><form method=post action=/1><input name=host_ip><input name=subnet></form>")
    def allowed(self):
        given = self.headers.get("Authorization", "")
        parts = dict(each.strip().split("=", 1) for each in given[7:].split(",")) if given.startswith("Digest") else {}
        parts = {key: value.strip('"') for key, value in parts.items()}
        if parts:
            ha1, ha2 = md5("fitter:unit:marked-secret"), md5(f"{self.command}:{parts['uri']}")
            whole = ":".join((ha1, parts["nonce"], parts["nc"], parts["cnonce"], parts["qop"], ha2))
            if parts["response"] == md5(whole): return True
        self.rfile.read(int(self.headers.get("Content-Length", 0)))
        self.say("", 401, WWW_Authenticate='Digest realm="unit", nonce="abc", qop="auth", algorithm=MD5')
    def do_POST(self):
        global ticket
        if mode == "json" and not self.allowed(): return
        form, path = self.form(), self.path
        if mode == "octets" and path == "/login":
            ok = form.get("who") == "fitter" and form.get("code") == "marked-secret"
            if not ok: return self.say("no", 403)
            return self.say("", 302, Location="/net", Set_Cookie=f"sid={sid}; Path=/")
        if mode == "octets":
            if f"sid={sid}" not in self.headers.get("Cookie", ""): return self.say("who", 403)
            if form.get("csrf") != token: return self.say("stale", 403)
            join = lambda stem: ".".join(str(int(form[f"{stem}{place}"])) for place in range(1, 5))
            move(join("ip"), length(join("nm")), join("gw")); return self.say("saved")
        if mode == "json":
            if form["rev"] != "r-" + md5(sid)[:12]: return self.say("stale", 409)
            if f"sid={sid}" not in self.headers.get("Cookie", ""): return self.say("who", 403)
            net = form["net"]; move(net["address"], net["prefix"], net["gateway"])
            return self.say("{}", kind="application/json")
        draft.update(form)
        if path == "/1": return self.say("<form method=post action=/2><input name=router></form>")
        if path == "/2":
            ticket = secrets.token_hex(6)
            return self.say(f"<form method=post action=/finish><input type=hidden name=ticket value={ticket}></form>")
        if form.get("ticket") != ticket: return self.say("stale", 403)
        up = "grep -q up /sys/class/net/zd0/operstate; do sleep 0.1; done"
        wait = f"while {up}; until {up}"
        move(draft["host_ip"], length(draft["subnet"]), draft["router"], wait); self.say("saved, restart me")
server = http.server.ThreadingHTTPServer(("", 443 if mode == "json" else 80), Page)
if mode == "json":
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    context.set_ciphers("ALL:@SECLEVEL=0"); context.load_cert_chain(sys.argv[2])
    server.socket = context.wrap_socket(server.socket, server_side=True)
server.serve_forever()
"""
BROWSER = r"""
import http.cookiejar, json, re, sys, urllib.parse, urllib.request
mode, at, ip, gw = sys.argv[1:]
digest = urllib.request.HTTPDigestAuthHandler()
digest.add_password("unit", at, "fitter", "marked-secret")
cookies = urllib.request.HTTPCookieProcessor(http.cookiejar.CookieJar())
opener = urllib.request.build_opener(urllib.request.ProxyHandler({}), cookies, digest)
def send(path, form=None, **more):
    data = urllib.parse.urlencode(form).encode() if form else more.pop("data", None)
    return opener.open(urllib.request.Request(at + path, data, **more), timeout=60).read().decode()
def hidden(page, name): return re.search(rf'name="?{name}"? value="?([^"> ]+)', page)[1]
first = send("/") if mode != "json" else send("/api")
if mode == "get":
    name = re.search("name=(ip|newip)", first)[1]
    send("/style.css")
    send(f"/set?{name}={ip}&netmask=255.255.252.0&gw={gw}&contrast=5")
if mode == "octets":
    page = send("/login", {"who": "fitter", "code": "marked-secret"})
    form = {}
    for stem, text in (("ip", ip), ("nm", "255.255.252.0"), ("gw", gw)):
        form |= {f"{stem}{place}": f"{int(octet):03}" for place, octet in enumerate(text.split("."), 1)}
    send("/save", {**form, "csrf": hidden(page, "csrf"), "go": "Save"})
if mode == "json":
    body = {"net": {"address": ip, "prefix": 22, "gateway": gw}, "rev": json.loads(first)["rev"]}
    send("/api", data=json.dumps(body).encode(), headers={"Content-Type": "application/json"})
if mode == "wizard":
    send("/1", {"host_ip": ip, "subnet": "255.255.252.0"})
    send("/finish", {"ticket": hidden(send("/2", {"router": gw}), "ticket"), "confirm": "yes"})
"""
LOG_IN = ["--user", "fitter", "--password-from"]


def deliver(cable, mac):
    """Have a unit as it comes out of the crate at the device's end."""
    cable.ip("link", "set", "zd0", "down")
    cable.ip("link", "set", "zd0", "address", mac)
    cable.ip("addr", "flush", "dev", "zd0")
    cable.ip("addr", "add", "192.168.61.7/24", "dev", "zd0")
    cable.ip("link", "set", "zd0", "up")


def teach(cable, mode, learned, ip="10.84.16.31"):
    port = ":443" if mode == "json" else ""
    pipes = {"stdout": subprocess.PIPE, "stderr": subprocess.PIPE, "text": True}
    door = cable.start("laptop", *cable.command("door", "zl0", f"192.168.61.7{port}", "--learn", learned), **pipes)
    url = door.stdout.readline().strip()
    cable.in_laptop(sys.executable, "-c", BROWSER, mode, url, ip, "10.84.19.254")
    time.sleep(0.6)
    if mode == "wizard":
        restart(cable)
    door.send_signal(signal.SIGINT)
    said = door.communicate(timeout=60)[1]
    assert door.returncode == 130, said
    return said


def restart(cable):
    cable.ip("link", "set", "zd0", "down")
    time.sleep(1.2)
    cable.ip("link", "set", "zd0", "up")
    time.sleep(1.0)


@pytest.mark.by_day(3)
@pytest.mark.parametrize(
    ("mode", "words"),
    [
        ("get", "2 requests, 3 values put in"),
        ("octets", "3 requests, 12 values put in, 2 secrets asked for"),
        ("json", "2 requests, 3 values put in, 1 secret asked for"),
        ("wizard", "4 requests, 3 values put in"),
    ],
)
def test_the_first_unit_by_hand_and_two_more_by_what_was_learned(cable, tmp_path, mode, words):
    """Pages unlike each other: a GET form; octets, a token and a cookie; JSON over HTTPS with digest; a wizard."""
    learned, secret = tmp_path / "new-kind.toml", tmp_path / "secret"
    secret.write_text("marked-secret\n")
    certificate(tmp_path / "device.pem")
    deliver(cable, DEVICE)
    cable.ip("link", "set", "lo", "up", at="laptop")
    cable.start("device", sys.executable, "-c", PAGES, mode, str(tmp_path / "device.pem"))
    cable.listens(443 if mode == "json" else 80)
    said = teach(cable, mode, learned)
    assert words in said, said
    assert "marked-secret" not in learned.read_text()
    assert "10.84.16.31" not in learned.read_text(), "what it was set to is not part of the lesson"
    assert cable.in_laptop(*cable.command("kinds", "check", learned))
    for number in (32, 33):
        mac = f"{DEVICE[:-2]}{number}"
        deliver(cable, mac)
        time.sleep(0.5)
        assign = ["assign", "zl0", "--mac", mac, "--to", f"10.84.16.{number}/22", "--gateway", "10.84.19.254", "--by",
                  "page", "--kind", learned, "--at", "192.168.61.7", "--json"]  # fmt: skip
        assign += [*LOG_IN, secret] if mode in ("octets", "json") else []
        pipes = {"stdout": subprocess.PIPE, "stderr": subprocess.PIPE, "text": True}
        program = cable.start("laptop", *cable.command(*assign), **pipes)
        if mode == "wizard":
            while "ower" not in (line := program.stderr.readline()):
                assert line
            restart(cable)
        out, err = program.communicate(timeout=60)
        assert (json.loads(out)["result"], program.returncode) == ("taken", 0), out + err
        prove = cable.askport("prove", "zl0", "--mac", mac, "--at", f"10.84.16.{number}/22", "--gateway",
                              "10.84.19.254", "--was", "192.168.61.7")  # fmt: skip
        assert prove.returncode == 0, prove.stdout


def test_a_renamed_field_stops_the_lesson_before_anything_is_set(cable, tmp_path):
    learned = tmp_path / "pump.toml"
    deliver(cable, DEVICE)
    cable.ip("link", "set", "lo", "up", at="laptop")
    first = cable.start("device", sys.executable, "-c", PAGES, "get", "-")
    cable.listens(80)
    teach(cable, "get", learned)
    first.terminate()
    first.wait(60)
    deliver(cable, DEVICE)
    cable.start("device", sys.executable, "-c", PAGES, "get", "-", "renamed")
    cable.listens(80)
    run = cable.askport("assign", "zl0", "--mac", DEVICE, "--to", "10.84.16.32/22", "--gateway", "10.84.19.254", "--by",
                        "page", "--kind", learned, "--at", "192.168.61.7", "--json")  # fmt: skip
    document = json.loads(run.stdout)
    assert (run.returncode, document["result"]) == (1, "refused")
    assert "it has no “ip”" in document["because"]
    assert "192.168.61.7" in cable.ip("addr", "show", "zd0")


def passed(*requests):
    """Return exchanges: method, path, body, answer; a body that begins with a brace is JSON."""
    made = []
    for method, path, body, answer in requests:
        kind = "application/json" if body.startswith("{") else "application/x-www-form-urlencoded"
        kind = body.split("\r\n")[0] if body.startswith("multipart") else kind
        body = body.partition("\r\n")[2] if body.startswith("multipart") else body
        made.append(
            Exchange(method=method, path=path, content_type=kind, body=body.encode(), status=200, answer=answer)
        )
    return made


LOG_INS = [
    ("/login", "who=fitter&code=marked%26secret&go=1"),
    ("/login?who=fitter&code=marked%26secret", ""),
    ("/login", '{"auth": {"who": "fitter", "code": "marked&secret"}}'),
    ("/api/session", '{"a": "fitter", "b": "marked&secret", "keep": true, "for": 3600}'),
    ("/login", "multipart/form-data; boundary=xx\r\n" + "".join(
        f'--xx\r\nContent-Disposition: form-data; name="{name}"\r\n\r\n{text}\r\n'
        for name, text in (("who", "fitter"), ("code", "marked&secret"))) + "--xx--\r\n"),
]  # fmt: skip


@pytest.mark.parametrize(("path", "body"), LOG_INS)
@pytest.mark.parametrize("password", ["marked&secret", "1"])
def test_what_is_kept_of_a_lesson_has_no_secret_and_teaches_the_same(path, body, password):
    path, body = (each.replace("marked%26secret", quote(password)) for each in (path, body))
    body = body.replace("marked&secret", password)
    whole = passed(
        ("GET", "/", "", '<title>Valve</title><input name="who"><input type="password" name="code">'),
        ("POST", path, body, f"welcome fitter, {password} was right"),
        ("POST", "/s", "ip=10.84.16.31&mask=255.255.252.0", ""),
    )
    whole = [replace(each, headers={"X-Requested-With": "fetch"}, sets_cookie=True) for each in whole]
    kept = blanked(whole)
    entry = Taught(unit=1, mac=MacAddress(b"\2\0\0\0\0\1"), present=IPv4Address("192.168.61.7"), port=80, secure=False,
                   after_restart=False, exchanges=tuple(as_kept(each) for each in kept))  # fmt: skip
    journal = entry.model_dump_json()
    assert next(as_passed(each) for each in entry.exchanges).headers == {"X-Requested-With": "fetch"}
    assert "fitter" not in journal
    assert "marked" not in journal
    assert set(kept[1].fields.values()) - {"true", "3600"} <= {"blanked", *(["1"] * ("go" in body))}
    lessons = [learn([as_passed(as_kept(each)) for each in run], present=IPv4Address("192.168.61.7")) for run in
               (whole, kept)]  # fmt: skip
    assert lessons[0].set == lessons[1].set
    assert lessons[0].words == lessons[1].words
    assert str(lessons[0].login).replace(" ", "") == str(lessons[1].login).replace(" ", "")


PARTS = """multipart/form-data; boundary=xx\r
--xx\r
Content-Disposition: form-data; name="ipaddr"\r
\r
10.84.16.31/22\r
--xx\r
Content-Disposition: form-data; name="hostname"\r
\r
OX-01\r
--xx--\r
"""


@pytest.mark.parametrize(
    ("requests", "target", "sent"),
    [
        ([("POST", "/s", PARTS, "")], "10.84.16.31/22", "{address}/{prefix}"),
        ([("POST", "/s", '{"list": [{"ip": "10.84.16.31", "len": 22}, {"router": "10.84.19.254"}]}', "")],
         "10.84.16.31/22", '{"list": [{"ip": "{address}", "len": {prefix}}, {"router": "{gateway}"}]}'),
        ([("GET", "/a.js", "", ""), ("GET", "/poll", "", "1"), ("GET", "/s?ip=10.84.16.31&mask=255.255.252.0&x=a%26b",
                                                              "", "")],
         "10.84.16.31/22", "/s?ip={address}&mask={mask}&x=a%26b"),
        ([("POST", "/s", "a1=010&a2=084&a3=016&a4=031&m1=255&m2=255&m3=252&m4=000", "")], "10.84.16.31/22", "{mask.4}"),
        ([("POST", "/s", "a1=10&a2=84&a3=16&a4=31&m1=255&m2=255&m3=252&m4=0", "")], "10.84.16.31/22", "{mask.4}"),
        ([("POST", "/s", "o1=10&o2=84&o3=16&o4=31&bits=22&router=10.84.19.254", "")], "10.84.16.31/22",
         "'o3': '{address.3}', 'o4': '{address.4}', 'bits': '{prefix}', 'router': '{gateway}'}"),
        ([("POST", "/s", "ip=10.84.16.31&mask=22&dns_1=10.84.19.253&other=10.9.9.9", "your address is 10.1.2.3")],
         "10.84.16.31/22", "{'ip': '{address}', 'mask': '{prefix}', 'dns_1': '{dns1}', 'other': '10.9.9.9'}"),
    ],
)  # fmt: skip
def test_what_was_sent_becomes_a_step_with_placeholders(requests, target, sent):
    known = None
    if "len" in str(requests):
        known = Target(interface=IPv4Interface(target), gateway=IPv4Address("10.84.19.254"))
    lesson = learn(passed(*requests), present=IPv4Address("192.168.61.7"), target=known, name="OX-01")
    assert (str(lesson.target.interface), lesson.why_not) == (target, "")
    assert sent in str(list(lesson.set[-1].values())), lesson.set
    assert lesson.pads_octets == ("010" in str(requests))
    assert len(lesson.set) == 1


FORM = """<form action=/s method=post><input name=ip value=192.168.61.7><input name="nm" value="255.255.255.0">
<input name=gw value="192.168.61.1"><input type=hidden name=t value="a1b2c3d4e5f6a7b8"></form>"""
PUT = '{"ip": "10.84.16.31", "nm": "255.255.252.0", "gw": "10.84.19.254"}'


@pytest.mark.parametrize("body", ["{save", "{" + "9" * 5_000, '{"a": ' + "[" * 100_000])
def test_a_body_that_only_says_it_is_json_goes_as_it_came(body):
    """Between two requests that set it, a page's script sends something of its own."""
    first, last = ("POST", "/ip", "ip=10.84.16.31&nm=255.255.252.0", ""), ("POST", "/gw", "gw=10.84.19.254", "")
    target = Target(interface=IPv4Interface("10.84.16.31/22"), gateway=IPv4Address("10.84.19.254"))
    exchanges = passed(first, ("POST", "/save", body, ""), last)
    lesson = learn(exchanges, present=IPv4Address("192.168.61.7"), target=target)
    assert [each.get("body") for each in lesson.set] == [None, body, None]


def with_headers(requests, headers):
    *first, last = passed(*requests)
    return [*first, replace(last, headers=headers)]


def test_what_was_seen_of_the_form_is_learned_too():
    """The page that showed the settings as they were is read at the next unit; one that showed others is not."""
    sent = ("POST", "/s", "ip=10.84.16.31&nm=255.255.252.0&gw=10.84.19.254&t=a1b2c3d4e5f6a7b8", "")
    lesson = learn(passed(("GET", "/net", "", FORM), sent), present=IPv4Address("192.168.61.7"))
    assert str(lesson.found) == "192.168.61.7/24"
    text = draft(lesson, name="valve", marks=Marks(None), secure=False, port=80, after_restart=False, learned="x",
                 delivered=lesson.found, lasted=True)  # fmt: skip
    kind = read_kind(text, "x.toml")
    (step,) = kind.way_by("page").read
    found = regex.search(step.find, FORM).groupdict()
    assert found == {"address": "192.168.61.7", "mask": "255.255.255.0", "gateway": "192.168.61.1"}
    empty = regex.search(step.find, FORM.replace('"192.168.61.1"', '""')).groupdict()
    assert empty == found | {"gateway": ""}, "the next one has no gateway yet"
    assert regex.search(step.find, FORM.replace('"192.168.61.1"', '"by DHCP"')) is None
    assert (kind.delivered.address, kind.way_by("page").permanent, step.place) == ("192.168.61.7/24", "yes", "/net")
    other = learn(passed(("GET", "/net", "", FORM.replace("192.168.61.7", "10.9.9.9")), sent),
                  present=IPv4Address("192.168.61.7"))  # fmt: skip
    assert (other.read, other.found) == ([], None)


@pytest.mark.parametrize("method", ["PUT", "PATCH"])
def test_a_script_s_method_headers_and_token_are_learned(method):
    page = '<meta name="csrf-token" content="a1b2c3d4e5f6a7b8c9"><script>x = 1</script>'
    headers = {"X-Requested-With": "XMLHttpRequest", "Authorization": "Bearer a1b2c3d4e5f6a7b8c9"}
    requests = with_headers([("GET", "/", "", page), (method, "/api/net", PUT, "{}")], headers)
    lesson = learn(requests, present=IPv4Address("192.168.61.7"))
    text = draft(lesson, name="v", marks=Marks(None), secure=False, port=80, after_restart=False, learned="x")
    steps = read_kind(text, "x.toml").way_by("page").set
    values = {"address": "10.84.16.32", "mask": "255.255.252.0", "gateway": "10.84.19.254"}
    talk = PageTalk(HttpPort(IPv4Address("192.168.61.7"), 80), steps, values)
    (first,) = [each.channel for each in talk.poll()]
    talk.channel_event(Fetched(first, 200, page.replace("a1b2c3d4e5f6a7b8c9", "zz11yy22xx33ww44")), 0.0)
    (asked,) = [each.channel for each in talk.poll()]
    assert (asked.method, asked.path, asked.fields["ip"]) == (method, "/api/net", "10.84.16.32")
    assert asked.headers == {
        "Referer": "http://192.168.61.7/", "Origin": "http://192.168.61.7", "X-Requested-With": "XMLHttpRequest",
        "Authorization": "Bearer zz11yy22xx33ww44",
    }  # fmt: skip


@pytest.mark.parametrize("theirs", ['value="Hall 7"', "value=''", "value=", 'value="x"'])
def test_what_else_a_form_held_stays_the_next_unit_s_own_and_empty_is_a_value(theirs):
    page = "<input name=ip value=192.168.61.7><input name=place {}>"
    run = passed(("GET", "/net", "", page.format('value="Pump hall 2"')),
                 ("POST", "/s", "ip=10.84.16.31&mask=255.255.252.0&place=Pump+hall+2", ""))  # fmt: skip
    lesson = learn(run, present=IPv4Address("192.168.61.7"))
    text = draft(lesson, name="v", marks=Marks(None), secure=False, port=80, after_restart=False, learned="x")
    steps = read_kind(text, "x.toml").way_by("page").set
    talk = PageTalk(HttpPort(IPv4Address("192.168.61.7"), 80), steps, {"address": "10.1.1.2", "mask": "255.0.0.0"})
    (asked,) = [each.channel for each in talk.poll()]
    talk.channel_event(Fetched(asked, 200, page.format(theirs)), 0.0)
    (asked,) = [each.channel for each in talk.poll()]
    assert asked.fields["place"] == theirs.removeprefix("value=").strip("'\"")


TOKEN = "a1b2c3d4e5f6a7b8c9"
IN_HEADERS = {"X-Csrf-Token": "X-Csrf-Token: {}\r\n", "X-Xsrf-Token": "Set-Cookie: XSRF-TOKEN={}; Path=/\r\n"}


@pytest.mark.parametrize(
    ("page", "sends"),
    [
        ("<input type=hidden value='{}' name=t>", "field"), ('{{"a": {{"ticket": "{}"}}}}', "field"),
        ("<script>var cfg = {{ csrf: '{}' }}</script>", "header"), ("<script>window.sid='{}';</script>", "header"),
        ("<body data-token='{}'>", "header"), ("<p id=key>{}</p>", "field"), ("", "X-Csrf-Token"), ("", "X-Xsrf-Token"),
    ],
)  # fmt: skip
def test_a_token_is_found_again_wherever_an_answer_held_it(page, sends):
    """In a field, in JSON, in a script, in an attribute, in a header or a cookie; kept evidence teaches the same."""
    lines = IN_HEADERS.get(sends, "")
    form = "ip=10.84.16.31&mask=255.255.252.0" + (f"&t={TOKEN}" if sends == "field" else "")
    headers = {} if sends == "field" else {sends if lines else "X-Token": TOKEN}
    first, sent = with_headers([("GET", "/", "", page.format(TOKEN)), ("POST", "/s", form, "")], headers)
    run = [replace(first, answer_headers="Server: x\r\n" + lines.format(TOKEN)), sent]
    kept = [as_passed(as_kept(each)) for each in blanked(run)]
    assert kept[0].answer_headers == lines.format(TOKEN), "only what was used again is kept"
    for exchanges in (run, kept):
        lesson = learn(exchanges, present=IPv4Address("192.168.61.7"))
        text = draft(lesson, name="v", marks=Marks(None), secure=False, port=80, after_restart=False, learned="x")
        steps = read_kind(text, "x.toml").way_by("page").set
        talk = PageTalk(HttpPort(IPv4Address("192.168.61.7"), 80), steps, {"address": "10.1.1.2", "mask": "255.0.0.0"})
        (asked,) = [each.channel for each in talk.poll()]
        talk.channel_event(Fetched(asked, 200, page.format("zz11yy22"), headers=lines.format("zz11yy22")), 0.0)
        (asked,) = [each.channel for each in talk.poll()]
        assert "zz11yy22" in f"{asked.fields} {asked.headers}"


@pytest.mark.parametrize(
    ("page", "sent", "headers", "why"),
    [
        ("", "u=a&password=5f4dcc3b5aa765d61d8327deb882cf99", {}, "computes the password"),
        ("", "u=a&password=hunter2&nonce=77", {}, "computes the password"),
        ('{"nonce": "77"}', "u=a&password=q1w2e3r4t5y6u7i8o9", {}, "computes the password"),
        ("", "u=a&password=W6ph5Mm5Pz8GgiULbPgzG37mj9g=", {}, "computes the password"),
        ("", "u=a&password=hunter2", {"X-Signature": "9f8e7d6c5b4a39281706"}, "a script computes it"),
    ],
)
def test_what_a_script_has_computed_is_never_learned(page, sent, headers, why):
    log_in, *rest = passed(("POST", "/login", sent, ""), ("PUT", "/net", PUT, ""))
    run = [*passed(("GET", "/", "", page)), log_in, replace(rest[0], headers=headers)]
    for each in (run, [as_passed(as_kept(kept)) for kept in blanked(run)]):
        lesson = learn(each, present=IPv4Address("192.168.61.7"))
        assert (why in lesson.why_not, lesson.set, lesson.login) == (True, [], []), lesson


def test_a_new_password_that_was_left_empty_stays_empty():
    run = passed(("POST", "/s", "ip=10.84.16.31&nm=255.255.252.0&newpass=", ""))
    assert learn(run, present=IPv4Address("192.168.61.7")).set == [
        {"post": "/s", "form": {"ip": "{address}", "nm": "{mask}", "newpass": ""}}
    ]


@pytest.mark.parametrize("place", ["http://10.9.9.9/s", "//10.9.9.9/s", "s", "{found}"])
def test_a_step_that_leads_to_another_host_sends_nothing_there(place):
    if place != "{found}":
        with pytest.raises(BadInput, match="a path of the device itself"):
            read_kind(A_STEP.format(place=place), "x.toml")
        return
    (step,) = read_kind(A_STEP.format(place="/{name}"), "x.toml").way_by("page").set
    talk = PageTalk(HttpPort(IPv4Address("192.168.61.7"), 80), [step], {"name": "/10.9.9.9/s"})
    assert (talk.poll(), talk.done, "leads to another host" in talk.said.because) == ([], True, True)


A_STEP = 'schema = "askport.kind/1"\nname = "x"\n[[way]]\nby = "page"\nset = [{{ post = "{place}" }}]\n'


@pytest.mark.parametrize(
    "requests",
    [
        [],
        [("POST", "/s", "a=1&b=2", "")],
        [("POST", "/s", "{" * 50_000, "")],
        [("GET", "/", "", "".join(f'<input name="n{each}" value="v{each}">' for each in range(20_000))),
         ("POST", "/s", "&".join(f"n{each}=v{each}" for each in range(20_000)), "")],
        [("GET", "/", "", 'name="a"' * 100_000), ("POST", "/s", "a=bcdefg", "")],
    ],
)  # fmt: skip
def test_nothing_is_learned_from_what_tells_nothing(requests):
    lesson = learn(passed(*requests), present=IPv4Address("192.168.61.7"))
    assert "nothing can be learned" in lesson.why_not


@pytest.mark.night
def test_on_the_screen_the_first_by_hand_and_the_next_two_by_enter(cable, terminal, tmp_path):
    """Its page is opened through the door; what the browser sent is kept as a kind, and the crate goes on by it."""
    job = tmp_path / "site.askport"
    plan = "tag;ip;mask;gateway;kind\n" + "".join(f"DP-{n};10.84.16.{30 + n};22;10.84.19.254;pump\n" for n in (1, 2, 3))
    (tmp_path / "plan.csv").write_text(plan)
    assert cable.askport("plan", "import", tmp_path / "plan.csv", "--job", job).returncode == 0
    cable.ip("link", "set", "lo", "up", at="laptop")
    deliver(cable, DEVICE)
    cable.start("device", sys.executable, "-c", PAGES, "get", "-")
    screen = terminal(*cable.inside("laptop"), *ASKPORT, "--job", str(job))
    screen.until("zl0", "heard ")
    ping = ["ping", "-c", "3", "192.168.61.254"]
    cable.start("device", *ping)
    walk(screen, ("Enter ▸ Use zl0.", "Enter"), ("Enter ▸ Use this device", "Enter"), ("Enter ▸ Borrow", "Enter"),
         ("Open page", "o"), ("leads one browser", ""))  # fmt: skip
    url = re.search(r"http://127\.\S+", screen.screen())[0]
    cable.in_laptop(sys.executable, "-c", BROWSER, "get", url, "10.84.16.31", "10.84.19.254")
    walk(screen, ("and put it back.", "l"), ("Record DP-1", "s"),
         ("What is this kind called", "Enter"), ("Saved in", "Enter"), ("DP-1 is recorded", "g"),
         ("Power-cycle which units", "Enter"), ("Crate, same as DP-1", ""))  # fmt: skip
    for number, done in ((2, "DP-2 is recorded"), (3, "Every device on the job list is recorded")):
        deliver(cable, f"{DEVICE[:-2]}4{number}")
        screen.keys("Enter")
        screen.until(f"DP-{number} pump", "◆ Find")
        cable.start("device", *ping)
        walk(screen, (f"as DP-{number}, like DP-1", "Enter"), ("and put it back.", "l"),
             (done, ""))  # fmt: skip
    screen.leave()
    rows = json.loads(cable.askport("register", "list", job, "--json").stdout)["devices"]
    assert [(each["tag"], each["way"], each["as_left"]["address"]["value"]) for each in rows] == [
        ("DP-1", "hand", "10.84.16.31"), ("DP-2", "page", "10.84.16.32"), ("DP-3", "page", "10.84.16.33"),
    ]  # fmt: skip
    (kept,) = tmp_path.glob("*.kind.toml")
    again = cable.askport("kinds", "draft", job, "DP-1", "--out", tmp_path / "again.toml")
    assert "2 requests, 3 values put in" in again.stderr
    first, second = (tomllib.loads(each.read_text()) for each in (kept, tmp_path / "again.toml"))
    assert first["way"] == second["way"]
    none = cable.askport("kinds", "draft", job, "DP-2", "--out", tmp_path / "no.toml")
    assert (none.returncode, "Nothing was kept of how DP-2 was set" in none.stderr) == (1, True)


def test_a_lesson_is_looked_at_and_thrown_away_on_the_screen(cable, terminal, tmp_path):
    job, kind = tmp_path / "site.askport", tmp_path / "site.pump.kind.toml"
    kind.write_text(A_STEP.format(place="/set-it").replace('"x"', '"a pump"'))
    cable.ip("addr", "add", "192.168.61.7/24", "dev", "zd0")
    screen = terminal(*cable.inside("laptop"), *ASKPORT, "--job", str(job))
    walk(screen, ("Enter ▸ Use zl0.", "Enter"), ("◆ Find", "h"), ("a pump  by page", ""), ("/set-it", "DC"),
         ("stay as they are. Type yes.", "yes"), ("Enter deletes it.", "Enter"),
         ("No lessons yet", "Escape"), ("◆ Find", ""))  # fmt: skip
    assert not kind.exists()


def walk(screen, *steps):
    """Wait for each text, and press the key that goes with it."""
    for waits, key in steps:
        screen.until(waits)
        screen.keys(*([key] if key else []))


ASTRAY = r"""
import http.server
class Page(http.server.BaseHTTPRequestHandler):
    def log_message(self, *_): pass
    def say(self, status, text, **headers):
        self.send_response(status); self.send_header("Content-Type", "text/html")
        for key, value in headers.items(): self.send_header(key, value)
        self.end_headers(); self.wfile.write(text.encode())
    def do_GET(self):
        if self.path == "/away": return self.say(302, "", Location="http://10.9.9.9/evil")
        if self.path == "/wrong": return self.wfile.write(b"\\x1b[2J is no HTTP\\r\\n\\r\\n")
        many = "".join(f'<input type=hidden name=h{each} value=v{each}{each}>' for each in range(20000))
        self.say(200, "<title>\\x1b[31mPump</title>your address is 10.1.2.3" + many)
        while self.path == "/endless": self.wfile.write(b"x" * 65536)
    def do_POST(self):
        self.rfile.read(int(self.headers["Content-Length"])); self.say(200, "now at 10.7.7.7, mask 255.0.0.0")
http.server.ThreadingHTTPServer(("", 80), Page).serve_forever()
"""
CURIOUS = r"""
import http.cookiejar, sys, urllib.error, urllib.request
class Stay(urllib.request.HTTPRedirectHandler):
    def redirect_request(self, *_): return None
cookies = urllib.request.HTTPCookieProcessor(http.cookiejar.CookieJar())
opener = urllib.request.build_opener(urllib.request.ProxyHandler({}), Stay, cookies)
asks = [("/", None), ("/endless", None), ("/away", None), ("/wrong", None)]
for path, form in [*asks, ("/save", b"ip=10.84.16.31&nm=255.255.252.0&h7=v77")]:
    try: print(opener.open(urllib.request.Request(sys.argv[1] + path, form), timeout=30).status)
    except urllib.error.HTTPError as error: print(error.code, error.read().decode().replace("\n", " "))
"""


def test_a_device_cannot_lead_a_lesson_astray(cable, tmp_path):
    learned = tmp_path / "pump.toml"
    deliver(cable, DEVICE)
    cable.ip("link", "set", "lo", "up", at="laptop")
    cable.start("device", sys.executable, "-c", ASTRAY)
    cable.listens(80)
    pipes = {"stdout": subprocess.PIPE, "stderr": subprocess.PIPE, "text": True}
    door = cable.start("laptop", *cable.command("door", "zl0", "192.168.61.7", "--learn", learned), **pipes)
    url = door.stdout.readline().strip()
    answers = cable.in_laptop(sys.executable, "-c", CURIOUS, url).splitlines()
    assert [each.split()[0] for each in answers] == ["200", "502", "302", "502", "200"]
    assert "did not answer: what it answered is no page (it never ends)" in answers[1]
    assert "did not answer: what it answered is no page" in answers[3]
    door.send_signal(signal.SIGINT)
    said = door.communicate(timeout=60)[1]
    assert door.returncode == 130, said
    assert "It sends the browser elsewhere, to http://10.9.9.9/evil" in said
    assert "written to" in said
    assert "\x1b" not in said + learned.read_text()
    assert not any(each in learned.read_text() for each in ("10.7.7.7", "10.1.2.3", "10.9.9.9"))
    assert cable.in_laptop(*cable.command("kinds", "check", learned))


def spelled(name, address, prefix):
    """Return how a form may spell an address and its length, by field."""
    octets, padded = str(address).split("."), [f"{int(each):03}" for each in str(address).split(".")]
    mask = str(IPv4Interface(f"{address}/{prefix}").netmask)
    return {
        "ip": {"ip": str(address)},
        "a": {"a": str(address)},
        "with length": {"addr": f"{address}/{prefix}"},
        "padded": {"ip": ".".join(padded)},
        "one hex": {"i": f"{int(address):08x}"},
        "0x": {"i": hex(int(address))},
        "number": {"i": str(int(address))},
        "ad1": {f"ad{n}": each for n, each in enumerate(octets, 1)},
        "abcd": dict(zip(("ipa", "ipb", "ipc", "ipd"), octets, strict=True)),
        "odd": dict(zip(("first", "second", "third", "fourth"), octets, strict=True)),
        "three digits": {f"o{n}": each for n, each in enumerate(padded, 1)},
        "host only": {"host": octets[3]},
        "net and host": {"net": ".".join(octets[:3]), "host": octets[3]},
        "JSON": {"cfg": json.dumps({"ip": octets})},
    }[name] | {"m": {"bits": str(prefix)}, "n": {"netmask": mask}}["m" if prefix % 2 else "n"]


SPELLINGS = ("ip", "a", "with length", "padded", "one hex", "0x", "number", "ad1", "abcd", "odd", "three digits",
             "host only", "net and host", "JSON")  # fmt: skip

NOT_UNDERSTOOD = ("one hex", "0x", "number", "host only", "net and host", "JSON", "odd")


@given(
    spelling=st.sampled_from(SPELLINGS), prefix=st.sampled_from((16, 22, 23, 24)),
    others=st.permutations(["rt", "ntp"]),
    first=st.integers(1, 250), second=st.integers(1, 250), behind=st.booleans(), is_seen=st.booleans(),
    is_known=st.booleans(),
)  # fmt: skip
def test_by_a_lesson_the_second_unit_is_told_its_own_address_or_there_is_none(
    spelling, prefix, others, first, second, behind, is_seen, is_known
):
    """Whatever the form is like, and whatever its fields are called."""
    first, second = IPv4Address(f"10.84.16.{first}"), IPv4Address(f"10.84.17.{second}")
    router = {each: {"rt": "10.84.16.254", "ntp": "10.84.16.253"}[each] for each in others}

    def form(address):
        own = spelled(spelling, address, prefix)
        return {**router, **own} if behind else {**own, **router}

    body = "&".join(f"{key}={quote(text)}" for key, text in form(first).items())
    known = Target(interface=IPv4Interface(f"{first}/{prefix}"), gateway=IPv4Address("10.84.16.254"))
    lesson = learn(passed(("POST", "/s", body, "")), present=IPv4Address("192.168.61.7"),
                   target=known if is_known else None, seen=first if is_seen else None)  # fmt: skip
    if lesson.why_not:
        assert spelling in NOT_UNDERSTOOD or not (is_seen or is_known), lesson.why_not
        return
    values = values_of(Target(interface=IPv4Interface(f"{second}/{prefix}"), gateway=IPv4Address("10.84.16.254")),
                       MacAddress.parse(DEVICE))  # fmt: skip
    (told,) = [each for each in lesson.set[-1].values() if isinstance(each, dict)]
    sent, meant = {key: fill(text, values).lstrip("0") for key, text in told.items()}, form(second)
    assert {key: sent[key] for key in meant if key not in router} == {
        key: text.lstrip("0") for key, text in meant.items() if key not in router
    }, lesson.set
    assert str(second) not in (sent["rt"], sent["ntp"])


def type_lines(*talk):
    """Type on a console: what the device has said, then the line that is sent, each echoed but a secret."""
    listening = Listening()
    for said, line in talk:
        listening.heard(said.encode())
        for each in line:
            listening.said(each.encode())
            listening.heard(b"" if said.endswith("assword: ") else each.encode())
        listening.said(b"\r")
        listening.heard(b"\r\n")
    return listening


ENTERS = (("login: ", "fitter"), ("Password: ", "marked-secret"))
SETS = ("ok\r\nsw1# ", "ip 10.84.16.21/22 gw 10.84.19.254")


@pytest.mark.parametrize(
    ("sessions", "lines"),
    [
        (
            [[*ENTERS, SETS], [*ENTERS, ("# ", "save"), ("Overwrite? [y/N] ", "y")]],
            {"set": ["ip {address}/{prefix} gw {gateway}"], "keep": ["save", "y"], "login": ["{user}", "{password}"]},
        ),
        (
            [[("# ", "enable"), ("Password: ", "x"), SETS, ("# ", "write"), ("Password: ", "again"), ("# ", "reboot"),
              ("are you sure? ", "yes")]],
            {"login": ["enable", "{password}"], "set": ["ip {address}/{prefix} gw {gateway}"],
             "keep": ["write", "{password}"], "restart": ["reboot", "yes"]},
        ),
        (
            [[("Choice: ", "3"), ("Address: ", "10.84.16.21/22"), ("Choice: ", "save"), ("(y/n)? ", "y"),
              ("Choice: ", "exit"), ("Discard? ", "n")]],
            {"set": ["3", "{address}/{prefix}", "save", "y"]},
        ),
        (
            [[*ENTERS, ("# ", "configure"), ("# ", "commit")]],
            {"login": ["{user}", "{password}"], "keep": ["configure", "commit"]},
        ),
        (
            [[SETS], [("# ", "show ip")], [("# ", "wr")]],
            {"set": ["ip {address}/{prefix} gw {gateway}"], "keep": ["wr"]},
        ),
        (
            [[("# ", "ip 10.84.16.9/22"), ("10.84.16.9 is taken\r\n# ", "ip 10.84.16.21/22")]],
            {"set": ["ip {address}/{prefix}"]},
        ),
    ],
)  # fmt: skip
def test_all_sessions_of_a_unit_are_one_lesson_and_a_question_belongs_to_the_line_it_answers(sessions, lines):
    target = Target(interface=IPv4Interface("10.84.16.21/22"), gateway=IPv4Address("10.84.19.254"))
    lesson = learn_lines([type_lines(*each) for each in sessions], target)
    learned = {part: [each["send"] for each in getattr(lesson, part)] for part in ("login", "set", "keep", "restart")}
    assert {part: sent for part, sent in learned.items() if sent} == lines, lesson


@pytest.mark.parametrize("became", [["10.84.16.31/22"], ["10.84.16.31/22", "192.168.61.7/24"], []])
def test_what_passed_is_offered_however_the_device_came_there_and_can_be_taken_up_again(tmp_path, became):
    """After a way that gave it the address, and after it was put back as it was found; never before it was seen."""
    session, asked, told = MagicMock(), [], []
    session.device = SimpleNamespace(
        unit=1, chosen=None, way=SimpleNamespace(gives=True), whereabouts=None, work=SimpleNamespace(tag="FL-1"),
        became=[Target(interface=IPv4Interface(each)) for each in became], took_after_restart=False, power_cycle=None,
        old_address=None, identities=(), first_words=["Pump 7"], open_ports=[80],
    )  # fmt: skip
    told_it = passed(("POST", "/s", "ip=10.84.16.31&mask=255.255.252.0", ""))
    door = SimpleNamespace(exchanges=told_it, far=HttpPort(IPv4Address("10.84.16.9"), 80), secure=False)
    door.first = door.far
    run = SimpleNamespace(session=session, job=SimpleNamespace(path=tmp_path / "x.askport"), learn=lambda kind: None)
    desk = SimpleNamespace(workplace=SimpleNamespace(run=run), laptop=SimpleNamespace(passed=lambda _: door),
                           ask=asked.append, tell=told.append)  # fmt: skip
    keys = LessonKeys(desk, SimpleNamespace(learned=None))
    assert keys.has_lesson is bool(became)
    for _ in range(2 if became else 0):
        keys.keep()
        question = asked.pop()
        assert "with {address} for 10.84.16.31" in question.check("Pump")
        question.use(session, 0.0, "Pump")
        door.exchanges = passed(("POST", "/t", "ip=10.84.16.31&mask=255.255.252.0&save=1", ""))
        assert ("Saved in x.pump" in told.pop(), keys.has_lesson) == (True, True)
    assert [("/t" in each.read_text()) for each in tmp_path.glob("*.toml")] == [True] * bool(became)


@pytest.mark.parametrize(("user", "said"), [("", "it asks for a log-in"), ("fitter", "it does not take this log-in")])
def test_a_page_that_asks_for_a_log_in_is_said_to(user, said):
    (step,) = read_kind(A_STEP.format(place="/net").replace("post", "get"), "x.toml").way_by("page").set
    talk = PageTalk(HttpPort(IPv4Address("192.168.61.7"), 80, False, user, "x"), [step], {})
    (asked,) = [each.channel for each in talk.poll()]
    talk.channel_event(Fetched(asked, 401, "no"), 0.0)
    assert (talk.said.because, talk.wants_log_in) == (f"{said} (401 to “GET /net”)", True)


def test_its_log_in_can_be_given_though_its_kind_knows_of_none(practice):
    bench, run = practice("TG-01")
    session = walk_to(bench, run, {Phase.MAY_SET}, hands=False)
    assert session.stages.setting.asks_for is None
    session.device.wants_log_in = True
    assert session.stages.setting.asks_for is Wants.LOG_IN
