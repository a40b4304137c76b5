"""What the rooms promise: one table of moves between phases, and one of ways."""

import json
import sys
from pathlib import Path

import pytest

import throw_away
from askport.bench.stand_in import StandIn
from askport.core.visit.narrate import next_line
from askport.core.visit.steps import Phase, Step
from askport.core.visit.transitions import Event, after, may_go_back
from askport.core.ways.table import WAYS
from conftest import DEVICE, pass_time
from test_session import walk

HERE = Path(__file__).with_name("throw_away.py")
LISTENER = """
import socket, subprocess
ears = socket.socket(socket.AF_PACKET, socket.SOCK_RAW, socket.htons(0x88B5))
ears.bind(("zd0", 0x88B5))
interface = ears.recv(1514)[14:].split()[0].decode()
subprocess.run(["ip", "addr", "add", interface, "dev", "zd0"], check=True)
"""
OPEN, CHOSEN = set(Phase) - {Phase.RECORDED}, set(Phase) - {Phase.RECORDED, Phase.PLUGGING}
LEADS = {
    "LINK_CAME": ("FINDING", {Phase.PLUGGING}),
    "LOOKS_AGAIN": ("FINDING", OPEN),
    "WAITS_FOR_LINK": ("PLUGGING", OPEN),
    "MEASURES": ("MEASURING", {Phase.FINDING}),
    "OUT_OF_REACH": ("CHOOSING", CHOSEN),
    "OFFERED": ("MAY_BORROW", {Phase.CHOOSING}),
    "BORROWS": ("BORROWING", {Phase.MAY_BORROW}),
    "BORROWS_TO_SET": ("BORROWING_TO_SET", {Phase.MAY_SET}),
    "BORROWS_TO_PROVE": ("BORROWING_TO_PROVE", {Phase.MAY_PROVE}),
    "TRIES_PORTS": ("TRYING_PORTS", {Phase.FINDING, Phase.MEASURING, Phase.BORROWING, Phase.TRYING_PORTS}),
    "PREPARES": ("PREPARING", CHOSEN),
    "PREPARED": ("MAY_SET", CHOSEN),
    "SETS": ("SETTING", {Phase.MAY_SET, Phase.BORROWING_TO_SET}),
    "NOT_TAKEN": ("NOT_SET", {Phase.SETTING}),
    "MAY_BE_KEPT": ("MAY_KEEP", {Phase.SETTING}),
    "KEEPS": ("KEEPING", {Phase.MAY_KEEP}),
    "NOT_KEPT": ("MAY_KEEP", {Phase.KEEPING}),
    "MOVED_AWAY": ("MAY_PROVE", CHOSEN),
    "PROVES": ("PROVING", CHOSEN),
    "FAILED": ("NOT_PROVEN", {Phase.PROVING, Phase.POWER_CYCLE, Phase.PROVING_AGAIN}),
    "PASSED": ("POWER_CYCLE", {Phase.PROVING}),
    "PROVES_AGAIN": ("PROVING_AGAIN", {Phase.POWER_CYCLE}),
    "FORGOT": ("FORGOTTEN", {Phase.POWER_CYCLE}),
    "KEPT": ("MAY_RECORD", {Phase.POWER_CYCLE, Phase.PROVING_AGAIN}),
    "RECORDS": ("RECORDED", {Phase.MAY_RECORD}),
}
REFUSED = {"BORROWING": "MAY_BORROW", "BORROWING_TO_SET": "MAY_SET", "BORROWING_TO_PROVE": "MAY_PROVE"}


@pytest.mark.parametrize("event", Event)
def test_every_event_leads_where_it_should_and_nowhere_from_anywhere_else(event):
    for phase in Phase:
        if event is Event.NOT_BORROWED:
            expected = REFUSED.get(phase.name)
        else:
            to, since = LEADS[event.name]
            expected = to if phase in since else None
        got = after(phase, event)
        assert (got.name if got else None) == expected, phase


def test_a_recorded_device_stays_recorded_and_only_steps_behind_can_be_done_again():
    assert not any(may_go_back(Phase.RECORDED, step) for step in Step)
    assert [step.name for step in Step if may_go_back(Phase.MAY_SET, step)] == ["PLUG", "FIND", "REACH", "SET"]


def test_an_event_that_has_no_place_now_ends_nothing_that_runs(practice):
    """What the laptop refuses while the device is proven, say, is said; the proofs go on."""
    bench, run = practice("TG-01")
    session = walk(bench, run, {Phase.PROVING})
    running = session.visit.running
    session.visit.go(Event.NOT_BORROWED)
    assert (session.phase, session.visit.running) == (Phase.PROVING, running)


def test_a_new_way_is_offered_narrated_run_and_recorded(practice, monkeypatch):
    monkeypatch.setitem(WAYS, throw_away.ENTRY.name, throw_away.ENTRY)
    monkeypatch.setattr(StandIn, "receive", throw_away.with_ears())
    bench, run = practice("TG-01", kinds=False)
    session = walk(bench, run, {Phase.SETTING}, hands=False)
    assert [(each.entry.title, each.reason) for each in session.visit.ways()][1:2] == [("shout at it", "It has ears.")]
    session.stages.setting.choose_way("shout", bench.now())
    pass_time(bench, run, until=lambda: session.phase is Phase.MAY_SET)
    assert next_line(session, bench.now()).sentence == "Shout 10.84.16.40/22 at it."
    session.enter(bench.now())
    assert next_line(session, bench.now()).sentence == "Shouting the values at it."
    walk(bench, run, {Phase.RECORDED})
    assert (run.job.register.rows()[0].last.way, run.job.register.rows()[0].state) == ("shout", "proven")


def test_the_screen_offers_it(terminal):
    screen = terminal(sys.executable, str(HERE), "demo", "--pace", "12")
    screen.until("Enter ▸ Go on with 00:00:5e:00:53:10")
    screen.keys("Enter")
    screen.until("Enter ▸ Borrow 192.168.61.")
    screen.keys("Enter")
    screen.until("shout at it", "It has ears.", "Enter ▸ Send its page")
    screen.keys("w")
    screen.until("Type this into the device")
    screen.keys("w")
    screen.until("Enter ▸ Shout 10.84.16.40/22 at it.")
    screen.keys("Enter")
    screen.until("put it back. l leaves", "answers ping at 10.84.16.40")
    screen.leave()


def test_the_command_line_runs_it(cable, tmp_path):
    cable.start("device", sys.executable, "-c", LISTENER)
    cable.ip("addr", "add", "192.168.61.7/24", "dev", "zd0")
    listed = cable.in_laptop(sys.executable, str(HERE), "assign", "--ways")
    assert "shout  shouts the values at the device" in listed
    job = str(tmp_path / "job.askport")
    told = ["--mac", DEVICE, "--to", "10.84.16.21/22", "--by", "shout", "--job", job, "--tag", "BL-01", "--json"]
    said = json.loads(cable.in_laptop(sys.executable, str(HERE), "assign", "zl0", *told))
    assert (said["result"], said["permanent"]) == ("taken", True)
    row = json.loads(cable.askport("register", "list", job, "--json").stdout)["devices"][0]
    assert (row["tag"], row["way"], row["result"]) == ("BL-01", "shout", "taken")


def test_the_readme_lists_the_keys_of_the_table():
    text = (HERE.parents[1] / "README.md").read_text()
    sys.path.insert(0, str(HERE.parents[1] / "docs"))
    import keys

    assert keys.START + keys.table() + keys.END in text, "run docs/keys.py"
