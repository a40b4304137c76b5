"""Each way onto a laptop, on a bare Debian without a network: installed, walked through, and taken away again.

They are made first, which takes minutes: ``make packages-test``.
"""

import json
import shlex
import subprocess
import time
from pathlib import Path

import pytest

from bare_debian import ROOT, BareDebian
from conftest import DEVICE, wait_for
from test_kernel import CLIENT_SCRIPT

DIST = ROOT / "dist"
PLAN = ["--mac", DEVICE, "--to", "10.84.16.21/22", "--gateway", "10.84.19.254"]


@pytest.fixture(scope="module")
def debian():
    made = BareDebian(ROOT / "build/bare.tar")
    yield made
    made.close()


@pytest.fixture
def client(cable, debian):
    """A device that asks for an address."""
    script = debian.root / "srv/client"
    script.write_text(CLIENT_SCRIPT)
    script.chmod(0o755)
    udhcpc = ["udhcpc", "-i", "zd0", "-f", "-t", "60", "-T", "1", "-s", str(script)]
    cable.start("device", *udhcpc)


def walk(debian, cable, terminal, askport, user=None, env=()):
    """Find, assign, prove, and open the full screen."""
    home = f"/home/{user or 'mia'}" if user or "SUDO_UID" in "".join(env) else "/root"
    job = f"{home}/walk-{Path(askport[0]).name}-{time.monotonic_ns()}.askport"
    run = [*env, *askport]

    def asked(*arguments):
        done = debian.run("env", *run, *arguments, cable=cable, user=user, check=False)
        assert done.stdout, done.stderr
        return json.loads(done.stdout)

    guide = debian.run("env", *run, "guide", "No", "device", user=user).stdout
    assert guide.startswith("## No device is found")
    found = asked("find", "zl0", "--seconds", "4", "--json")
    assert DEVICE in [each["mac"] for each in found["devices"]]
    said = asked("assign", "zl0", *PLAN, "--by", "dhcp", "--seconds", "30", "--job", job, "--tag", "BL-01", "--json")
    assert said["result"] == "taken", said
    proven = asked("prove", "zl0", "--mac", DEVICE, "--at", "10.84.16.21/22", "--job", job, "--json")
    assert proven["passed"] is True, proven
    row = asked("register", "list", job, "--json")["devices"][0]
    assert (row["tag"], row["result"]) == ("BL-01", "taken")
    screen = terminal(*map(shlex.quote, debian.command("env", *run, "--job", job, cable=cable, user=user)))
    screen.until("Which adapter is the cable in?", "Enter ▸ Use zl0.", seconds=60)
    screen.keys("Enter")
    screen.until("sends nothing", seconds=60)
    for key, seen in (("r", "Register"), ("Escape", "sends nothing"), ("?", "all keys")):
        screen.keys(key)
        screen.until(seen)
    screen.keys("Escape")
    screen.leave()
    assert "10.84." not in cable.adapter(), "the laptop's own end is as it was"


def test_the_debian_package_for_a_member_of_the_group(debian, cable, client, terminal):
    """Installed without a network, under its own systemd; nothing of it is done as root but what the keeper does."""
    package = debian.bring(next(DIST.glob("askport_*.deb")))
    (debian.root / "etc/askport").mkdir(exist_ok=True)
    (debian.root / "etc/askport/also-wired").write_text("zl0\n")
    with debian.booted(cable):
        debian.run("dpkg", "-i", package)
        refused = debian.run("askport", "find", "zl0", user="mia", check=False)
        assert "You are not in the group 'askport'" in refused.stderr, refused
        doctor = debian.run("askport", "doctor", user="mia", check=False)
        assert "▸ sudo usermod -aG askport $USER, and log in again" in doctor.stdout
        screen = terminal(*map(shlex.quote, debian.command("askport", user="mia")))
        screen.until("You are not in the group 'askport'", "sudo usermod -aG askport mia")
        screen.keys("q")
        debian.run("usermod", "-aG", "askport", "mia")
        walk(debian, cable, terminal, ["askport"], user="mia")
        cable.ip("addr", "add", "10.0.0.7/24", "dev", "zl0", at="laptop")
        cable.ip("route", "add", "default", "via", "10.0.0.1", at="laptop")
        find = ["askport", "find", "zl0", "--seconds", "1", "--json"]
        refused = debian.run(*find, user="mia", check=False)
        assert (refused.returncode, "used only if you type its name" in refused.stderr) == (3, True), refused
        said = debian.run("env", "ASKPORT_ALL_THE_SAME=zl0", *find, user="mia", check=False)
        assert json.loads(said.stdout)["schema"] == "askport.find/1", said
        journal = debian.run("journalctl", "-t", "askport-keeper", "--no-pager").stdout
        assert "refused to mia: The laptop's way to other networks goes over zl0" in journal
        assert debian.run("man", "-w", "askport-plan-check").stdout
        assert debian.run("dpkg", "--verify", "askport").stdout == ""
        assert "## No device is found" in (debian.root / "usr/share/doc/askport/guide.md").read_text()
    assert (debian.root / "usr/share/doc/askport/copyright").read_text().count("=" * 100) > 80


ATTACKS = r"""
import array, json, os, socket, struct, sys, time

def connected():
    control = socket.socket(socket.AF_UNIX, socket.SOCK_SEQPACKET)
    control.settimeout(20)
    control.connect("/run/askport-keeper.socket")
    return control

def told(control, request):
    control.send(request if isinstance(request, bytes) else json.dumps(request).encode())
    data, descriptors, _, _ = socket.recv_fds(control, 65536, 4)
    return json.loads(data or b"null"), descriptors

def taken():
    control = connected()
    assert told(control, {"verb": "take", "adapter": "zl0"})[0] == {"ready": True}
    return control

control = taken()
answer, (relay,) = told(control, {"verb": "open", "filter": struct.pack("HBBI", 6, 0, 0, 65536).hex()})
held = socket.socket(fileno=relay)
said = {"handed": held.family == socket.AF_UNIX}
frame = bytes.fromhex("ffffffffffff" "020000000066" "88b5") + bytes(46)
held.send(struct.pack("=BHd", 1, len(frame), 0.0) + frame)
for verb, request in (
    ("route", {"verb": "route", "to": "10.0.0.0/8", "via": "10.9.9.1"}),
    ("name server", {"verb": "borrow", "address": "192.0.2.53/32"}),
    ("own network", {"verb": "borrow", "address": "10.77.0.9/24"}),
    ("loopback", {"verb": "route", "to": "127.0.0.0/8", "via": "10.9.9.1"}),
    ("nonsense", b'{"verb": "borrow", "address": "10.84.16.9/22", "place": Infinity}'),
    ("twice", {"verb": "open", "filter": ""}),
):
    said[verb] = told(control, request)[0].get("error", "")
for _ in range(1100):
    on = told(control, {"verb": "switch-on"})[0]
said["switch-on"] = on.get("error", "")
deaf = taken()
deaf.setblocking(False)
try:
    while True:
        deaf.send(b'{"verb": "addresses"}')
except BlockingIOError:
    pass
many = []
for _ in range(300):
    try:
        many.append(connected())
    except OSError:
        pass
said["many"] = len(many)
print(json.dumps(said), flush=True)
sys.stdin.readline()
"""
"""By somebody in the group, without the program: everything that a keeper could be asked for."""


def test_a_member_who_means_harm_gets_one_cable_and_keeps_nobody_else_from_theirs(debian, cable, tmp_path):
    """Each attack is refused and stands in the journal; the service goes on for others, ends, and leaves nothing."""
    package = debian.bring(next(DIST.glob("askport_*.deb")))
    (debian.root / "etc/askport").mkdir(exist_ok=True)
    (debian.root / "etc/askport/also-wired").write_text("zl0\n")
    (debian.root / "etc/resolv.conf").write_text("nameserver 192.0.2.53\n")
    (debian.root / "srv/attacks.py").write_text(ATTACKS)
    with debian.booted(cable):
        debian.run("dpkg", "-i", package)
        debian.run("useradd", "--create-home", "olaf")
        for each in ("mia", "olaf"):
            debian.run("usermod", "-aG", "askport", each)
        cable.ip("link", "add", "zl7", "type", "veth", "peer", "name", "zl8", at="laptop")
        cable.ip("addr", "add", "10.77.0.1/24", "dev", "zl7", at="laptop")
        cable.ip("link", "set", "zl7", "up", at="laptop")
        exposure = debian.run("systemd-analyze", "security", "askport-keeper.service", check=False).stdout
        assert float(exposure.strip().rpartition("service: ")[2].split()[0]) <= 3.0, exposure
        attack = debian.command("python3", "/srv/attacks.py", user="mia")
        attacker = subprocess.Popen(attack, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True)
        said = json.loads(attacker.stdout.readline())
        assert said.pop("handed") is True
        assert said.pop("many") > 0
        assert all(said.values()), said
        beside = debian.run("askport", "find", "zl0", "--seconds", "1", "--json", user="olaf", check=False)
        assert "askport.find/1" in beside.stdout, beside
        assert debian.run("systemctl", "is-active", "askport-keeper.socket").stdout == "active\n"
        journal = debian.run("journalctl", "-t", "askport-keeper", "--no-pager").stdout
        assert "refused to mia: mia has 16 connections" in journal
        for each in ("not a private range", "reaches into 10.77.0.0/24", "more than one run", "relayed already"):
            assert each in journal, each
        assert len(journal) < 1_000_000
        begun = time.monotonic()
        debian.run("systemctl", "stop", "askport-keeper.socket", "askport-keeper.service")
        assert time.monotonic() - begun < 60  # one that does not read is not waited for
        attacker.communicate("\n")
        doctor = debian.run("askport", "doctor", user="olaf", check=False).stdout
        assert "sudo systemctl restart askport-keeper.socket" in doctor, doctor
        debian.run("systemctl", "restart", "askport-keeper.socket")
        assert "sudo systemctl restart" not in debian.run("askport", "doctor", user="olaf", check=False).stdout
        debian.run("dpkg", "--purge", "askport")
        assert debian.run("sh", "-c", "ls -d /run/askport* || true").stdout == ""


def test_an_upgrade_gives_back_first_and_removal_leaves_jobs(debian, cable):
    """The address is gone from the adapter before the files of the new version come."""
    before, package = cable.adapter(), debian.bring(next(DIST.glob("askport_*.deb")))
    debian.run("dpkg", "-i", package, cable=cable)
    borrows = subprocess.Popen(
        debian.command("askport", "borrow", "zl0", "10.84.16.9/22", cable=cable), stderr=subprocess.PIPE, text=True
    )
    assert wait_for(lambda: "10.84.16.9" in cable.adapter(), 20)
    debian.run("dpkg", "-i", package, cable=cable)
    assert cable.adapter() == before
    assert borrows.wait(10) == 3
    assert "The keeper of zl0 has ended" in borrows.stderr.read()
    job = debian.root / "home/mia/kept.askport"
    job.write_bytes(b"a job")
    debian.run("dpkg", "--purge", "askport", cable=cable)
    assert job.read_bytes() == b"a job"
    assert list((debian.root / "home/mia").glob("walk-*.askport"))
    assert not (debian.root / "opt/askport").exists()
    assert not (debian.root / "usr/bin/askport").exists()


def test_pipx_from_the_wheelhouse(debian, cable, client, terminal):
    where = debian.bring(next(DIST.glob("askport-*-wheelhouse.tar.gz")))
    wheel = next((debian.root / where[1:] / "wheels").glob("askport-*.whl")).name
    debian.run("sh", "-c", f"cd {where} && pipx install --pip-args='--no-index --find-links=wheels' wheels/{wheel}")
    walk(debian, cable, terminal, ["/root/.local/bin/askport"])
    debian.run("pipx", "uninstall", "askport")


def test_the_folder_that_needs_no_python_once_rights_are_dropped(debian, cable, client, terminal):
    """As sudo starts it: what is loaded late is read as the user who called."""
    where = debian.bring(next(DIST.glob("askport-*-folder.tar.gz")), "/opt")
    mia = debian.run("id", "-u", "mia").stdout.strip()
    walk(debian, cable, terminal, [f"{where}/askport"], env=[f"SUDO_UID={mia}", f"SUDO_GID={mia}"])
    assert "Nothing was left borrowed." in debian.run(f"{where}/askport", "restore", cable=cable).stdout


def test_pip_into_a_folder_of_its_own(debian, cable, client, terminal):
    """Beside the interpreter's own packages the keeper would not be found; it is told where it is."""
    where = debian.bring(next(DIST.glob("askport-*-wheelhouse.tar.gz")))
    debian.run("python3", "-m", "venv", "/srv/pip")
    install = ["/srv/pip/bin/pip", "install", "--quiet", "--no-index", f"--find-links={where}/wheels"]
    debian.run(*install, "--target=/srv/target", "askport")
    walk(debian, cable, terminal, ["python3", "-m", "askport"], env=["PYTHONPATH=/srv/target"])


TYPED = {
    "command": ("askport doc", "doctor"), "option": ("askport find zl0 --loud", "--loudness"),
    "adapter": ("askport find zl", "zl0"), "job file": ("askport report north", "north-hall.askport"),
    "tag": ("askport register show north-hall.askport DR", "DR-01"),
}  # fmt: skip


@pytest.mark.parametrize("shell", ["bash", "zsh", "fish"])
def test_a_live_shell_completes_commands_options_adapters_jobs_and_tags(debian, cable, terminal, shell):
    package = debian.bring(next(DIST.glob("askport_*.deb")))
    debian.run("dpkg", "-i", package)
    if not (debian.root / "home/mia/north-hall.askport").exists():
        debian.run("askport", "demo", "--headless", "/home/mia/demo", user="mia")
        debian.run("mv", "/home/mia/demo/demo.askport", "/home/mia/north-hall.askport", user="mia")
    begins = {
        "bash": "source /usr/share/bash-completion/bash_completion\nPS1='ready> '",
        "zsh": "autoload -Uz compinit; compinit -u\nPS1='ready> '",
        "fish": "function fish_prompt; echo 'ready> '; end; function fish_greeting; end",
    }
    file = debian.root / "home/mia" / {"fish": ".config/fish/config.fish"}.get(shell, f".{shell}rc")
    file.parent.mkdir(parents=True, exist_ok=True)
    file.write_text(begins[shell] + "\n")
    debian.run("chown", "-R", "mia:mia", "/home/mia")
    inside = debian.command("sh", "-c", 'cd; exec "$@"', "sh", shell, "-i", cable=cable, user="mia")
    screen = terminal(*map(shlex.quote, inside))
    screen.until("ready>")
    for typed, whole in TYPED.values():
        screen.keys("-l", typed)
        screen.keys("Tab")
        expected = f"{typed.rpartition(' ')[0]} {whole}"
        screen.until(expected)
        screen.keys("C-u")
        assert wait_for(lambda gone=expected: gone not in screen.screen(), 5)
