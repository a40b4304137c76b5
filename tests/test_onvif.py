"""ONVIF: a device service on a real HTTP server, whose digest is worked out apart from the product."""

import json
import sys
from datetime import UTC, datetime
from importlib import import_module
from ipaddress import IPv4Address, IPv4Interface
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from askport.core.formats import onvif
from askport.core.ways.onvif_way import _service_of
from conftest import DEVICE

CAMERA = r"""
import base64, datetime, hashlib, http.server, re, socket, struct, subprocess, sys
mode, count, offset = sys.argv[1], sys.argv[2], datetime.timedelta(days=5 * 365)
saved = {"gateway": None}
def clock(): return datetime.datetime.utcnow() - offset
def move():
    at = saved["address"]
    run = f"sleep 0.4; ip addr flush dev zd0; ip addr add {at} dev zd0;"
    subprocess.Popen(run + f"ip route add default via {saved['gateway']} dev zd0", shell=True)
class Service(http.server.BaseHTTPRequestHandler):
    def log_message(self, *_): pass
    def date_time_string(self, *_):
        return (clock() if mode == "rude" else datetime.datetime.utcnow()).strftime("%a, %d %b %Y %H:%M:%S GMT")
    def say(self, body, status=200, **headers):
        text = ('<?xml version="1.0"?><env:Envelope xmlns:env="http://www.w3.org/2003/05/soap-envelope" '
                'xmlns:d="http://www.onvif.org/ver10/device/wsdl" xmlns:t="http://www.onvif.org/ver10/schema">'
                f'<env:Body>{body}</env:Body></env:Envelope>').encode()
        self.send_response(status); self.send_header("Content-Type", "application/soap+xml")
        for key, value in headers.items(): self.send_header(key.replace("_", "-"), value)
        self.send_header("Content-Length", str(len(text))); self.end_headers(); self.wfile.write(text)
    def knows(self, text):
        if mode == "open": return True
        if mode == "digest":
            given = self.headers.get("Authorization", "")
            if given: open(count, "a").write("x")
            parts = dict(re.findall(r'(\w+)="?([^",]+)"?', given))
            md5 = lambda what: hashlib.md5(what.encode()).hexdigest()
            ha = md5("fitter:cam:marked-secret"), md5(f"POST:{parts.get('uri')}")
            whole = ":".join((ha[0], *(parts.get(each, "") for each in ("nonce", "nc", "cnonce", "qop")), ha[1]))
            return parts.get("response") == md5(whole)
        names = "Username", "Password", "Nonce", "Created"
        found = [re.search(f"<[^>]*{each}[^>]*>([^<]+)<", text) for each in names]
        if not all(found): return False
        open(count, "a").write("x")
        user, digest, nonce, created = (each[1] for each in found)
        at = datetime.datetime.strptime(created, "%Y-%m-%dT%H:%M:%SZ")
        right = hashlib.sha1(base64.b64decode(nonce) + created.encode() + b"marked-secret").digest()
        return user == "fitter" and base64.b64decode(digest) == right and abs((at - clock()).total_seconds()) < 20
    def do_POST(self):
        text = self.rfile.read(int(self.headers["Content-Length"])).decode()
        action = re.search(r"<(?:\w+:)?Body><(?:\w+:)?(\w+)", text)[1]
        if mode == "rude" and not saved.get("met"):  # it was asleep
            saved["met"] = True
            self.connection.setsockopt(socket.SOL_SOCKET, socket.SO_LINGER, struct.pack("ii", 1, 0))
            self.close_connection = True
            return self.connection.close()
        if action == "GetSystemDateAndTime" and mode != "rude":
            now = clock(); part = lambda **all: "".join(f"<t:{name}>{value}</t:{name}>" for name, value in all.items())
            time = part(Hour=now.hour, Minute=now.minute, Second=now.second)
            date = part(Year=now.year, Month=now.month, Day=now.day)
            moment = f"<t:UTCDateTime><t:Time>{time}</t:Time><t:Date>{date}</t:Date></t:UTCDateTime>"
            moment = f"<d:SystemDateAndTime>{moment}</d:SystemDateAndTime>"
            return self.say(f"<d:{action}Response>{moment}</d:{action}Response>")
        if not self.knows(text):
            if mode == "digest":
                return self.say("", 401, WWW_Authenticate='Digest realm="cam", nonce="abc", qop="auth", algorithm=MD5')
            code = "<env:Subcode><env:Value>ter:NotAuthorized</env:Value></env:Subcode>"
            code = f"<env:Value>env:Sender</env:Value>{code}"
            return self.say(f"<env:Fault><env:Code>{code}</env:Code></env:Fault>", 400)
        inner = ""
        held = subprocess.run(["ip", "-o", "-4", "addr", "show", "zd0"], capture_output=True, text=True).stdout
        at, length = re.search(r"inet ([\d.]+)/(\d+)", held).groups()
        value = lambda name: re.findall(f"<[^>]*{name}>([^<]+)<", text)
        if action == "GetNetworkInterfaces":
            manual = f"<t:Manual><t:Address>{at}</t:Address><t:PrefixLength>{length}</t:PrefixLength></t:Manual>"
            mac = open("/sys/class/net/zd0/address").read().strip()
            inner = (f'<d:NetworkInterfaces token="net0"><t:Enabled>true</t:Enabled><t:Info><t:HwAddress>{mac}'
                     f"</t:HwAddress></t:Info><t:IPv4><t:Enabled>true</t:Enabled><t:Config>{manual}<t:DHCP>false</t:DHCP>"
                     "</t:Config></t:IPv4></d:NetworkInterfaces>")
        if action == "GetNetworkDefaultGateway" and saved["gateway"]:
            inner = f"<d:NetworkGateway><t:IPv4Address>{saved['gateway']}</t:IPv4Address></d:NetworkGateway>"
        if action == "GetDNS":
            inner = "<d:DNSInformation><t:FromDHCP>false</t:FromDHCP></d:DNSInformation>"
        if action == "SetNetworkDefaultGateway": saved["gateway"] = value("IPv4Address")[0]
        if action == "SetNetworkInterfaces":
            if value("InterfaceToken") != ["net0"]: return self.say("", 400)
            saved["address"] = f"{value('Address')[0]}/{value('PrefixLength')[0]}"
            reboots = {"reboot": "true", "rude": "1"}.get(mode, "false")
            inner = f"<d:RebootNeeded>{reboots}</d:RebootNeeded>"
            if reboots == "false": move()
        if action == "SystemReboot": move(); inner = "<d:Message>now</d:Message>"
        self.say(f"<d:{action}Response>{inner}</d:{action}Response>")
http.server.ThreadingHTTPServer(("", 80), Service).serve_forever()
"""
PLAN = ["--gateway", "10.84.19.254", "--mac", DEVICE, "--json"]
SET = ["assign", "zl0", "--to", "10.84.16.47/22", "--by", "onvif", "--at", "192.168.61.7"]


@pytest.fixture
def camera(cable, tmp_path):
    """Gives what starts a device service, and a file whose length says how often a log-in was tried."""
    (tmp_path / "right").write_text("marked-secret\n")
    (tmp_path / "wrong").write_text("guessed\n")

    def start(mode):
        cable.ip("addr", "add", "192.168.61.7/24", "dev", "zd0")
        cable.start("device", sys.executable, "-W", "ignore", "-c", CAMERA, mode, str(tmp_path / "tried"))
        cable.listens(80)
        return tmp_path / "tried"

    return start


@pytest.mark.by_day(1)
@pytest.mark.parametrize("mode", ["token", "digest", "reboot", "open"])
def test_a_device_with_a_clock_five_years_off_is_read_set_and_followed(cable, camera, tmp_path, mode):
    camera(mode)
    before = cable.adapter()
    log_in = [] if mode == "open" else ["--user", "fitter", "--password-from", tmp_path / "right"]
    read = ["settings", "zl0", "--mac", DEVICE, "--by", "onvif", *log_in, "--json", "--at"]
    run = cable.askport(*read, "192.168.61.7")
    told = json.loads(run.stdout)
    assert (told["address"], told["prefix"], told["origin"]) == ("192.168.61.7", 24, "static"), run.stdout + run.stderr
    assert ("give it a password" in told["because"]) is (mode == "open")
    run = cable.askport(*SET, *log_in, *PLAN)
    document = json.loads(run.stdout)
    assert (document["result"], document["permanent"], run.returncode) == ("taken", True, 0), run.stdout + run.stderr
    assert ("“SystemReboot”: acknowledged." in [each["text"] for each in document["steps"]]) is (mode == "reboot")
    assert cable.askport("prove", "zl0", "--at", "10.84.16.47/22", *PLAN).returncode == 0
    told = json.loads(cable.askport(*read, "10.84.16.47").stdout)
    assert (told["prefix"], told["gateway"]) == (22, "10.84.19.254")
    assert cable.adapter() == before
    assert "marked-secret" not in run.stdout + run.stderr


@pytest.mark.by_day(0)
@pytest.mark.parametrize("mode", ["token", "digest"])
def test_a_wrong_password_is_tried_once(cable, camera, tmp_path, mode):
    tried = camera(mode)
    run = cable.askport(*SET, "--user", "fitter", "--password-from", tmp_path / "wrong", *PLAN)
    document = json.loads(run.stdout)
    assert (document["result"], run.returncode) == ("refused", 1), run.stdout
    assert "it did not take the log-in, which was given once only, because some lock after three" in document["because"]
    assert len(tried.read_text()) == 1
    none = json.loads(cable.askport(*SET, *PLAN).stdout)
    assert "it asks for a log-in: give its name and password" in none["because"]
    assert len(tried.read_text()) == 1
    assert "192.168.61.7" in cable.ip("addr", "show", "zd0")


@pytest.mark.parametrize("code", sorted(onvif.FAULTS))
def test_every_fault_has_its_sentence(code):
    inner = f"<s:Subcode><s:Value>ter:{code}</s:Value></s:Subcode>"
    fault = f"<s:Fault><s:Code><s:Value>s:Sender</s:Value>{inner}</s:Code></s:Fault>"
    assert onvif.fault_of(onvif.read_answer(onvif.envelope(fault))) == code
    assert onvif.FAULTS[code].startswith("it ")


@given(st.text(max_size=300))
def test_whatever_a_device_answers_is_read_or_is_none(text):
    for each in (text, onvif.envelope(text), f"<!DOCTYPE a [<!ENTITY b 'c'>]>{onvif.envelope('')}"):
        try:
            body = onvif.read_answer(each)
        except onvif.NotOnvif:
            continue
        onvif.fault_of(body)
        onvif.clock_of(body)
        assert "DOCTYPE" not in each


def test_our_messages_keep_to_the_schema():
    """Judged by the interface description that the standard publishes, as a package for clients carries it."""
    etree, where = import_module("lxml.etree"), import_module("onvif")
    schema = device_schema(etree, where)
    token = onvif.username_token("fitter", "secret", bytes(16), datetime(2026, 3, 4, tzinfo=UTC))
    interface, address = IPv4Interface("10.84.16.47/22"), IPv4Address("10.84.19.254")
    for body in (
        onvif.ask("GetSystemDateAndTime"), onvif.ask("GetNetworkInterfaces"), onvif.ask("GetDNS"),
        onvif.ask("GetNetworkDefaultGateway"), onvif.ask("GetHostname"), onvif.ask("SystemReboot"),
        onvif.set_gateway(address), onvif.set_dns([address]), onvif.set_interface("eth0", interface),
    ):  # fmt: skip
        message = etree.fromstring(onvif.envelope(body, token).encode())
        (part,) = message.find("{http://www.w3.org/2003/05/soap-envelope}Body")
        schema.assertValid(part)


def device_schema(etree, package):
    folder = next(Path(package.__file__).parent.rglob("devicemgmt.wsdl")).parent
    types = etree.parse(folder / "devicemgmt.wsdl").find(".//{http://www.w3.org/2001/XMLSchema}schema")
    path = folder / "askport-device.xsd"
    path.write_bytes(etree.tostring(types))
    try:
        return etree.XMLSchema(etree.parse(path))
    finally:
        path.unlink()


def test_a_camera_that_resets_hides_its_clock_and_writes_ones_is_set(cable, camera, tmp_path):
    """Its Date header tells the clock that its log-in needs; the restart that it asks for is made."""
    camera("rude")
    log_in = ["--user", "fitter", "--password-from", tmp_path / "right"]
    run = cable.askport(*SET, *log_in, *PLAN)
    document = json.loads(run.stdout)
    assert (document["result"], run.returncode) == ("taken", 0), run.stdout + run.stderr
    assert "“SystemReboot”: acknowledged." in [step["text"] for step in document["steps"]]


@pytest.mark.parametrize(
    ("url", "port", "service"),
    [
        ("http://192.168.1.7:8080/onvif/dev", None, (8080, False, "/onvif/dev")),
        ("https://10.9.9.9/onvif/device_service", None, (443, True, "/onvif/device_service")),
        ("http://192.168.1.7:8080/onvif/dev", 81, (81, False, "/onvif/dev")),
        ("", None, (80, False, onvif.PATH)),
        ("http://[::1/", None, (80, False, onvif.PATH)),
        ("http://h:99999/x", None, (80, False, "/x")),
    ],
)
def test_a_service_is_where_the_camera_says_and_never_at_another_host(url, port, service):
    here = IPv4Address("192.168.61.7")
    far, path = _service_of(here, url, port)
    assert (far.address, far.port, far.secure, path) == (here, *service)
