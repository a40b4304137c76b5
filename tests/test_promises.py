"""What README and guide promise in passing: keys, own files, options. Each is named in README.md beside this file."""

import csv
import json
import os
import subprocess
import sys

import pytest

from askport.edges import log
from conftest import ASKPORT, DEVICE, askport, wait_for
from group_keeper import GROUP_NUMBER, MEMBER
from test_by_group import group
from test_crew import crew, heads, recorded, run

__all__ = ["crew", "group"]  # the fixtures


def test_keys_that_say_this_is_it_and_by_what_light(terminal):
    screen = terminal(*ASKPORT, "demo", "--pace", "12", "--wire", "house")
    screen.until("wrong socket?", "press d")
    screen.keys("d")
    screen.until("Use this device: 00:00:5e:00:53:")
    screen.press("Down", "▸ 00:00:5e:00:53:8c")
    screen.press("Up", "▸ 00:00:5e:00:53:f0")
    dark = screen._tmux("capture-pane", "-p", "-e")
    screen.keys("t")
    assert wait_for(lambda: backgrounds(screen._tmux("capture-pane", "-p", "-e")) - backgrounds(dark))
    screen.leave()


def backgrounds(shown):
    return {each.split("m")[0] for each in shown.split("\x1b[48;")[1:]}


def test_a_device_blinks_when_it_is_asked_to(terminal):
    screen = terminal(*ASKPORT, "demo", "--pace", "12", "--first", "FL-01")
    screen.until("No device heard yet")
    screen.press("+", "◆ greet")
    screen.until("Use this device: 00:00:5e:00:53:61", "i Blink")
    screen.press("i", "Asked it to blink")
    screen.leave()


def test_what_was_found_is_put_back_and_b_goes_a_step_back(terminal):
    screen = terminal(*ASKPORT, "demo", "--pace", "12")
    for waits in ("Enter ▸ Use this device: 00:00:5e:00:53:10", "Enter ▸ Borrow", "Enter ▸ Fill in its web page"):
        screen.until(waits)
        screen.keys("Enter")
    screen.until("Pull its power", "z Restore")
    screen.keys("z")
    screen.until("Settings of TG-01 as found, to be restored", "192.168.61.7", "wait for it at 192.168.61.7/24")
    screen.keys("Enter")
    screen.until("answered by 00:00:5e:00:53:10", "10.84.16.40 left by")
    screen.keys("b")
    screen.until("◆ Set")
    screen.leave()


def test_labels_are_scanned_and_tags_given_in_order_and_the_register_is_sorted(terminal):
    screen = terminal(*ASKPORT, "demo", "--pace", "8", "--wire", "twins", "--first", "OX-01")
    screen.until("Listening")
    screen.press("+", "6 devices use the same address 172.29.4.100")
    for key, seen in (("x", "no tag: it will not be set"), ("F7", "OX-01     to come"),
                      ("F2", "by MAC order only"), ("Escape", "x Several on switch"), ("r", "register of"),
                      ("F4", "address "), ("Escape", "x Several on switch")):  # fmt: skip
        screen.keys(key)
        screen.until(seen)
    screen.leave()


def test_an_adapter_that_is_off_is_switched_on_by_enter_and_off_again(terminal, cable, tmp_path):
    cable.ip("link", "set", "zl0", "down", at="laptop")
    screen = terminal(*cable.inside("laptop"), *ASKPORT, "--job", str(tmp_path / "site.askport"))
    screen.until("Switched off: Enter switches it on", "Enter ▸ Switch zl0 on, and use it.")
    screen.keys("Enter")
    screen.until("sends nothing")
    assert "state UP" in cable.ip("link", "show", "zl0", at="laptop")
    screen.keys("q")
    screen.until("ended 0")
    assert "state DOWN" in cable.ip("link", "show", "zl0", at="laptop")


def test_one_that_was_pulled_out_is_gone_on_from_with_another(terminal, cable, tmp_path):
    def dongle(number):
        cable.ip("link", "add", f"zl{number}", "type", "veth", "peer", "name", f"zd{number}", "netns", cable.device,
                 at="laptop")  # fmt: skip
        cable.ip("link", "set", f"zd{number}", "address", "02:00:00:00:00:95", "up")
        cable.ip("link", "set", f"zl{number}", "up", at="laptop")

    cable.ip("link", "set", "zd0", "down")
    screen = terminal(*cable.inside("laptop"), *ASKPORT, "--job", str(tmp_path / "site.askport"))
    screen.until("nothing yet")
    dongle(5)
    screen.until("Enter ▸ Use zl5.")
    screen.keys("Enter")
    screen.until("sends nothing")
    cable.ip("link", "del", "zl5", at="laptop")
    screen.until("zl5 was pulled out", "Choose an adapter.")
    screen.keys("Enter")
    dongle(6)
    screen.until("Enter ▸ Use zl6.")
    screen.keys("Enter")
    screen.until("sends nothing", "zl6")
    screen.keys("q")
    screen.until("ended 0")


def test_kinds_and_makers_of_ones_own_are_used(cable, tmp_path):
    own = tmp_path / "askport"
    (own / "kinds").mkdir(parents=True)
    kind = 'schema = "askport.kind/1"\nname = "pond pump"\n[delivered]\naddress = "192.168.61.7/24"\n'
    (own / "kinds/pump.toml").write_text(kind)
    (own / "makers.tsv").write_text("02:00:00\tOrchard Works\n")
    cable.ip("addr", "add", "192.168.61.7/24", "dev", "zd0")
    ours = {**os.environ, "XDG_CONFIG_HOME": str(tmp_path)}
    assert "pond pump" in askport("kinds", "list", env=ours).stdout
    find = ["find", "zl0", "--loudness", "call", "--within", "192.168.61.0/28", "--until-found", "--json"]
    device = json.loads(cable.askport(*find, env=ours).stdout)["devices"][0]
    assert (device["mac"], device["maker"]) == (DEVICE, "Orchard Works")


def test_a_plan_is_written_as_it_can_be_imported_again(tmp_path):
    plan, again = tmp_path / "plan.csv", tmp_path / "again.csv"
    plan.write_text("Tag;Address;Mask;Gateway;Room\nTG-01;10.84.16.40;255.255.252.0;10.84.19.254;North\n")
    for table, job in ((plan, "one.askport"), (again, "two.askport")):
        assert askport("plan", "import", table, "--job", tmp_path / job).returncode == 0
        out = tmp_path / "again.csv" if table is plan else tmp_path / "third.csv"
        assert askport("plan", "export", tmp_path / job, "--out", out).returncode == 0
    rows = [list(csv.DictReader(each.open(newline=""))) for each in (again, tmp_path / "third.csv")]
    assert rows[0] == rows[1]
    assert "TG-01" in rows[0][0].values()
    assert "North" in rows[0][0].values()


def test_a_second_laptop_has_a_name_of_its_own_and_a_database_that_moved_is_named(crew, database, tmp_path):
    second = tmp_path / "second.askport"
    assert "anna-2 is a member" in run("join", database.url("anna"), "--job", second, "--as", "anna-2")
    recorded(second, "TG-09", 9)
    moved = (
        f"postgresql://anna@localhost:{database.port}/site?sslmode=verify-full&sslrootcert={database.folder}/server.crt"
    )
    assert "3 lines went" in run("sync", second, "--url", moved)
    run("sync", crew[0])
    assert heads(crew[0]) == heads(second)


@pytest.mark.night
def test_the_log_stays_within_three_megabytes(tmp_path, monkeypatch):
    monkeypatch.setattr(log, "_LOG", log._Log())
    log.begin(tmp_path)
    for number in range(30_000):
        log.event("borrowed", address="10.84.16.9/22", adapter="zl0", number=number, why="x" * 100)
    sizes = [each.stat().st_size for each in tmp_path.iterdir()]
    assert (len(sizes), sum(sizes) < 3_000_000, max(sizes) > 900_000) == (3, True, True)
    assert "number=29999" in (tmp_path / "askport.log").read_text()


AS_MEMBER = """
from askport.edges.invoker import drop_to_invoker
drop_to_invoker()
from askport.cli.main import main
main()
"""


def test_the_adapter_of_the_default_route_is_used_where_its_name_stands_in_the_environment(cable, group, monkeypatch):
    cable.ip("addr", "add", "192.0.2.7/24", "dev", "zl0", at="laptop")
    cable.ip("route", "add", "default", "via", "192.0.2.1", "dev", "zl0", at="laptop")
    for word, status in (("", 3), ("zl0", 1)):
        told = {"SUDO_UID": str(MEMBER), "SUDO_GID": str(GROUP_NUMBER), "ASKPORT_ALL_THE_SAME": word}
        program = [*cable.inside("laptop"), sys.executable, "-c", AS_MEMBER, "find", "zl0", "--seconds", "0.2"]
        done = subprocess.run(program, env={**os.environ, **told}, capture_output=True, text=True)
        assert (done.returncode, "ASKPORT_ALL_THE_SAME=zl0" in done.stderr) == (status, status == 3), done


@pytest.mark.night
def test_a_range_of_a_million_is_swept_at_a_hundred_thousand_a_second(cable):
    cable.ip("addr", "add", "172.31.255.77/16", "dev", "zd0")
    sweep = ["find", "zl0", "--loudness", "sweep", "--within", "172.16.0.0/12", "--rate", 100000, "--seconds", 120]
    document = json.loads(cable.askport(*sweep, "--json", timeout=300).stdout)
    assert document["swept"]["questions"] == 1 << 20
    assert [each["addresses"][0]["address"] for each in document["devices"]] == ["172.31.255.77"]
