"""A switch of twins with a page each: how much longer all of them take than one of them alone."""

import json
import os
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from namespaces import cable

_COUNT, _BOOT_S, _DEFAULT = 24, 15, "192.168.61.7"
_ASKPORT = str(Path(sys.executable).with_name("askport"))
_PAGE = r"""
import http.server, subprocess, sys, urllib.parse
class Page(http.server.BaseHTTPRequestHandler):
    def log_message(self, *_): pass
    def do_GET(self):
        form = dict(urllib.parse.parse_qsl(self.path.partition("?")[2]))
        if form:
            again = f"ip addr add {form['ip']}/{form['len']} dev e0;"
            again += f"ip route add default via {form['gw']} onlink dev e0"
            subprocess.Popen(f"sleep 0.3; ip addr flush dev e0; sleep {sys.argv[1]}; {again}", shell=True)
        self.send_response(200); self.end_headers(); self.wfile.write(b"<title>pH head</title>")
http.server.ThreadingHTTPServer(("", 80), Page).serve_forever()
"""
_KIND = f"""schema = "askport.kind/1"
name = "pH head"
[recognise]
mac = ["00:00:5e:77"]
[delivered]
address = "{_DEFAULT}/24"
[needs]
boot_s = {_BOOT_S + 5}
[[way]]
by = "page"
scheme = "http"
takes_effect = "at once"
permanent = "yes"
set = [{{ get = "/set?ip={{address}}&len={{prefix}}&gw={{gateway}}" }}]
"""


def _ip(*arguments: str) -> None:
    subprocess.run(["ip", *arguments], check=True, capture_output=True)


def _seconds(count: int) -> float:
    """Hang so many units on a switch, and return how long it takes until all are set and proven."""
    started: list[subprocess.Popen[bytes]] = []
    rooms: list[str] = []
    with cable() as (laptop, device), tempfile.TemporaryDirectory() as folder:
        try:
            _ip("-n", device, "link", "add", "br0", "type", "bridge")
            _ip("-n", device, "link", "set", "zd0", "master", "br0")
            _ip("-n", device, "link", "set", "br0", "up")
            for number in range(count):
                rooms.append(f"askport-bu{os.getpid()}-{number}")
                _ip("netns", "add", rooms[-1])
                _ip("-n", device, "link", "add", f"p{number}", "master", "br0", "type", "veth", "peer", "name", "e0",
                    "netns", rooms[-1])  # fmt: skip
                _ip("-n", device, "link", "set", f"p{number}", "up")
                _ip("-n", rooms[-1], "link", "set", "e0", "address", f"00:00:5e:77:00:{number + 1:02x}", "up")
                _ip("-n", rooms[-1], "addr", "add", f"{_DEFAULT}/24", "dev", "e0")
                page = ["ip", "netns", "exec", rooms[-1], sys.executable, "-c", _PAGE, str(_BOOT_S)]
                started.append(subprocess.Popen(page, stderr=subprocess.DEVNULL))
            job, plan, labels = (Path(folder) / name for name in ("hall.askport", "plan.csv", "labels.txt"))
            rows = [f"PH-{number + 1:02},10.84.16.{31 + number},22,10.84.19.254" for number in range(count)]
            plan.write_text("\n".join(["tag,address,prefix,gateway", *rows]))
            labels.write_text("".join(f"00:00:5e:77:00:{n + 1:02x}\tPH-{n + 1:02}\n" for n in range(count)))
            (Path(folder) / "ph-head.kind.toml").write_text(_KIND)
            subprocess.run([_ASKPORT, "plan", "import", plan, "--job", job], check=True, capture_output=True)
            time.sleep(3.0)
            began = time.perf_counter()
            crate = [_ASKPORT, "crate", "zl0", "--job", str(job), "--labels", str(labels), "--json"]
            run = subprocess.run(["ip", "netns", "exec", laptop, *crate], capture_output=True, text=True, timeout=900)
            took = time.perf_counter() - began
            states = [each["state"] for each in json.loads(run.stdout)["units"]]
            if states != ["recorded"] * count:
                raise RuntimeError(f"{states}: {run.stderr}")
            return took
        finally:
            for each in started:
                each.kill()
                each.wait()
            for room in rooms:
                subprocess.run(["ip", "netns", "del", room], capture_output=True)


def all_beside_one() -> None:
    """Set and prove a switch full of twins, and one of them alone."""
    if os.geteuid() != 0:
        print("a switch at once: not measured without root")
        return
    one, many = _seconds(1), _seconds(_COUNT)
    print(
        f"a switch at once: {_COUNT} units that start in {_BOOT_S} s in {many / one:.2f} times the time of one "
        f"({many:.0f} s to {one:.0f} s)"
    )
