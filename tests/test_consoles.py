"""Setting over a console on a real kernel: real Telnet and SSH servers whose prompt changes the namespace's address."""

import json
import os
import subprocess
import sys
import time

import pytest

from conftest import ASKPORT, DEVICE, askport, wait_for
from test_lessons import walk

PROMPT = r"""#!/bin/sh
# A device's prompt: running and kept address, paging, refusals, and a connection that may be lost at a line.
state=$(dirname "$0")
say() { printf '%s\r\n' "$1"; }
lost() { [ -n "$1" ] && [ "$(cat "$state/lose" 2>/dev/null)" = "$1" ] && kill -9 $PPID && exit; }
if [ -e "$state/login" ]; then
    printf 'login: '; read -r user; lost login
    printf 'password: '; read -r password
    [ "$user $password" = "fitter marked-secret" ] || { say 'access denied'; exit 1; }
fi
say 'Blower Drive'
while printf '> ' && read -r verb address mask gateway; do
    lost "$verb"
    case $verb in
    ip)
        case $address in *.66) say "error: $address is not allowed"; continue;; esac
        echo "$address" >"$state/running"
        ip addr flush dev zd0; ip addr add "$address/22" dev zd0; ip route add default via "$gateway" dev zd0 onlink
        ;;
    show)
        for line in 1 2 3; do say "line $line"; done
        [ "$address" = ip ] && at=$(ip -o -4 addr show dev zd0 | sed 's/.*inet \([0-9.]*\).*/\1/')
        stty -icanon; printf -- '--More--'; dd bs=1 count=1 >/dev/null 2>&1; stty icanon
        say ''; say "address ${at:-none} mask 255.255.255.0 gateway ${lie:-0.0.0.0}"
        ;;
    save) cp "$state/running" "$state/kept"; say 'saved';;
    '') ;; # somebody pressed Enter
    *) say "error: what is $verb";;
    esac
done
"""
KIND = r"""schema = "askport.kind/1"
name = "test drive"
[[way]]
by = "console"
over = "OVER"
takes_effect = "at once"
permanent = "after keep"
refused = ["error", "denied"]
LOGIN
read = [{ expect = "> ", send = "show ip", find = 'address (?P<address>\S+) mask (?P<mask>\S+) ' }]
set = [{ expect = "> ", send = "SET" }]
keep = [{ expect = "> ", send = "save" }]
"""
LOGIN = 'login = [{ expect = "login:", send = "{user}" }, { expect = "assword:", send = "{password}" }]'
SET = "ip {address} {mask} {gateway}"


class Device:
    """The device namespace with a prompt behind a real server."""

    def __init__(self, cable, tmp_path):
        self.cable, self.path = cable, tmp_path
        self.prompt = tmp_path / "prompt"
        self.prompt.write_text(PROMPT)
        self.prompt.chmod(0o755)
        cable.ip("addr", "add", "192.168.77.20/24", "dev", "zd0")

    def telnetd(self):
        self.cable.partner("busybox", "telnetd", "-F", "-p", "23", "-l", str(self.prompt))
        self.cable.listens(23)

    def ssh(self, server, more=""):
        hashed = ["openssl", "passwd", "-6", "-salt", "salt", "marked-secret"]
        secret = subprocess.run(hashed, check=True, capture_output=True, text=True).stdout.strip()
        said = (self.path / "ssh.log").open("w")
        self.cable.start("device", "unshare", "-m", "sh", "-c", SSH, "sh", str(self.path), server, secret,
                         more, stdout=said, stderr=said)  # fmt: skip
        self.cable.listens(22)

    def kind(self, over="telnet", login=False, line=SET):
        kind = self.path / "test.toml"
        kind.write_text(KIND.replace("OVER", over).replace("LOGIN", LOGIN if login else "").replace("SET", line))
        return kind

    def assign(self, *, over="telnet", login=False, account=False, line=SET, to="10.84.16.21/22"):
        kind = self.kind(over, login, line)
        arguments = ["assign", "zl0", "--mac", DEVICE, "--to", to, "--gateway", "10.84.19.254", "--by", "console",
                     "--at", "192.168.77.20", "--kind", str(kind), "--seconds", "40", "--json"]  # fmt: skip
        if login or account:
            secret = self.path / "secret"
            secret.write_text("marked-secret\n")
            arguments += ["--user", "fitter", "--password-from", str(secret)]
        before = self.cable.adapter()
        state, job = self.path / "state", self.path / "kept.askport"
        environment = {**os.environ, "XDG_STATE_HOME": str(state)}
        run = self.cable.askport("--log-level", "debug", *arguments, "--job", job, env=environment, timeout=90)
        assert run.stdout, run.stderr
        written = [each for each in (job, *state.rglob("*")) if each.is_file()]
        assert any(each.name == "askport.log" for each in written)
        assert not any(b"marked-secret" in each.read_bytes() for each in written)
        assert self.cable.adapter() == before
        assert "marked-secret" not in run.stdout + run.stderr
        return json.loads(run.stdout)

    def kept(self):
        kept = self.path / "kept"
        return kept.read_text().strip() if kept.exists() else None


@pytest.fixture
def device(cable, tmp_path):
    return Device(cable, tmp_path)


INETD = r"""
import socket, subprocess, sys
listens = socket.create_server(("", 23))
while True:
    connection, _ = listens.accept()
    subprocess.Popen(sys.argv[1:], stdin=connection, stdout=connection, stderr=subprocess.DEVNULL)
    connection.close()
"""


@pytest.mark.parametrize("server", ["busybox", "inetutils"])
def test_lines_over_telnet_are_said_followed_and_kept_and_proven(device, server):
    """The second looks up the laptop's name before it says a word, which takes long where nobody answers."""
    if server == "busybox":
        device.telnetd()
    else:
        device.cable.start("device", sys.executable, "-c", INETD, "/usr/sbin/telnetd", "-E", str(device.prompt))
        device.cable.listens(23)
    document = device.assign()
    assert (document["result"], document["permanent"]) == ("taken", True), str(document)
    texts = [each["text"] for each in document["steps"]]
    assert "It moved: 192.168.77.20 to 10.84.16.21, same MAC." in texts
    assert device.kept() == "10.84.16.21"
    prove = device.cable.askport("prove", "zl0", "--mac", DEVICE, "--at", "10.84.16.21/22", "--gateway", "10.84.19.254",
                                 "--was", "192.168.77.20", "--json")  # fmt: skip
    assert json.loads(prove.stdout)["passed"], prove.stdout


def test_what_it_says_itself_is_read_through_paging(device):
    device.telnetd()
    device.kind()
    read = ["settings", "zl0", "--mac", DEVICE, "--at", "192.168.77.20", "--kind", device.path / "test.toml", "--json"]
    run = device.cable.askport(*read)
    document = json.loads(run.stdout)
    assert (run.returncode, document["address"], document["prefix"]) == (0, "192.168.77.20", 24), str(document)
    assert (document["gateway"], document["schema"]) == (None, "askport.settings/1")


@pytest.mark.by_day(0, 4)
@pytest.mark.parametrize(
    ("options", "lose", "result", "said"),
    [
        ({"login": True}, "", "taken", "confirmed saving the address"),
        ({"to": "10.84.16.66/22"}, "", "refused", "error: 10.84.16.66 is not allowed"),
        ({"line": "show it"}, "", "sent", "it is at 192.168.77.20"),
        ({}, "ip", "sent", "the device is not at 10.84.16.21: it is at 192.168.77.20"),
        ({}, "save", "taken", "Saving the address was not confirmed"),
        ({"login": True}, "login", "no-answer", "was the last that was sent"),
    ],
)
def test_what_comes_in_between_is_told_as_it_is(device, options, lose, result, said):
    """A log-in, a refusal, paging, and the connection lost at each line in turn."""
    if options.get("login"):
        (device.path / "login").touch()
    (device.path / "lose").write_text(lose)
    device.telnetd()
    document = device.assign(**options)
    assert document["result"] == result, document
    assert said in document["because"], document
    if result == "taken":
        assert document["permanent"] is (device.kept() is not None)


SSH = r"""
home=$1 server=$2
mount --make-rprivate /; mount -t tmpfs none /run; mkdir -p /run/sshd
cp /etc/passwd "$home/passwd"; printf 'fitter:%s:0:0::/:%s\n' "$3" "$home/prompt" >>"$home/passwd"
echo 'sshd:x:65534:65534::/run/sshd:/bin/false' >>"$home/passwd"; mount --bind "$home/passwd" /etc/passwd
if [ "$server" = dropbear ]; then
    cp /etc/shells "$home/shells"; echo "$home/prompt" >>"$home/shells"; mount --bind "$home/shells" /etc/shells
    dropbearkey -t rsa -f "$home/key" >/dev/null 2>&1
    exec dropbear -F -E -r "$home/key" -p 22
fi
ssh-keygen -q -t rsa -N '' -f "$home/key"
cat >"$home/conf" <<END
HostKey $home/key
PasswordAuthentication yes
PermitRootLogin yes
UsePAM no
StrictModes no
PidFile none
$4
END
exec /usr/sbin/sshd -D -e -f "$home/conf"
"""
OLD = """KexAlgorithms diffie-hellman-group1-sha1
HostKeyAlgorithms ssh-rsa
Ciphers 3des-cbc
MACs hmac-sha1"""


@pytest.mark.by_day(1)
@pytest.mark.parametrize(("server", "more"), [("sshd", ""), ("sshd", OLD), ("dropbear", "")])
def test_the_same_lines_over_ssh(device, server, more):
    """OpenSSH, the same with nothing but what old devices have, and dropbear."""
    device.ssh(server, more)
    document = device.assign(over="ssh", account=True)
    assert (document["result"], document["permanent"]) == ("taken", True), (
        document,
        (device.path / "ssh.log").read_text(),
    )


SERIAL = r"""
import os, pty, subprocess, sys, tty
ours, theirs = pty.openpty()
tty.setraw(theirs)
print(os.ttyname(theirs), flush=True)
line, prompt = b"", b"\r\n> "
while True:
    for byte in os.read(ours, 100):
        if byte != 13:
            line += bytes((byte,))
            continue
        os.write(ours, line)
        words, line = line.decode().split(), b""
        if words[:1] == ["ip"]:
            subprocess.run(["ip", "addr", "add", words[1] + "/22", "dev", "zd0"])
        os.write(ours, b"\r\nok" + prompt if words else prompt)
"""


def test_the_same_lines_over_a_serial_line(device):
    """A pseudo terminal as the line; the device is followed on the cable, where it had no address before."""
    device.cable.ip("addr", "flush", "dev", "zd0")
    line = device.cable.start("device", sys.executable, "-c", SERIAL, stdout=subprocess.PIPE, text=True)
    path = line.stdout.readline().strip()
    arguments = ["assign", "zl0", "--mac", DEVICE, "--to", "10.84.16.21/22", "--gateway", "10.84.19.254", "--by",
                 "console", "--kind", device.kind("serial"), "--port"]  # fmt: skip
    run = device.cable.askport(*arguments, path, "--json")
    document = json.loads(run.stdout)
    assert (document["result"], document["permanent"]) == ("taken", True), str(document)
    assert "It came to 10.84.16.21, same MAC." in [each["text"] for each in document["steps"]]
    assert "No such file" in device.cable.askport(*arguments, "/dev/nothing").stdout.replace("no such", "No such")


def type_on(cable, arguments, *turns):
    """Type on a console: after each text that is waited for, keys; then end the input."""
    pipes = {"stdin": subprocess.PIPE, "stdout": subprocess.PIPE, "stderr": subprocess.PIPE}
    program = cable.start("laptop", *cable.command("console", *arguments), **pipes)
    seen = b""
    for waits, keys in turns:
        while waits.encode() not in seen:
            more = os.read(program.stdout.fileno(), 1)
            assert more, (seen, program.stderr.read())
            seen += more
        seen = b""
        for key in keys:
            program.stdin.write(key.encode())
            program.stdin.flush()
            time.sleep(0.01)
    time.sleep(0.8)
    program.stdin.close()
    said = program.stderr.read().decode()
    assert program.wait(60) == 0, said
    return said


def test_a_second_terminals_console_has_a_place_of_its_own(device):
    """Beside a run that has borrowed on the adapter, which a third one may not."""
    device.telnetd()
    holds = device.cable.start("laptop", *device.cable.command("borrow", "zl0", "192.168.77.5/24"))
    assert wait_for(lambda: "192.168.77.5" in device.cable.adapter())
    before = device.cable.adapter()
    said = type_on(device.cable, ["zl0", "192.168.77.20", "--over", "telnet"], ("> ", "show\r"))
    assert "beside zl0 back" in said
    assert device.cable.adapter() == before
    other = device.cable.askport("borrow", "zl0", "10.9.9.9/24", "--on-adapter", "--", "true")
    assert (other.returncode, "Another run of Ask Port has borrowed on zl0" in other.stderr) == (3, True)
    assert holds.poll() is None


@pytest.mark.by_day(0, 2)
@pytest.mark.parametrize("over", ["telnet", "ssh", "serial"])
def test_what_is_typed_on_a_console_is_learned_and_followed_on_another_unit(device, over, tmp_path):
    """With a log-in, a correction, and a paged answer that nobody needs; what keeps it is learned afterwards."""
    learned, reach, secret = tmp_path / "drive.toml", ["zl0", "192.168.77.20", "--over", over], tmp_path / "secret"
    secret.write_text("marked-secret\n")
    account = ["--user", "fitter", "--password-from", secret] if over == "ssh" else []
    line = None
    if over == "telnet":
        (tmp_path / "login").touch()
        device.telnetd()
    elif over == "ssh":
        device.ssh("sshd")
    else:
        device.cable.ip("addr", "flush", "dev", "zd0")
        started = device.cable.start("device", sys.executable, "-c", SERIAL, stdout=subprocess.PIPE, text=True)
        line = started.stdout.readline().strip()
        reach = ["--serial", line, "--baud", "19200"]
    log_in = {"telnet": [("login: ", "fitter\r"), ("password: ", "marked-secret\r")], "serial": [("", "\r")]}.get(
        over, []
    )
    shows = [("> ", "show ipp\x7f\r"), ("--More--", " ")] if line is None else []
    address = "10.84.16.29\x7f1" if line is None else "10.84.16.21"
    set_ = f"ip {address} 255.255.252.0 10.84.19.254\r"
    taught = [*reach, *account, "--learn", learned, "--pin", DEVICE]
    said = type_on(device.cable, taught, *log_in, *shows, ("> ", set_))
    text = learned.read_text()
    assert "3 values put in" in said, said
    assert ("marked-secret" in text, "10.84.16" in text, "show" in text) == (False, False, False)
    assert 'send = "ip {address} {mask} {gateway}"' in text
    assert ('send = "{password}"' in text) is (over == "telnet")
    again = ["zl0", "10.84.16.21", "--over", over, *account] if line is None else reach
    type_on(device.cable, [*again, "--learn", learned], *log_in, ("> ", "save\r"))
    device.cable.ip("addr", "flush", "dev", "zd0")
    if line is None:
        assert device.kept() == "10.84.16.21"
        device.cable.ip("addr", "add", "192.168.77.20/24", "dev", "zd0")
    assign = ["assign", "zl0", "--mac", DEVICE, "--to", "10.84.16.22/22", "--gateway", "10.84.19.254",
              "--by", "console", "--kind", learned, "--json"]  # fmt: skip
    there = ["--at", "192.168.77.20", "--user", "fitter", "--password-from", secret]
    document = json.loads(device.cable.askport(*assign, *(there if line is None else ["--port", line])).stdout)
    assert (document["result"], document["permanent"]) == ("taken", True), f"{document} {text}"
    assert line or device.kept() == "10.84.16.22"


def test_a_console_on_the_screen_teaches_like_one_in_a_terminal(device, terminal, tmp_path):
    job, plan = tmp_path / "site.askport", tmp_path / "plan.csv"
    plan.write_text("tag;ip;mask;gateway\nBD-1;10.84.16.21;22;10.84.19.254\n")
    assert askport("plan", "import", plan, "--job", job).returncode == 0
    (tmp_path / "login").touch()
    device.telnetd()
    screen = terminal(*device.cable.inside("laptop"), *ASKPORT, "--job", str(job))
    screen.until("zl0", "heard ")
    device.cable.start("device", "ping", "-c", "9", "192.168.77.254")
    walk(screen, ("Enter ▸ Use zl0.", "Enter"), ("Enter ▸ Use this device", "Enter"), ("Enter ▸ Borrow", "Enter"),
         ("v Console", "v"))  # fmt: skip
    for waits, keys in (("login: ", "fitter"), ("password: ", "marked-secret"), ("> ", "ip 10.84.16.9"),
                        ("> ip 10.84.16.9", None), ("> ip 10.84.16. ", "21 255.255.252.0 10.84.19.254")):  # fmt: skip
        screen.until(waits)
        screen.keys(*(["Space" if each == " " else each for each in keys] if keys else ["BSpace"]))
        screen.keys(*(["Enter"] if keys and "16.9" not in keys else []))
    screen.until("To be typed", "10.84.16.21", "lines listened", "F10 to go back")
    deadline = time.monotonic() + 60
    while not (tmp_path / "running").exists():
        assert time.monotonic() < deadline, screen.screen()
        time.sleep(0.1)
    screen.keys("C-\\")
    walk(screen, ("and put it back.", "l"), ("Record BD-1", "s"),
         ("What is this kind called", "Enter"), ("Saved in", ""))  # fmt: skip
    screen.leave()
    (kept,) = tmp_path.glob("*.kind.toml")
    text = kept.read_text()
    assert 'send = "ip {address} {mask} {gateway}"' in text
    assert 'send = "{password}"' in text
    assert not any(b"marked-secret" in each.read_bytes() for each in (kept, job))
