"""What the rooms promise: one table of moves between phases, and one of ways."""

import ast
import json
import re
import subprocess
import sys
from collections import Counter
from dataclasses import replace
from graphlib import TopologicalSorter
from pathlib import Path
from pkgutil import resolve_name

import pytest

import throw_away
import throw_away_export
import throw_away_proof
from askport.bench.stand_in import StandIn
from askport.cli import main, report
from askport.core.plan.planned_device import PlannedDevice
from askport.core.proofs import final
from askport.core.protocols import PROTOCOLS
from askport.core.visit.narrate import next_line
from askport.core.visit.steps import Phase, Step
from askport.core.visit.transitions import Event, after, may_go_back
from askport.core.ways.table import WAYS
from askport.reports import documents
from askport.tui.actions import ACTIONS
from conftest import DEVICE, pass_time
from test_session import walk

HERE = Path(__file__).with_name("throw_away_program.py")
LISTENER = """
import socket, subprocess
ears = socket.socket(socket.AF_PACKET, socket.SOCK_RAW, socket.htons(0x88B5))
ears.bind(("zd0", 0x88B5))
while True:
    frame = ears.recv(1514)
    said = frame[14:].rstrip(bytes(1)).split()
    if said == [b"who"]:
        ears.send(frame[6:12] + bytes.fromhex("020000000099") + frame[12:14] + b"here 192.168.61.7")
    elif said[0] != b"here":
        subprocess.run(["ip", "addr", "add", said[0].decode(), "dev", "zd0"], check=True)
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
    "SEES_WHOM_IT_ANSWERS": ("BORROWING_TO_PROVE", {Phase.BORROWING_TO_PROVE}),
    "BORROWS_TO_SET": ("BORROWING_TO_SET", {Phase.MAY_SET}),
    "BORROWS_TO_PROVE": ("BORROWING_TO_PROVE", {Phase.MAY_PROVE}),
    "TRIES_PORTS": (
        "TRYING_PORTS",
        {Phase.FINDING, Phase.MEASURING, Phase.MAY_BORROW, Phase.BORROWING, Phase.TRYING_PORTS},
    ),
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
    "KEPT": ("MAY_RECORD", {Phase.PROVING, Phase.POWER_CYCLE, Phase.PROVING_AGAIN}),
    "RECORDS": ("RECORDED", {Phase.MAY_RECORD}),
}
BY_PHASE = {
    "NOT_BORROWED": {"BORROWING": "MAY_BORROW", "BORROWING_TO_SET": "MAY_SET", "BORROWING_TO_PROVE": "MAY_PROVE"},
    "GOES_ON_ADAPTER": {"TRYING_PORTS": "BORROWING", "BORROWING_TO_PROVE": "BORROWING_TO_PROVE"},
}


@pytest.mark.parametrize("event", Event)
def test_every_event_leads_where_it_should_and_nowhere_from_anywhere_else(event):
    for phase in Phase:
        if event.name in BY_PHASE:
            expected = BY_PHASE[event.name].get(phase.name)
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


def test_the_screen_offers_the_way_the_unit_and_the_view(terminal):
    screen = terminal(sys.executable, str(HERE), "demo", "--pace", "12", "--first", "EC-01")
    screen.until("No device heard yet")
    screen.keys("+")
    screen.until("Shouting", "192.168.61.77")
    screen.keys("a")
    screen.until("Device address (from label")
    screen.keys("192.168.61.77", "Enter")
    screen.until("Enter ▸ Use this device: 00:00:5e:00:53:77")
    screen.keys("y")
    screen.until("So far ", " frames")
    screen.keys("Escape")
    screen.until("Enter ▸ Use this device: 00:00:5e:00:53:77")
    screen.keys("Enter")
    screen.until("Enter ▸ Borrow 192.168.61.")
    screen.keys("Enter")
    screen.until("shout at it", "It has ears.", "Enter ▸ Shout 10.84.16.77/22 at it.")
    screen.keys("Enter")
    screen.until("and put it back.", "ping to 10.84.16.77")
    screen.leave()


@pytest.mark.night
def test_the_command_line_hears_the_protocol_and_runs_its_way(cable, tmp_path):
    cable.start("device", sys.executable, "-c", LISTENER)
    cable.ip("addr", "add", "192.168.61.7/24", "dev", "zd0")
    asked = [sys.executable, str(HERE), "find", "zl0", "--loudness", "greet", "--seconds", "4", "--json"]
    told = subprocess.run([*cable.inside("laptop"), *asked], capture_output=True, text=True)
    found = json.loads(told.stdout)
    device = next(each for each in found["devices"] if each["mac"] == DEVICE)
    assert [each["protocol"] for each in device["identities"]] == ["shout"]
    assert "192.168.61.7" in [each["address"] for each in device["addresses"]]
    listed = cable.in_laptop(sys.executable, str(HERE), "assign", "--ways")
    assert "shout  shouts the values at the device" in listed
    job = str(tmp_path / "job.askport")
    told = ["--mac", DEVICE, "--to", "10.84.16.21/22", "--by", "shout", "--job", job, "--tag", "BL-01", "--json"]
    said = json.loads(cable.in_laptop(sys.executable, str(HERE), "assign", "zl0", *told))
    assert (said["result"], said["permanent"]) == ("taken", True)
    row = json.loads(cable.askport("register", "list", job, "--json").stdout)["devices"][0]
    assert (row["tag"], row["way"], row["result"]) == ("BL-01", "shout", "taken")


def test_a_new_proof_is_made_of_a_value_of_the_plan_and_recorded(practice, monkeypatch):
    """On the screen, on the command line and in a crate alike: all take their proofs from the one table."""
    monkeypatch.setattr(final, "AT_ONCE", [*final.AT_ONCE, throw_away_proof.mac_ends])
    bench, run = practice("BL-01")
    run.work[0] = replace(run.work[0], planned=PlannedDevice(tag="BL-01", columns={"MAC ends": ":20"}))
    run.begin()
    walk(bench, run, {Phase.RECORDED})
    assert run.job.register.rows()[0].last.proofs["mac-ends"].passed is True


def test_a_new_document_is_written_and_said_what_for(practice, monkeypatch, tmp_path):
    monkeypatch.setattr(documents, "FAMILIES", [*documents.FAMILIES, throw_away_export.FAMILY])
    bench, run = practice("BL-01")
    walk(bench, run, {Phase.RECORDED})
    [(path, _)] = report.write_reports(run.job, "job", tmp_path / "out", ["tally.txt"])
    assert (path.read_text(), documents.what_for(path.name)) == ("1 of 0\n", "how many there are")


def test_what_is_thrown_away_stands_nowhere_else():
    places = [each for folder in ("src", "docs", "benchmarks") for each in (HERE.parents[1] / folder).rglob("*.*")]
    text = "".join(each.read_text() for each in places if each.suffix in (".py", ".md", ".toml"))
    assert not [word for word in ("shout", "EggCounter", "so_far", "mac-ends", "tally.txt") if word in text]


def test_every_module_has_a_name_of_its_own():
    names = Counter(each.stem for each in (HERE.parents[1] / "src").rglob("*.py") if not each.stem.startswith("__"))
    assert [name for name, often in names.items() if often > 1] == []


@pytest.mark.long
def test_no_module_imports_itself_by_way_of_others():
    """Imports for types only and within functions count too."""
    source = HERE.parents[1] / "src"
    modules = {".".join(each.relative_to(source).with_suffix("").parts): each for each in source.rglob("*.py")}
    imports = {
        name: {
            f"{node.module}.{each.name}" if f"{node.module}.{each.name}" in modules else node.module
            for node in ast.walk(ast.parse(path.read_text())) if isinstance(node, ast.ImportFrom) and node.module
            for each in node.names
        } & modules.keys()
        for name, path in modules.items()
    }  # fmt: skip
    assert sum(map(len, imports.values())) > 1500
    TopologicalSorter(imports).prepare()


def test_what_a_public_method_does_is_said_where_it_is_declared_first():
    """One that overrides another of the program may add to that, and need not."""
    trees = [ast.parse(each.read_text()) for each in (HERE.parents[1] / "src").rglob("*.py")]
    classes = {each.name: each for tree in trees for each in ast.walk(tree) if isinstance(each, ast.ClassDef)}

    def methods(of):
        above = [ast.unparse(each).split("[")[0].split(".")[-1] for each in of.bases]
        own = {each.name for each in of.body if isinstance(each, ast.FunctionDef | ast.AsyncFunctionDef)}
        return own.union(*(methods(classes[each])[0] for each in above if each in classes and each != of.name)), above

    unsaid = [
        f"{name}.{each.name}" for name, of in classes.items() if not name.startswith("_")
        for each in of.body if isinstance(each, ast.FunctionDef | ast.AsyncFunctionDef)
        if each.name[0] != "_" and not ast.get_docstring(each) and ".setter" not in ast.unparse(each)
        and not any(above not in classes or each.name in methods(classes[above])[0] for above in methods(of)[1])
    ]  # fmt: skip
    assert unsaid == []


def test_every_module_that_the_pages_name_is_there():
    pages = [*(HERE.parents[1] / "docs").rglob("*.md"), HERE.parents[1] / "CONTRIBUTING.md"]
    there = [str(each) for folder in ("src", "docs", "tests") for each in (HERE.parents[1] / folder).rglob("*.py")]
    named = {name for page in pages for name in re.findall(r"`([\w/]+\.py)`", page.read_text())}
    assert len(named) > 80
    assert [name for name in sorted(named) if not any(each.endswith(f"/{name}") for each in there)] == []


def test_what_is_declared_by_name_is_there():
    named = [
        where for each in PROTOCOLS.values()
        for where in (each.decoder, each.asks, each.asks_in_frame, each.blinks, each.way, *each.clues.items())
    ]  # fmt: skip
    views = [each.opens for each in ACTIONS]
    flat = [part for each in (*named, *views) for part in (each if isinstance(each, tuple) else (each,)) if part]
    assert len(flat) > 30
    assert all(resolve_name(each) for each in flat)
    assert main.application().registered_commands


def test_the_page_of_keys_lists_the_keys_of_the_table():
    text = (HERE.parents[1] / "docs/keys.md").read_text()
    sys.path.insert(0, str(HERE.parents[1] / "docs"))
    import keys

    assert keys.START + keys.table() + keys.END in text, "run docs/keys.py"


def test_each_heading_of_readme_and_guide_has_its_promises_and_each_promise_its_test():
    root = HERE.parents[1]
    texts = [(root / name).read_text() for name in ("README.md", "docs/guide.md")]
    security = (root / "docs/security.md").read_text()
    assert security.count(" | test_") > 10
    headings = {line[3:] for text in texts for line in text.splitlines() if line.startswith("## ")}
    row = r"^\| (.+) \| (.+) \| (test_\w+\.py)::(test_\w+) \|$"
    rows = re.findall(row, HERE.with_name("README.md").read_text(), re.MULTILINE)
    assert {heading for heading, *_ in rows} == headings
    rows += [("", "", *each) for each in re.findall(r" \| (test_\w+\.py)::(test_\w+) \|$", security, re.MULTILINE)]
    missing = [row for row in rows if f"def {row[3]}(" not in HERE.with_name(row[2]).read_text()]
    assert missing == []
