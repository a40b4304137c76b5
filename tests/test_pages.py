"""Setting on a device's page by the requests of its kind, against a real HTTP server in the device namespace."""

import datetime
import json
import signal
import subprocess
import sys
import time

import pytest

from conftest import DEVICE, askport

SERVER = r"""
import hashlib, http.server, ssl, subprocess, sys, urllib.parse
digest, tls, way_out = sys.argv[1] == "digest", sys.argv[2], sys.argv[3]
def md5(text): return hashlib.md5(text.encode()).hexdigest()
class Page(http.server.BaseHTTPRequestHandler):
    protocol_version = "HTTP/1.1"
    def log_message(self, *_): pass
    def allowed(self):
        if not digest: return True
        given = self.headers.get("Authorization", "")
        parts = dict(each.strip().split("=", 1) for each in given[7:].split(",")) if given.startswith("Digest") else {}
        parts = {key: value.strip('"') for key, value in parts.items()}
        if parts:
            ha1, ha2 = md5("fitter:device:marked-secret"), md5(f"{self.command}:{parts['uri']}")
            whole = ":".join((ha1, parts["nonce"], parts["nc"], parts["cnonce"], parts["qop"], ha2))
            if parts["response"] == md5(whole): return True
        length = int(self.headers.get("Content-Length", 0)); self.rfile.read(length)
        self.send_response(401)
        self.send_header("WWW-Authenticate", 'Digest realm="device", nonce="abc", qop="auth", algorithm=MD5')
        self.send_header("Content-Length", "0"); self.end_headers()
        return False
    def say(self, status, text, **headers):
        self.send_response(status)
        for key, value in headers.items(): self.send_header(key, value)
        self.send_header("Content-Length", str(len(text))); self.end_headers(); self.wfile.write(text.encode())
    def do_GET(self):
        if self.allowed(): self.say(200, '<form><input type=hidden name="token" value="t-4711"></form>')
    def do_POST(self):
        if not self.allowed(): return
        form = urllib.parse.parse_qs(self.rfile.read(int(self.headers["Content-Length"])).decode())
        if form.get("token") != ["t-4711"]: self.say(403, "no"); return
        ip, mask = form["ip"][0], form["mask"][0]
        if way_out == "redirect": self.say(302, "", Location=f"http://{ip}/")
        elif way_out != "silent": self.say(200, "saved")
        move = f"sleep 0.3; ip addr flush dev zd0; ip addr add {ip}/22 dev zd0; "
        move += f"ip route add default via {form['gw'][0]}"
        subprocess.Popen(move if way_out != "slip" else "true", shell=True)
        if way_out == "silent": self.close_connection = True; self.wfile.close()
server = http.server.HTTPServer(("", 443 if tls != "no" else 80), Page)
if tls != "no":
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    context.set_ciphers("ALL:@SECLEVEL=0"); context.minimum_version = ssl.TLSVersion.TLSv1
    if tls == "old": context.maximum_version = ssl.TLSVersion.TLSv1
    context.load_cert_chain(sys.argv[4])
    server.socket = context.wrap_socket(server.socket, server_side=True)
server.serve_forever()
"""
KIND = """schema = "askport.kind/1"
name = "test page"
[[way]]
by = "page"
scheme = "SCHEME"
takes_effect = "at once"
permanent = "yes"
set = [
  { get = "/net", find = 'name="token" value="(?P<token>[^"]+)"' },
  { post="/save", status = [200, 302], form = { ip="{address}", mask="{mask}", gw="{gateway}", token="TOKEN" } },
]
"""


def certificate(path):
    """Write a certificate that the device made itself."""
    from cryptography import x509
    from cryptography.hazmat.primitives import hashes, serialization
    from cryptography.hazmat.primitives.asymmetric import rsa

    key, now = rsa.generate_private_key(65537, 1024), datetime.datetime(2020, 1, 1)
    name = x509.Name([x509.NameAttribute(x509.NameOID.COMMON_NAME, "device")])
    made = x509.CertificateBuilder().subject_name(name).issuer_name(name).public_key(key.public_key())
    made = made.serial_number(1).not_valid_before(now).not_valid_after(now + datetime.timedelta(9999))
    pem = serialization.Encoding.PEM
    private = key.private_bytes(pem, serialization.PrivateFormat.TraditionalOpenSSL, serialization.NoEncryption())
    path.write_bytes(private + made.sign(key, hashes.SHA256()).public_bytes(pem))


@pytest.mark.by_day(2, 4)
@pytest.mark.parametrize(
    ("log_in", "tls", "way_out", "token", "result", "said"),
    [
        ("open", "no", "plain", "{token}", "taken", "It is at 10.84.16.40."),
        ("digest", "no", "redirect", "{token}", "taken", "It is at 10.84.16.40."),
        ("digest", "old", "silent", "{token}", "taken", "It is at 10.84.16.40."),
        ("open", "no", "plain", "wrong", "refused", "answered 403 to “POST /save”"),
        ("open", "no", "slip", "{token}", "sent", "the device is not at 10.84.16.40: it is at 192.168.77.20"),
    ],
)
def test_a_form_with_a_hidden_token_is_filled_in_and_the_move_followed(
    cable, tmp_path, log_in, tls, way_out, token, result, said
):
    cable.ip("addr", "add", "192.168.77.20/24", "dev", "zd0")
    certificate(tmp_path / "pem")
    cable.start("device", sys.executable, "-c", SERVER, log_in, tls, way_out, str(tmp_path / "pem"))
    kind, secret = tmp_path / "page.toml", tmp_path / "secret"
    kind.write_text(KIND.replace("SCHEME", "http" if tls == "no" else "https").replace("TOKEN", token))
    secret.write_text("marked-secret\n")
    time.sleep(0.8)
    before = cable.adapter()
    run = cable.askport(
        "assign", "zl0", "--mac", DEVICE, "--to", "10.84.16.40/22", "--gateway", "10.84.19.254", "--by", "page", "--at",
        "192.168.77.20", "--kind", kind, "--user", "fitter", "--password-from", secret, "--json",
    )  # fmt: skip
    assert run.stdout, run.stderr
    document = json.loads(run.stdout)
    assert (document["result"], said in document["because"]) == (result, True), document
    told = [step["text"] for step in document["steps"] if "it is new here" in step["text"]]
    assert bool(told) is (tls != "no") is any("over TLSv1:" in each for each in told)
    assert cable.adapter() == before
    assert "marked-secret" not in run.stdout + run.stderr
    if result == "taken":
        assert document["permanent"] is True
        prove = ["prove", "zl0", "--mac", DEVICE, "--at", "10.84.16.40/22", "--gateway", "10.84.19.254", "--json"]
        assert json.loads(cable.askport(*prove).stdout)["passed"]


@pytest.mark.parametrize("end", [signal.SIGINT, signal.SIGKILL])
def test_what_a_page_was_told_is_on_record_though_its_end_came_before_the_end(cable, tmp_path, end):
    """The device has taken it, and nobody knows yet: the job must; with a flat battery, as it was found."""
    cable.ip("addr", "add", "192.168.77.20/24", "dev", "zd0")
    cable.start("device", sys.executable, "-c", SERVER, "open", "no", "slip")
    kind, job = tmp_path / "page.toml", tmp_path / "site.askport"
    kind.write_text(KIND.replace("SCHEME", "http").replace("TOKEN", "{token}"))
    time.sleep(0.8)
    run = cable.start(
        "laptop", *cable.command("assign", "zl0", "--mac", DEVICE, "--to", "10.84.16.40/22", "--by", "page", "--at",
        "192.168.77.20", "--gateway", "10.84.19.254", "--kind", kind, "--job", job, "--tag", "TG-01"),
        stderr=subprocess.PIPE, text=True,
    )  # fmt: skip
    while "Waiting for it at" not in run.stderr.readline():
        assert run.poll() is None
    run.send_signal(end)
    assert run.wait(60) == (130 if end == signal.SIGINT else -end), run.stderr.read()
    (row,) = json.loads(askport("register", "list", job, "--json").stdout)["devices"]
    left = row["as_left"]["address"]["value"]
    assert (row["tag"], row["as_found"]["address"], left) == ("TG-01", "192.168.77.20", None)
    told = ("page", "sent") if end == signal.SIGINT else (None, None)
    assert (row["way"], row["result"], row["state"]) == (*told, "found")
