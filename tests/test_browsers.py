"""A real browser (Chromium) before a real page through a door: what it sends is learned, and it stays at the door.

``make browsers`` runs these; the browser and its driver are Debian's packages, and start in the laptop's namespace.
"""

import json
import os
import signal
import subprocess
import sys
import time

import pytest

from conftest import DEVICE
from test_lessons import deliver
from test_pages import certificate

PAGE = r"""
import base64, hashlib, http.server, json, re, secrets, ssl, subprocess, sys, urllib.parse
mode, pem, asked = sys.argv[1], sys.argv[2], open(sys.argv[3], "a", buffering=1)
sid, nonce = secrets.token_hex(8), secrets.token_hex(8)
def out(line): return subprocess.run(line, shell=True, capture_output=True, text=True).stdout
def here():
    ip, size = out("ip -4 -o addr show zd0").split()[3].split("/")
    mask = ".".join(str(0xffffffff << 32 - int(size) >> each & 255) for each in (24, 16, 8, 0))
    return {"ip": ip, "mask": mask, "gw": next(iter(out("ip route show default").split()[2:3]), "0.0.0.0")}
def move(ip, prefix, gw):
    run = f"sleep 0.4; ip addr flush dev zd0; ip addr add {ip}/{prefix} dev zd0; ip route add default via {gw} onlink dev zd0"
    subprocess.Popen(run, shell=True)
def length(mask): return sum(bin(int(each)).count("1") for each in mask.split("."))
def md5(text): return hashlib.md5(text.encode()).hexdigest()
FORM = "<form {a}><input name=ip value={ip}><input name=mask value={mask}><input name=gw value={gw}>{more}<button id=go>Save</button></form>"
AJAX = '''<title>Valve {mode}</title><input id=ip name=ip value={ip}><input id=mask name=mask value={mask}><input id=gw value={gw}>
<button id=go onclick="go()">Save</button><script>const v = name => document.getElementById(name).value;{script}</script>'''
class Page(http.server.BaseHTTPRequestHandler):
    protocol_version = "HTTP/1.1"
    def log_message(self, *_): pass
    def say(self, text, status=200, kind="text/html", **headers):
        self.send_response(status)
        for key, value in {"Content-Type": kind, **headers}.items(): self.send_header(key.replace("_", "-"), value)
        data = text.encode(); self.send_header("Content-Length", str(len(data))); self.end_headers(); self.wfile.write(data)
    def taken(self, form):
        move(form["ip"], length(form["mask"]), form["gw"])
        if mode == "refresh": return self.say(f'<meta http-equiv=refresh content="1;url=http://{form["ip"]}/">moving')
        if mode == "location": return self.say("", 302, Location=f"http://{form['ip']}/")
        self.say("saved", kind="text/html")
    def may(self):
        given = self.headers.get("Authorization", "")
        if mode == "basic": ok = given == "Basic " + base64.b64encode(b"fitter:marked-secret").decode()
        elif mode == "digest":
            parts = {k: v.strip('"') for k, v in (each.strip().split("=", 1) for each in given[7:].split(",") if "=" in each)}
            ok = bool(parts) and parts.get("response") == md5(":".join((md5("fitter:u:marked-secret"), nonce, parts["nc"],
                parts["cnonce"], "auth", md5(f"{self.command}:{parts['uri']}"))))
        else: return True
        if not ok: self.say("", 401, WWW_Authenticate='Basic realm="u"' if mode == "basic" else f'Digest realm="u", nonce="{nonce}", qop="auth"')
        return ok
    def do_GET(self):
        asked.write(f"GET {self.path} {self.headers.get('Host')} {'askport' in self.headers.get('Cookie', '')}\n")
        now, path = here(), self.path.partition("?")[0]
        if not self.may(): return
        if path == "/favicon.ico": return self.say("", 404)
        if mode == "socket" and self.headers.get("Upgrade"):
            key = base64.b64encode(hashlib.sha1((self.headers["Sec-WebSocket-Key"] + "258EAFA5-E914-47DA-95CA-C5AB0DC85B11").encode()).digest()).decode()
            self.wfile.write(f"HTTP/1.1 101 x\r\nUpgrade: websocket\r\nConnection: Upgrade\r\nSec-WebSocket-Accept: {key}\r\n\r\n".encode() + b"\x81\x02ok")
            self.close_connection = True; return
        if mode == "frames":
            if path == "/": return self.say("<title>Valve frames</title><frameset cols=20%,*><frame src=/menu><frame name=main src=/net></frameset>", Set_Cookie=f"sid={sid}; Path=/")
            if path == "/net" and f"sid={sid}" not in self.headers.get("Cookie", ""): return self.say("who", 403)
        a, more = "method=post action=/save", ""
        if mode == "absolute": a = f"method=post action=http://{self.headers['Host']}/save"
        if mode in ("json", "put", "socket", "computed"):
            script = {"json": 'function go(){fetch("/api",{method:"POST",headers:{"Content-Type":"application/json"},body:JSON.stringify({ip:v("ip"),mask:v("mask"),gw:v("gw")})})}',
                "put": f'const token="{sid}abcdef";function go(){{fetch("/api",{{method:"PUT",headers:{{"Content-Type":"application/json","X-Requested-With":"XMLHttpRequest","X-Token":token}},body:JSON.stringify({{ip:v("ip"),mask:v("mask"),gw:v("gw")}})}})}}',
                "computed": 'async function go(){const d=await crypto.subtle.digest("SHA-256",new TextEncoder().encode("marked-secret"));const h=[...new Uint8Array(d)].map(b=>b.toString(16).padStart(2,"0")).join("");await fetch("/login",{method:"POST",headers:{"Content-Type":"application/x-www-form-urlencoded"},body:"user=fitter&password="+h});fetch("/api",{method:"POST",headers:{"Content-Type":"application/json"},body:JSON.stringify({ip:v("ip"),mask:v("mask"),gw:v("gw")})})}'}
            script["socket"] = script["json"] + ';const s=new WebSocket("ws://"+location.host+"/status");s.onmessage=e=>document.title="status "+e.data;'
            return self.say(AJAX.replace("{mode}", mode).replace("{script}", script[mode]).replace("{ip}", now["ip"]).replace("{mask}", now["mask"]).replace("{gw}", now["gw"]))
        self.say(f"<title>Valve {mode}</title>" + FORM.format(a=a, more=more, **now))
    def do_POST(self):
        asked.write(f"{self.command} {self.path} {self.headers.get('Host')} {'askport' in self.headers.get('Cookie', '')}\n")
        body = self.rfile.read(int(self.headers.get("Content-Length", 0))).decode()
        if not self.may(): return
        own = f"http{'s' if mode == 'tls' else ''}://{self.headers['Host']}"
        if mode == "strict" and (self.headers.get("Origin") != own or not self.headers.get("Referer", "").startswith(own + "/")): return self.say("foreign", 403)
        if mode == "frames" and f"sid={sid}" not in self.headers.get("Cookie", ""): return self.say("who", 403)
        if mode == "put" and (self.command != "PUT" or self.headers.get("X-Token") != sid + "abcdef" or self.headers.get("X-Requested-With") != "XMLHttpRequest"): return self.say("no", 403)
        if self.path == "/login": return self.say("in")
        self.taken(json.loads(body) if "json" in self.headers["Content-Type"] else dict(urllib.parse.parse_qsl(body)))
    do_PUT = do_POST
server = http.server.ThreadingHTTPServer(("", 443 if mode == "tls" else 80), Page)
if mode == "tls":
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER); context.set_ciphers("ALL:@SECLEVEL=0"); context.load_cert_chain(pem)
    server.socket = context.wrap_socket(server.socket, server_side=True)
server.serve_forever()
"""

DRIVE = r"""
import json, sys, time
from selenium import webdriver
from selenium.webdriver.common.by import By
from selenium.webdriver.chrome.service import Service
url, ip, gw, mode, *more = sys.argv[1:]
options = webdriver.ChromeOptions()
for each in ("--headless=new", "--no-sandbox", "--disable-gpu", "--disable-dev-shm-usage", "--no-proxy-server",
             "--disable-background-networking", "--disable-component-update"): options.add_argument(each)
options.binary_location = "/usr/bin/chromium"
browser = webdriver.Chrome(options=options, service=Service("/usr/bin/chromedriver"))
browser.set_page_load_timeout(25)
def source(): return browser.page_source
try:
    browser.get(url)
    if mode in ("basic", "digest"):
        browser.get("http://fitter:marked-secret@" + url.split("/")[2] + "/")
    if mode == "foreign":  # a page of another origin tries to reach the door
        host = more[0]
        tries = browser.execute_async_script('''const done = arguments[arguments.length - 1], at = arguments[0];
            const out = []; (async () => {
            for (const how of [{}, {mode: "no-cors"}, {mode: "no-cors", method: "POST", body: "ip=1", credentials: "include"}])
              try { const r = await fetch("http://" + at + "/foreign", how); out.push(r.type + r.status) } catch (e) { out.push("refused") }
            try { await new Promise((ok, no) => { const s = new WebSocket("ws://" + at + "/foreign"); s.onopen = ok; s.onerror = no }); out.push("open") } catch (e) { out.push("refused") }
            const i = new Image(); i.src = "http://" + at + "/foreign.png"; const f = document.createElement("iframe"); f.src = "http://" + at + "/foreign-frame"; document.body.append(f);
            setTimeout(() => done(out), 1500) })()''', host)
        print(json.dumps(tries)); raise SystemExit
    if mode == "frames": browser.switch_to.frame("main")
    if mode == "socket":
        for _ in range(30):
            if browser.title == "status ok": break
            time.sleep(0.1)
        assert browser.title == "status ok", browser.title
    for name, text in (("ip", ip), ("mask", "255.255.252.0"), ("gw", gw)):
        field = browser.find_element(By.CSS_SELECTOR, f"[name={name}],#{name}"); field.clear(); field.send_keys(text)
    browser.find_element(By.ID, "go").click()
    time.sleep(1.0)
    seen = []
    for _ in range(12):
        if mode == "frames": browser.switch_to.default_content()
        if mode not in ("refresh", "location"):
            browser.get("/".join(url.split("/")[:3]).replace("fitter:marked-secret@", "") + "/")
        if not seen or browser.title != seen[-1]: seen.append(browser.title)
        if any("It has moved to" in each for each in seen): break
        time.sleep(0.5)
    browser.get("/".join(browser.current_url.split("/")[:3]) + "/"); seen.append(browser.title)
    print(json.dumps({"titles": seen, "at": browser.current_url}))
finally:
    browser.quit()
"""
MODES = [
    "form",
    "frames",
    "json",
    "put",
    "basic",
    "digest",
    "tls",
    "absolute",
    "socket",
    "strict",
    "refresh",
    "location",
]


def drive(cable, *arguments):
    run = subprocess.run([*cable.inside("laptop"), sys.executable, "-c", DRIVE, *arguments], capture_output=True,
                         text=True, timeout=150, env={**os.environ, "HOME": "/tmp"})  # fmt: skip
    assert run.returncode == 0, run.stderr[-3000:]
    return json.loads(run.stdout.splitlines()[-1])


@pytest.fixture
def page(cable, tmp_path):
    """Return a function that starts a page at the device's end and a door before it."""
    certificate(tmp_path / "device.pem")
    cable.ip("link", "set", "lo", "up", at="laptop")
    deliver(cable, DEVICE)

    def begin(mode, *more):
        asked = tmp_path / "asked"
        cable.start("device", sys.executable, "-c", PAGE, mode, str(tmp_path / "device.pem"), str(asked),
                    stderr=open(tmp_path / "page.log", "w"))  # noqa: SIM115 # fmt: skip
        time.sleep(0.8)
        pipes = {"stdout": subprocess.PIPE, "stderr": subprocess.PIPE, "text": True}
        port = ":443" if mode == "tls" else ""
        door = cable.start("laptop", *cable.command("door", "zl0", f"192.168.61.7{port}", *more), **pipes)
        return door, door.stdout.readline().strip(), asked

    return begin


def end(door):
    door.send_signal(signal.SIGINT)
    said = door.communicate(timeout=20)[1]
    assert door.returncode == 130, said
    assert "Traceback" not in said, said
    return said


@pytest.mark.parametrize("mode", MODES)
def test_a_browser_sets_a_unit_through_the_door_and_is_told_that_it_has_moved(cable, page, mode):
    door, url, asked = page(mode)
    seen = drive(cable, url, "10.84.16.31", "10.84.19.254", mode)
    said = end(door)
    assert "It has moved to 10.84.16.31" in seen["titles"], (seen, said)
    assert seen["titles"][-1].startswith(("Valve", "status")), (
        "the door leads on to the device's page at its new address"
    )
    assert "It has moved to 10.84.16.31: the door leads there now." in said
    lines = asked.read_text().splitlines()
    assert all(line.split()[-1] == "False" for line in lines), "the door's own cookie stays at the door"
    assert {line.split()[2] for line in lines} <= {"192.168.61.7", "10.84.16.31"}


@pytest.mark.parametrize("mode", [*MODES, "computed"])
def test_what_a_browser_sent_sets_the_next_two_units(cable, page, tmp_path, mode):
    learned, secret = tmp_path / "kind.toml", tmp_path / "secret"
    secret.write_text("marked-secret\n")
    door, url, _ = page(mode, "--learn", learned)
    drive(cable, url, "10.84.16.31", "10.84.19.254", mode)
    door.send_signal(signal.SIGINT)
    said = door.communicate(timeout=20)[1]
    if mode == "computed":
        assert "computes the password" in said
        assert not learned.exists()
        return
    assert door.returncode == 130, said
    assert cable.in_laptop(*cable.command("kinds", "check", learned))
    for number in (32, 33):
        mac = f"{DEVICE[:-2]}{number}"
        deliver(cable, mac)
        time.sleep(0.5)
        log_in = ["--user", "fitter", "--password-from", secret] if mode in ("basic", "digest") else []
        assign = ["assign", "zl0", "--mac", mac, "--to", f"10.84.16.{number}/22", "--gateway", "10.84.19.254", "--by",
                  "page", "--kind", learned, "--at", "192.168.61.7", "--json", *log_in]  # fmt: skip
        run = cable.askport(*assign, timeout=90)
        assert run.returncode == 0, run.stdout + run.stderr + learned.read_text()
        prove = cable.askport("prove", "zl0", "--mac", mac, "--at", f"10.84.16.{number}/22", "--gateway",
                              "10.84.19.254", "--was", "192.168.61.7", "--kind", learned, *log_in)  # fmt: skip
        assert prove.returncode == 0, prove.stdout + prove.stderr


FOREIGN = r"""
import http.server
class Page(http.server.BaseHTTPRequestHandler):
    def log_message(self, *_): pass
    def do_GET(self):
        self.send_response(200); self.send_header("Content-Type", "text/html"); self.end_headers(); self.wfile.write(b"<body>other</body>")
http.server.ThreadingHTTPServer(("127.0.0.1", 8123), Page).serve_forever()
"""


@pytest.mark.parametrize("let_in", [False, True])
def test_a_page_of_another_origin_or_name_reaches_no_door(cable, page, let_in):
    """Also where the same browser was let in before, under the door's name, another name and by another page."""
    door, url, asked = page("form")
    host = url.split("/")[2]
    cable.start("laptop", sys.executable, "-c", FOREIGN)
    time.sleep(0.5)
    if let_in:
        assert cable.in_laptop("curl", "-sS", url)
    before = len(asked.read_text().splitlines()) if asked.exists() else 0
    tries = drive(cable, "http://127.0.0.1:8123/", "-", "-", "foreign", host)
    assert tries[-1] == "refused"
    rebound = subprocess.run([*cable.inside("laptop"), "curl", "-sS", "-o", "/dev/null", "-w", "%{http_code}",
                              "-H", f"Host: evil.example:{host.split(':')[1]}", f"http://{host}/"],
                             capture_output=True, text=True).stdout  # fmt: skip
    again = subprocess.run([*cable.inside("laptop"), "curl", "-sS", "-o", "/dev/null", "-w", "%{http_code}", url],
                           capture_output=True, text=True).stdout if let_in else "403"  # fmt: skip
    assert (rebound, again) == ("403", "403")
    end(door)
    after = asked.read_text().splitlines() if asked.exists() else []
    assert not [line for line in after if "foreign" in line]
    assert len(after) == before, "the device hears nothing"
