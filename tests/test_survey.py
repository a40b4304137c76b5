"""The site network held against the plan: real hosts behind a real switch, a router and a real address server."""

import json
import sys
import time

from askport.edges.jobfile import JobFile
from conftest import askport, askport_in_bounds

HOSTS = r"""
import socket, struct, sys
# Answers ARP as several hosts, each with a MAC address of its own.
wire = socket.socket(socket.AF_PACKET, socket.SOCK_RAW, socket.htons(0x0806))
wire.bind(("br0", 0x0806))
hosts = dict(each.split("=") for each in sys.argv[1:])
hosts = {socket.inet_aton(at): bytes.fromhex(mac.replace(":", "")) for at, mac in hosts.items()}
while True:
    frame = wire.recv(2000)
    asks, who = frame[20:22] == b"\0\1", frame[38:42]
    if asks and who in hosts:
        mac = hosts[who]
        wire.send(frame[6:12] + mac + b"\x08\x06" + frame[14:20] + b"\0\2" + mac + who + frame[22:32])
"""
PLAN = """tag;ip;mask;gateway;mac
D-1;10.84.16.11;24;10.84.16.254;02:00:00:00:10:11
D-2;10.84.16.12;24;10.84.16.254;02:00:00:00:10:12
D-3;10.84.16.13;24;10.84.16.254;02:00:00:00:10:13
D-4;10.84.16.14;24;10.84.16.254;02:00:00:00:10:14
D-5;10.84.16.15;24;10.84.16.254;
"""


def test_each_planned_address_is_said_right_beside_twenty_hosts(cable, tmp_path):
    """One as planned, one held by another, one free, one with a host that nobody knows; a router and a server."""
    job, file = tmp_path / "site.askport", tmp_path / "plan.csv"
    file.write_text(PLAN)
    assert askport("plan", "import", file, "--job", job).returncode == 0
    cable.bridge()
    cable.behind("br0", "02:00:00:00:00:fe", "10.84.16.254/24")
    hosts = [f"10.84.16.{number}=02:00:00:00:20:{number:02x}" for number in range(100, 117)]
    hosts += ["10.84.16.11=02:00:00:00:10:11", "10.84.16.12=02:00:00:00:99:99", "10.84.16.15=02:00:00:00:99:98"]
    cable.start("device", sys.executable, "-c", HOSTS, *hosts)
    server = cable.behind("br0", "02:00:00:00:00:fd", "10.84.16.253/24")
    cable.partner("dnsmasq", "-k", "-C", "/dev/null", "-i", "e0", "-p", "0", "-u", "root", "--no-ping",
                  "--dhcp-range=10.84.16.150,10.84.16.199,600", "--dhcp-option=3,10.84.16.254", "--bind-dynamic",
                  "--dhcp-option=6,10.84.16.253", f"--dhcp-leasefile={tmp_path}/leases", at=server)  # fmt: skip
    time.sleep(1.0)
    before = cable.adapter()
    run = cable.askport("survey", "zl0", "--job", job, "--json")
    assert run.stdout, run.stderr
    document = json.loads(run.stdout)
    said = {each["tag"]: (each["state"], each["mac"]) for each in document["planned"]}
    assert said == {
        "D-1": ("as-left", "02:00:00:00:10:11"), "D-2": ("held-by-another", "02:00:00:00:99:99"),
        "D-3": ("free", None), "D-4": ("free", None), "D-5": ("held-by-another", "02:00:00:00:99:98"),
    }  # fmt: skip
    assert document["gateway"] == {"address": "10.84.16.254", "mac": "02:00:00:00:00:fe"}
    assert len(document["found"]) == 20 + 2
    assert run.returncode == 1
    assert cable.adapter() == before
    server = document["server"]
    assert (server["address"], server["lease_s"], server["dns"]) == ("10.84.16.253", 600, ["10.84.16.253"])
    assert 150 <= int(server["offered"][0].rsplit(".", 1)[1]) <= 199
    assert not (tmp_path / "leases").exists() or not (tmp_path / "leases").read_text().strip()


def test_whether_all_are_still_there_is_one_command(cable, tmp_path):
    job = tmp_path / "site.askport"
    cable.ip("addr", "add", "10.84.16.21/24", "dev", "zd0")
    cable.ip("route", "add", "default", "via", "10.84.16.254", "dev", "zd0", "onlink")
    prove = ["prove", "zl0", "--mac", "02:00:00:00:00:99", "--at", "10.84.16.21/24", "--job", job, "--tag", "BL-01"]
    assert cable.askport(*prove).returncode == 0
    file = tmp_path / "plan.csv"
    file.write_text("tag;ip;mask\nBL-01;10.84.16.21;24\n")
    askport("plan", "import", file, "--job", job)
    run = cable.askport("survey", "zl0", "--job", job)
    assert (run.returncode, "BL-01: is there as it was left: 10.84.16.21." in run.stdout) == (0, True), run.stdout
    cable.ip("addr", "flush", "dev", "zd0")
    run = cable.askport("survey", "zl0", "--job", job)
    assert (run.returncode, "was left at 10.84.16.21, and nobody answers there" in run.stdout) == (1, True)


def test_a_range_that_would_take_hours_is_refused_before_anything_is_made_of_it(tmp_path):
    job = tmp_path / "job.askport"
    JobFile(job, create=True).close()
    run = askport_in_bounds("survey", "zl0", "--job", job, "--within", "10.0.0.0/8")
    assert (run.returncode, "has 16,777,216 addresses, which takes" in run.stderr) == (2, True), run
