"""The laptop is as it was: furnishings of every kind, a full /run, cut journals, renamed adapters, deaf managers."""

import json
import os
import resource
import signal
import subprocess
import sys
import time
from pathlib import Path

import pytest

from conftest import askport, children, wait_for

ENDINGS = int(os.environ.get("ASKPORT_ENDINGS", "7"))
"""How many of the places where a journal can be cut are tried; ``make endings`` tries every one."""

FURNISHINGS = {
    "route metrics": ["route add 198.51.100.0/24 via 192.0.2.1 dev zl0 mtu 1400 advmss 1360 initcwnd 20 initrwnd 20"],
    "quickack": ["route add 198.51.100.0/24 via 192.0.2.1 dev zl0 quickack 1 rto_min 50ms"],
    "onlink": ["route add 198.51.100.0/24 via 203.0.113.1 dev zl0 onlink"],
    "multipath": ["route add 198.51.100.0/24 nexthop via 192.0.2.1 dev zl0 nexthop via 192.0.2.2 dev zl0 weight 3"],
    "local route": ["route add local 198.51.100.7/32 dev zl0 table local proto static"],
    "another table": ["route add default via 192.0.2.1 dev zl0 table 77"],
    "type of service": ["route add 198.51.100.0/24 via 192.0.2.1 dev zl0 tos 0x10",
                        "route add 198.51.100.0/24 via 192.0.2.2 dev zl0"],
    "source": ["route add 198.51.100.0/24 via 192.0.2.1 dev zl0 src 192.0.2.8"],
    "several alike": ["route add 198.51.100.0/24 via 192.0.2.1 dev zl0 metric 5",
                      "route append 198.51.100.0/24 via 192.0.2.2 dev zl0 metric 5"],
    "scope": ["route add 198.51.100.0/24 dev zl0 scope link"],
    "address metric": ["addr add 198.18.0.5/16 dev zl0 metric 300"],
    "deprecated": ["addr add 198.18.0.5/16 dev zl0 preferred_lft 0 valid_lft forever"],
    "lifetime": ["addr add 198.18.0.5/16 dev zl0 valid_lft 900 preferred_lft 800"],
    "peer": ["addr add 198.18.0.5 peer 198.18.7.7/32 dev zl0", "addr add 198.18.0.6/16 dev zl0"],
    "no prefix route": ["addr add 198.18.0.5/16 dev zl0 noprefixroute"],
    "label and broadcast": ["addr add 198.18.0.5/16 brd 198.18.0.255 dev zl0 label zl0:old"],
    "scope of an address": ["addr add 198.18.0.5/16 dev zl0 scope link"],
    "route by IPv6": ["-6 addr add 2001:db8::1/64 dev zl0 nodad",
                      "route add 198.51.100.0/24 via inet6 2001:db8::9 dev zl0"],
    "neighbours": ["neigh add 192.0.2.1 lladdr 02:00:00:00:00:aa nud permanent dev zl0",
                   "neigh add 192.0.2.2 lladdr 02:00:00:00:00:ab nud noarp dev zl0",
                   "neigh add 192.0.2.3 lladdr 02:00:00:00:00:ac nud stale dev zl0"],
    "answers for others": ["neigh add proxy 198.51.100.9 dev zl0"],
}  # fmt: skip


def furnished(cable):
    """Return everything that IPv4 knows of the adapter; what is left of a lifetime does not count."""
    address = json.loads(cable.ip("-j", "-d", "addr", "show", "dev", "zl0", at="laptop"))[0]["addr_info"]
    for each in address:
        for name in ("valid_life_time", "preferred_life_time"):
            each[name] = each[name] > 0
    return (address, cable.ip("route", "show", "table", "all", at="laptop"), cable.ip("neigh", "show", at="laptop"),
            cable.ip("neigh", "show", "proxy", at="laptop"))  # fmt: skip


@pytest.mark.by_day(*range(0, 40, 4))
@pytest.mark.parametrize("how", ["--instead", "beside"])
@pytest.mark.parametrize("name", FURNISHINGS)
def test_every_furnishing_comes_back(cable, name, how):
    """An address in the same subnet borrowed beside them, or one instead of all: identical afterwards."""
    for address in ("192.0.2.7/24", "192.0.2.8/24"):
        cable.ip("addr", "add", address, "dev", "zl0", at="laptop")
    for line in FURNISHINGS[name]:
        cable.ip(*line.split(), at="laptop")
    before = furnished(cable)
    how = [each for each in (how,) if each == "--instead"]
    run = cable.askport("borrow", "zl0", "192.0.2.9/24", "--on-adapter", *how, "--", "true")
    assert run.returncode == 0, run.stderr
    assert furnished(cable) == before


def test_what_cannot_be_put_back_is_not_taken_away(cable):
    """A route by a next-hop object: nothing is borrowed instead, and nothing has changed."""
    cable.ip("addr", "add", "192.0.2.7/24", "dev", "zl0", at="laptop")
    cable.ip("nexthop", "add", "id", "7", "via", "192.0.2.1", "dev", "zl0", at="laptop")
    cable.ip("route", "add", "198.51.100.0/24", "nhid", "7", at="laptop")
    before = furnished(cable)
    run = cable.askport("borrow", "zl0", "10.84.16.9/22", "--instead", "--", "true")
    assert (run.returncode, "could not be put back" in run.stderr) == (3, True), run
    assert furnished(cable) == before


def test_an_address_that_somebody_adds_meanwhile_stays(cable):
    """In the borrowed subnet, where the kernel would take it away with the first one."""
    cable.in_laptop(
        "sysctl", "-qw", "net.ipv4.conf.all.promote_secondaries=0", "net.ipv4.conf.zl0.promote_secondaries=0"
    )
    adds = ["ip", "addr", "add", "10.84.16.77/22", "dev", "zl0"]
    run = cable.askport("borrow", "zl0", "10.84.16.9/22", "--on-adapter", "--", *adds)
    assert run.returncode == 0, run.stderr
    left = cable.ip("addr", "show", "zl0", at="laptop")
    assert ("10.84.16.77/22" in left, "10.84.16.9/22" in left) == (True, False)
    assert "10.84.16.0/22 dev zl0" in cable.ip("route", "show", at="laptop")


def test_things_that_look_alike_are_undone_each_for_itself(cable):
    run = cable.askport("borrow", "zl0", "10.84.16.9/22", "172.29.4.50/24", "--route", "203.0.113.0/24=10.84.16.40",
                        "--route", "203.0.113.0/25=10.84.16.40", "--on-adapter", "--", "true")  # fmt: skip
    assert run.returncode == 0, run.stderr
    assert cable.ip("route", "show", at="laptop") == ""


FULL = (
    "mount -t tmpfs -o size={size} none /run; "
    "{before} {askport} borrow zl0 --on-adapter 10.84.16.9/22 172.29.4.9/24 {after}"
)


@pytest.mark.by_day(0)
@pytest.mark.parametrize("when", ["before", "meanwhile"])
def test_a_full_run_directory_loses_nothing(cable, when):
    """Full before: nothing is borrowed, with a sentence. Full meanwhile: everything comes back all the same."""
    fill = "dd if=/dev/zero of=/run/full bs=1k 2>/dev/null;"
    ours = cable.command()[0]
    script = FULL.format(size="300k", askport=ours, before=fill if when == "before" else "",
                         after="-- true" if when == "before" else f"-- sh -c '{fill} true'")  # fmt: skip
    before = cable.adapter()
    run = subprocess.run([*cable.inside("laptop"), "unshare", "-m", "sh", "-c", script], capture_output=True, text=True)
    assert cable.adapter() == before
    if when == "before":
        assert (run.returncode, "has no room for what is to be undone" in run.stderr) == (3, True), run.stderr
    else:
        assert (run.returncode, "Gave 172.29.4.9/24 and 10.84.16.9/22 on zl0 back." in run.stderr) == (0, True), (
            run.stderr
        )


SAVES_WHILE_ANOTHER_CHANGES = """
import socket, sys, threading, time
from struct import pack
from askport.edges.kernel import rtnetlink, state
from askport.edges.kernel.rtnetlink import ADDRESS, Kernel, with_attributes

index = socket.if_nametoindex("zl0")
def message(block, number):
    raw = bytes((10, 1, block, number))
    return with_attributes(pack(ADDRESS, 2, 32, 0, 0, index), _2=raw, _1=raw)
def change(over):
    netlink = Kernel()
    while True:
        for number in range(7 * 250):
            if over.wait(0.001):
                return
            netlink.take_away(rtnetlink.DELADDR, message(*divmod(number, 250)))
            netlink.send(rtnetlink.NEWADDR, message(*divmod(number, 250)), rtnetlink.CREATE)

netlink, over = Kernel(), threading.Event()
for number in range(8 * 250):
    netlink.send(rtnetlink.NEWADDR, message(*divmod(number, 250)), rtnetlink.CREATE)
thread = threading.Thread(target=change, args=(over,), daemon=True)
thread.start()
wanted, whole, wrong = sorted(f"10.1.7.{number}/32" for number in range(250)), 0, 0
for _ in range(100):
    try:
        found = [state.written(each) for each in state.addresses(netlink, index)]
    except OSError:
        continue  # refused, and said: a laptop under load is changed faster than it can tell
    right = sorted(each for each in found if each.startswith("10.1.7.")) == wanted
    whole, wrong = whole + right, wrong + (not right)
over.set()
thread.join()
print(whole > 0, wrong)
"""


@pytest.mark.night
def test_what_changes_while_it_is_saved_is_saved_whole(cable):
    """The kernel tells much in pieces; an address that goes in between would hide another one that stays."""
    assert cable.in_laptop(sys.executable, "-c", SAVES_WHILE_ANOTHER_CHANGES) == "True 0\n"


def test_giving_back_needs_no_file_descriptor(cable):
    before = cable.adapter()
    program = cable.start("laptop", *cable.command("borrow", "zl0", "10.84.16.9/22"), stderr=subprocess.PIPE, text=True)
    assert wait_for(lambda: "10.84.16.9" in cable.adapter())
    resource.prlimit(int(children(program.pid)[0]), resource.RLIMIT_NOFILE, (3, 3))
    program.send_signal(signal.SIGINT)
    said = program.communicate(timeout=60)[1]
    assert (cable.adapter() == before, "Gave 10.84.16.9/22 on zl0 back." in said) == (True, True), said


def leave_borrowed(cable, *arguments):
    """End a borrowing program and its keeper at once, so that everything stays borrowed."""
    program = cable.start("laptop", *cable.command("borrow", "zl0", *arguments))
    assert wait_for(lambda: all(each.split("/")[0] in cable.adapter() for each in arguments if "/" in each))
    time.sleep(0.1)
    keeper = int(children(program.pid)[0])
    os.kill(keeper, signal.SIGSTOP)
    program.kill()
    program.wait()
    os.kill(keeper, signal.SIGKILL)
    assert wait_for(lambda: not os.path.exists(f"/proc/{keeper}") or "Z" in state_of(keeper))


def state_of(pid):
    try:
        return Path(f"/proc/{pid}/stat").read_text().split(")")[1].split()[0]
    except OSError:
        return "Z"


def journals(cable):
    inode = cable.in_laptop("stat", "-Lc", "%i", "/proc/self/ns/net").strip()
    return sorted(Path("/run/askport").glob(f"{inode}-*.journal"))


@pytest.mark.parametrize("how", ["renamed", "another MAC address", "renamed, by the next start"])
def test_an_adapter_is_found_by_what_it_is(cable, how):
    cable.ip("addr", "add", "192.0.2.7/24", "dev", "zl0", at="laptop")
    leave_borrowed(cable, "10.84.16.9/22")
    name = "zl0"
    if "renamed" in how:
        name = "zl9"
        cable.ip("link", "set", "zl0", "name", name, at="laptop")
    else:
        cable.ip("link", "set", "zl0", "address", "02:00:00:00:00:77", at="laptop")
    if "start" in how:
        assert "gave back 10.84.16.9/22" in cable.askport("find", name, "--seconds", 0.1).stderr
    else:
        assert f"{name}: gave back 10.84.16.9/22." in cable.askport("restore").stdout
    left = cable.ip("addr", "show", name, at="laptop")
    assert ("10.84.16.9" in left, "192.0.2.7/24" in left) == (False, True)
    assert journals(cable) == []


def test_a_journal_that_was_cut_is_undone_as_far_as_it_goes_and_said(cable):
    """At every length (or some): what can be read of it is undone; where not all can, that is said, and never well."""
    leave_borrowed(cable, "10.84.16.9/22", "172.29.4.9/24")
    (path,) = journals(cable)
    whole = path.read_bytes()
    end = len(whole.rstrip(b"\0"))
    lengths = range(end + 1) if ENDINGS > 100 else range(0, end + 1, end // ENDINGS)
    for length in lengths:
        path.write_bytes(whole[:length])
        for address in ("10.84.16.9/22", "172.29.4.9/24"):
            subprocess.run(
                [*cable.inside("laptop"), "ip", "addr", "replace", address, "dev", "zl0"], capture_output=True
            )
        run = cable.askport("restore")
        left = [each for each in ("10.84.16.9", "172.29.4.9") if each in cable.adapter()]
        if length:
            assert (run.returncode, "cannot be read" in run.stderr) == (3, True), (length, run)
        assert "Traceback" not in run.stderr
        records = whole[:length].count(b"\n") - 1
        assert len(left) == 2 - max(0, records), (length, left)
        for each in journals(cable):
            each.unlink()


def test_a_keeper_that_was_stopped_is_not_said_to_have_given_back(cable):
    """What the keeper has not confirmed is not claimed; once it goes on, everything comes back."""
    before = cable.adapter()
    program = cable.start("laptop", *cable.command("borrow", "zl0", "10.84.16.9/22"), stderr=subprocess.PIPE, text=True)
    assert wait_for(lambda: "10.84.16.9" in cable.adapter())
    keeper = int(children(program.pid)[0])
    os.kill(keeper, signal.SIGSTOP)
    program.send_signal(signal.SIGINT)
    said = program.communicate(timeout=120)[1]
    os.kill(keeper, signal.SIGCONT)
    assert ("Gave" in said, "does not answer" in said, program.returncode) == (False, True, 3), said
    assert wait_for(lambda: cable.adapter() == before)


@pytest.mark.parametrize("command", ["exec sleep 60", "trap '' INT TERM; sleep 60", "trap '' INT; sleep 60"])
def test_a_signal_to_the_program_alone_ends_the_command_and_gives_back(cable, command):
    before = cable.adapter()
    program = cable.start(
        "laptop",
        *cable.command("borrow", "zl0", "10.84.16.9/22", "--on-adapter", "--", "sh", "-c", command),
        start_new_session=True,
    )
    assert wait_for(lambda: "10.84.16.9" in cable.adapter())
    time.sleep(0.3)
    program.send_signal(signal.SIGINT)
    assert wait_for(lambda: cable.adapter() == before)
    assert program.wait(60) == 130


def test_a_manager_that_does_not_take_back_is_said_and_asked_again(cable, tmp_path):
    """Its refusal is no success: the undo is kept, and the next restore finishes it."""
    deaf = tmp_path / "nmcli"
    (tmp_path / "state").write_text("yes\n")
    beside = [
        *cable.inside("laptop"),
        "unshare",
        "-m",
        "sh",
        "-c",
        f'mount --bind {deaf} /usr/bin/nmcli; exec "$@"',
        "sh",
    ]
    let_go = f"echo no > {tmp_path}/state"
    deaf.write_text(f"#!/bin/sh\ncase $* in *show*) cat {tmp_path}/state;; *no) {let_go};; *yes) exit 1;; esac\n")
    deaf.chmod(0o755)
    run = askport("borrow", "zl0", "10.84.16.9/22", "--on-adapter", "--", "true", prefix=beside)
    assert run.returncode == 3, run
    assert "Not given back on zl0: its network manager (NetworkManager does not take it back)" in run.stderr
    assert "10.84.16.9" not in cable.adapter()
    again = askport("restore", prefix=beside)
    assert (again.returncode, "Not given back" in again.stderr) == (3, True)
    deaf.write_text("#!/bin/sh\necho yes\n")
    assert "gave back its network manager" in askport("restore", prefix=beside).stdout
