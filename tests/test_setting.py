"""The set step: its own word before and after, put back as found, typed in place, first words, and kept secrets."""

import json
import os
import subprocess
import sys
import threading
import time
from dataclasses import replace
from ipaddress import IPv4Address, IPv4Interface
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from askport.bench.page_device import PageDevice
from askport.core import addresses, channels, errors, wire
from askport.core.finding.own_answer import OwnAnswer
from askport.core.formats.arp import Arp, Op, arp_frame
from askport.core.formats.icmp import Icmp, IcmpType
from askport.core.formats.packet import ends_of, frame_between, read_packet
from askport.core.kinds.kind_reading import read_kind
from askport.core.plan.editing import TargetEdit, next_free
from askport.core.plan.landings import digit_by_digit
from askport.core.plan.target import Pool, Target
from askport.core.visit import narrate, steps
from askport.core.ways.start import Start
from askport.core.ways.table import WAYS
from askport.edges.kind_files import known_kinds
from conftest import ASKPORT, DEVICE, pass_time
from test_consoles import Device
from test_pages import KIND as PAGE_KIND
from test_pages import SERVER
from test_session import walk

TARGET = Target(
    interface=IPv4Interface("10.84.16.40/22"), gateway=IPv4Address("10.84.19.254"), dns=(IPv4Address("10.84.19.253"),)
)
MARK = "marked-Geheim77"


@pytest.mark.parametrize(
    ("keys", "said"),
    [
        ("55", "10.84.16.55/22 via 10.84.19.254 dns 10.84.19.253"),
        ("5 5 5", "10.84.16.55/22 via 10.84.19.254 dns 10.84.19.253"),  # 555 is no number of an address
        ("< 1 7", "10.84.17.40/22 via 10.84.19.254 dns 10.84.19.253"),
        ("v 24", "10.84.16.40/24 via 10.84.19.254 dns 10.84.19.253"),
        ("v v x", "10.84.16.40/22 via None dns 10.84.19.253"),
        ("v v v v 9", "10.84.16.40/22 via 10.84.19.254 dns 10.84.19.253 10.84.16.9"),
        ("v v v x", "10.84.16.40/22 via 10.84.19.254 dns "),
        ("b b", "IP address: one of its four numbers is missing: type it."),
        ("v b b", "The prefix is missing: type one from 1 to 32, such as 24."),
        ("f", "10.84.16.42/22 via 10.84.19.254 dns 10.84.19.253"),
    ],
)
def test_numbers_are_typed_in_place(keys, said):
    edit = TargetEdit(TARGET)
    for key in keys.replace(" ", ""):
        match key:
            case "<":
                edit.move(places=-1)
            case "v":
                edit.move(rows=1)
            case "x":
                edit.clear()
            case "b":
                edit.erase()
            case "f":
                edit.take(next_free(TARGET.interface, {IPv4Address("10.84.16.41")}))
            case digit:
                edit.type(digit)
    try:
        target = edit.target()
        got = f"{target.interface} via {target.gateway} dns {' '.join(map(str, target.dns))}"
    except errors.BadInput as error:
        got = error.message
    assert got == said


@given(st.text("0123456789<>v^xb", max_size=40))
def test_whatever_is_typed_is_sound_or_said(keys):
    edit, moves = TargetEdit(TARGET), {"<": (0, -1), ">": (0, 1), "v": (1, 0), "^": (-1, 0)}
    for key in keys:
        if key in moves:
            edit.move(*moves[key])
        else:
            edit.clear() if key == "x" else edit.erase() if key == "b" else edit.type(key)
    try:
        assert edit.target().interface.network.prefixlen <= 32
    except errors.BadInput as error:
        assert "type" in error.message


def test_the_next_free_one_leaves_out_the_pool_and_ends_with_the_subnet():
    pool = Pool(first=IPv4Address("10.84.18.0"), last=IPv4Address("10.84.18.255"))
    assert str(next_free(IPv4Interface("10.84.17.254/22"), {IPv4Address("10.84.17.255")}, [pool])) == "10.84.19.0"
    assert next_free(IPv4Interface("10.84.19.254/22"), set()) is None


@given(st.ip_addresses(v=4), st.ip_addresses(v=4))
def test_two_addresses_stand_digit_under_digit(meant, landed):
    rows = digit_by_digit(meant, landed)
    mine, theirs = ("".join(each[place] for each in rows).replace(" ", "") for place in (0, 1))
    assert (mine, theirs) == (str(meant), str(landed))
    assert all(same for _, _, same in rows) is (meant == landed)


def test_its_own_word_stands_in_the_record_before_and_after(practice):
    """TG-01's page says its DNS servers, which nothing outside shows; what it does not say stays what it was."""
    bench, run = practice("TG-01")
    session = walk(bench, run, {steps.Phase.RECORDED})
    pass_time(bench, run, 0.5)
    row = run.job.register.rows()[0]
    assert (str(session.device.says.gateway), row.first.found_said.dns) == ("192.168.61.254", ())
    assert row.last.proofs["read-back"].passed
    assert (row.last.as_left.dns.basis, row.last.as_left.gateway.basis) == ("read-back", "measured")
    assert [str(each) for each in row.last.as_left.dns.value] == ["10.84.19.253", "10.84.19.252"]


def test_one_whose_own_word_is_another_than_the_plan_is_not_proven(practice, monkeypatch):
    """Its page took the address and lost the servers."""
    bench, run = practice("OX-01")
    session = walk(bench, run, {steps.Phase.MAY_SET})
    save = PageDevice.save
    monkeypatch.setattr(PageDevice, "save", lambda self, settings: save(self, type(settings)(*settings_of(settings))))
    session.enter(bench.now())
    pass_time(bench, run, until=lambda: session.phase is steps.Phase.NOT_PROVEN)
    failed = [proof for proof in session.device.proofs if proof.passed is False]
    assert [proof.name for proof in failed] == ["read-back", "dns"]
    assert "It says that its DNS servers are none, planned are 10.84.19.253, 10.84.19.252." in failed[0].because


def settings_of(settings):
    return settings.interface, settings.gateway


def test_it_is_put_back_as_it_was_found_and_proven_there(practice):
    bench, run = practice("TG-01")
    """And, where that was a mistake, set as planned after all: before it was done, and after."""
    session = walk(bench, run, {steps.Phase.POWER_CYCLE})
    assert session.stages.setting.may_restore
    session.stages.setting.restore(bench.now())
    pass_time(bench, run, until=lambda: session.phase is steps.Phase.MAY_SET)
    assert "Press z to set it as planned after all" in narrate.next_line(session, bench.now()).sentence
    session.stages.setting.restore(bench.now())
    assert str(session.device.target.interface) == "10.84.16.40/22"
    pass_time(bench, run, until=lambda: session.phase in (steps.Phase.POWER_CYCLE, steps.Phase.MAY_SET))
    session.stages.setting.restore(bench.now())
    walk(bench, run, {steps.Phase.POWER_CYCLE})
    assert str(bench.device.host.interface) == "192.168.61.7/24"
    assert str(bench.device.host.gateway) == "192.168.61.254"
    assert run.job.register.rows()[0].last.as_left.words() == "192.168.61.7/24"
    session.stages.setting.restore(bench.now())
    walk(bench, run, {steps.Phase.RECORDED})
    assert (run.job.register.rows()[0].last.as_left.words(), run.job.register.rows()[0].state) == (
        "10.84.16.40/22", "proven",
    )  # fmt: skip


def test_one_that_uses_its_page_after_a_restart_asks_for_one_and_is_waited_for(practice, monkeypatch):
    bench, run = practice("OX-01")
    session = walk(bench, run, {steps.Phase.MAY_SET})
    kind = session.device.kind
    way = kind.way_by("page").model_copy(update={"takes_effect": "after restart"})
    fit = session.device.fits[0]
    restarts = type(fit)(kind.model_copy(update={"way": (way,)}), fit.reason, fit.strictness)
    monkeypatch.setattr(session.device, "fits", [restarts])
    monkeypatch.setattr(PageDevice, "save", lambda self, settings: setattr(self, "saved", settings) or SAVED)
    session.enter(bench.now())
    pass_time(bench, run, 30.0)
    assert "uses it after a restart: power-cycle it" in narrate.next_line(session, bench.now()).sentence
    bench.power(False)
    pass_time(bench, run, 5.0)
    assert "Its power is off" in narrate.next_line(session, bench.now()).sentence
    bench.power(True)
    pass_time(bench, run, until=lambda: session.phase is steps.Phase.POWER_CYCLE)
    assert session.device.was_taken


SAVED = __import__("askport.bench.pages", fromlist=["Answer"]).Answer(200, "Saved.")


def test_what_was_given_by_an_answer_is_kept_on_its_page(practice):
    """FD-01: its lease is gone at a power cycle, so its page is told the same, as the next Enter."""
    bench, run = practice("FD-01")
    session = walk(bench, run, {steps.Phase.MAY_KEEP})
    assert "Save it (page)" in narrate.next_line(session, bench.now()).sentence
    walk(bench, run, {steps.Phase.RECORDED})
    assert (run.job.register.rows()[0].state, str(bench.device.saved.interface)) == ("proven", "10.84.16.50/22")


BY_TITLE = """schema = "askport.kind/1"
name = "anything with a tank page"
[recognise]
banner = ["tank level*"]
ports = [80]
[[way]]
by = "page"
set = [{ post = "/x", form = { a = "{address}" } }]
"""


def test_a_kind_is_recognised_by_the_title_of_its_page_where_nothing_else_tells(practice):
    bench, run = practice("TG-01", kinds=False)
    run.session.cable.around = replace(run.session.cable.around, kinds=(read_kind(BY_TITLE, "x.toml"),))
    session = walk(bench, run, {steps.Phase.MAY_SET})
    assert session.device.fit.reason == "by its text “Tank Level Gateway” and port 80"


def test_without_a_kind_the_ways_say_what_they_need(practice):
    bench, run = practice("TG-01", kinds=False)
    session = walk(bench, run, {steps.Phase.SETTING}, hands=False)
    assert [(each.entry.name, each.lacks, each.usable) for each in session.visit.ways()] == [
        ("hand", "", True),
        ("page", "a kind that says how", False),
    ]
    assert session.visit.way_names == ["hand"]


US, IT = addresses.MacAddress(b"\2\0\0\0\0\1"), addresses.MacAddress(b"\2\0\0\0\0\2")
OLD, NEW, OURS = map(IPv4Address, ("192.168.61.7", "10.84.16.21", "10.84.19.250"))


@pytest.mark.parametrize(
    ("rounds", "proxy", "echoes", "shown"),
    [(4, False, True, True), (1, False, True, False), (4, True, True, False), (4, False, False, False)],
)
def test_a_first_answer_is_believed_only_of_one_that_was_silent_about_others(rounds, proxy, echoes, shown):
    own, now, said = OwnAnswer(US, IT, NEW, [OURS]), 0.0, []

    def answers(address):
        answer = Arp(op=Op.REPLY, sha=IT, spa=address, tha=US, tpa=OURS)
        said.append(own.shows(wire.hear(wire.Frame(at=now, data=arp_frame(answer, to=US))), OLD))

    for _ in range(rounds):
        own.ask(now)
        asked = [read_packet(each.data).get(Arp).tpa for each in own.poll()]
        answers(OLD)
        if proxy:
            answers(asked[0])
        now += 0.5
    answers(NEW)
    for effect in own.poll():
        packet = read_packet(effect.data)
        if (icmp := packet.get(Icmp)) and echoes:
            back = frame_between(ends_of(packet).back, icmp._replace(type=IcmpType.ECHO_REPLY))
            said.append(own.shows(wire.hear(wire.Frame(at=now, data=back)), OLD))
    assert any(said) is shown


def test_the_crib_card_and_the_numbers_on_the_screen(terminal):
    screen = terminal(*ASKPORT, "demo", "--pace", "12")
    for waits in ("Enter ▸ Use this device: 00:00:5e:00:53:10", "Enter ▸ Borrow 192.168.61."):
        screen.until(waits)
        screen.keys("Enter")
    screen.until("Enter ▸ Fill in its web page")
    screen.keys("e")
    screen.until("Type the number", "10.84.16.41, the next free one")
    screen.keys("3", "1")
    screen.until("10.84.16.31 is planned for OX-01.")
    screen.keys("BSpace", "7", "Enter")
    screen.until("10.84.16.37", "Enter ▸ Fill in its web page")
    screen.keys("c")
    screen.until("Type this into TG-01", "█", "A number key copies its value")
    screen.keys("1", "Space", "Space")
    screen.until("Copied: 84, number 2 of 4 of IP address")
    screen.keys("Escape")
    screen.until("Ways for this device")
    screen.keys("w")
    screen.until("Type this into the device")
    screen.keys("F8")
    screen.until("Actual address", "▲")
    screen.leave()


def test_what_a_console_and_a_page_say_is_read_and_held_against_the_wire(cable, tmp_path):
    """The console of this device says the wrong mask, whatever it has."""
    device = Device(cable, tmp_path)
    device.telnetd()
    assert device.assign()["result"] == "taken"
    kind = device.kind()
    run = cable.askport("prove", "zl0", "--mac", DEVICE, "--at", "10.84.16.21/22", "--kind", kind, "--json")
    proofs = {each["name"]: each for each in json.loads(run.stdout)["proofs"]}
    assert (proofs["mask"]["passed"], proofs["read-back"]["passed"], run.returncode) == (True, False, 1)
    assert proofs["read-back"]["because"] == "It says that its prefix is /24, planned is /22."


def test_a_password_is_nowhere_but_where_it_was_typed(cable, tmp_path, terminal):
    """Telnet and a page on real servers, the console of the bench on the screen: files, output, processes, screen."""
    home, secret = tmp_path / "home", tmp_path / "secret"
    home.mkdir()
    secret.write_text(f"{MARK}\n")
    device, processes, over = Device(cable, home), set(), threading.Event()

    def watch():
        while not over.is_set():
            for each in Path("/proc").glob("[0-9]*/cmdline"):
                try:
                    processes.add(each.read_bytes() + (each.parent / "environ").read_bytes())
                except OSError:
                    continue
            time.sleep(0.05)

    watching = threading.Thread(target=watch)
    watching.start()
    (home / "login").touch()
    device.prompt.write_text(device.prompt.read_text().replace("marked-secret", MARK))
    device.telnetd()
    server = SERVER.replace("marked-secret", MARK)
    page = home / "page.toml"
    page.write_text(PAGE_KIND.replace("SCHEME", "http").replace("TOKEN", "{token}"))
    cable.start("device", sys.executable, "-c", server, "digest", "no", "plain", "-", stdin=subprocess.DEVNULL)
    cable.listens(80)
    said = []
    try:
        for by, kind, at, to in (
            ("page", page, "192.168.77.20", "10.84.16.40/22"),
            ("console", device.kind(login=True), "10.84.16.40", "10.84.16.21/22"),
        ):
            run = cable.askport(
                "--log-level", "debug", "assign", "zl0", "--mac", DEVICE, "--to", to, "--gateway", "10.84.19.254",
                "--by", by, "--at", at, "--kind", kind, "--user", "fitter", "--password-from", "-",
                "--job", home / "x.askport", "--json", env={**os.environ, "XDG_STATE_HOME": str(home)},
                input=f"{MARK}\n", timeout=90,
            )  # fmt: skip
            assert json.loads(run.stdout)["result"] == "taken", run.stdout
            said.append(run.stdout + run.stderr)
        export = ["register", "export", home / "x.askport"]
        said += [cable.askport(*export, form).stdout for form in ("--csv", "--json")]
        screen = terminal(f"XDG_STATE_HOME={home}", *ASKPORT, "--log-level", "debug", "demo", "--pace", "12",
                          "--first", "SW-01")  # fmt: skip
        for waits, key in (
            ("Use this device: 00:00:5e:00:53:28", "Enter"),
            ("Enter ▸ Borrow", "Enter"),
            ("press u", "u"),
        ):
            screen.until(waits)
            screen.keys(key)
        screen.until("What is the log-in name")
        screen._tmux("send-keys", "-l", "fitter")
        screen.keys("Enter")
        screen.until("And the password of")
        screen._tmux("send-keys", "-l", MARK)
        screen.until("•" * len(MARK))
        said.append(screen._tmux("capture-pane", "-p"))
        screen.keys("Enter")
        screen.until("refused: log-in")
        said.append(screen._tmux("capture-pane", "-p"))
        screen.leave()
    finally:
        over.set()
        watching.join()
    tests_own = (b"http.server", b"send-keys")
    ours = [each for each in processes if MARK.encode() in each and not any(own in each for own in tests_own)]
    assert not ours
    assert not any(MARK in each for each in said)
    files = [each for each in tmp_path.rglob("*") if each.is_file() and each not in (secret, device.prompt)]
    assert any(each.name == "askport.log" for each in files)
    assert not [str(each) for each in files if MARK.encode() in each.read_bytes()]


@pytest.mark.parametrize(
    ("before", "said"),
    [
        (None, "it is new here"),
        ("SHA256:a", "as it was the last time"),
        ("SHA256:b", "another the last time: SHA256:b"),
    ],
)
def test_the_key_of_a_console_is_known_again(before, said):
    kind = next(each.kind for each in known_kinds()[0] if each.kind.name == "blower drive")
    start = Start(
        mac=IT, target=TARGET, laptop_mac=US, laptop=IPv4Interface("10.84.19.250/22"), old=OLD, now=0.0, xid=lambda: 0,
        kind=kind, known_key=before,
    )  # fmt: skip
    way = WAYS["console"].begin(start)
    channel = next(each.channel for each in way.poll() if isinstance(each, channels.OpenChannel))
    way.channel_event(channels.Opened(channel, "SHA256:a"), 1.0)
    assert (said in way.steps[0].text, way.shown_key) == (True, "SHA256:a")


BREAKS = """
import askport.core.ways.talking as talking
def broken(self, now):
    raise RuntimeError(f"broken on purpose after {len(self._conversation.spoken)} lines")
talking.Talking._note_spoken = broken
"""


def test_a_fault_of_the_program_itself_tells_no_password(cable, tmp_path):
    """Its sentence and the log, with all that is known of where it was."""
    home, secret = tmp_path / "home", tmp_path / "secret"
    home.mkdir()
    (home / "sitecustomize.py").write_text(BREAKS)
    secret.write_text(f"{MARK}\n")
    device = Device(cable, home)
    (home / "login").touch()
    device.prompt.write_text(device.prompt.read_text().replace("marked-secret", MARK))
    device.telnetd()
    program = cable.command("--log-level", "debug", "assign", "zl0", "--mac", DEVICE, "--to", "10.84.16.21/22", "--by",
                            "console", "--at", "192.168.77.20", "--kind", device.kind(login=True), "--user", "fitter",
                            "--password-from", secret, "--job", home / "x.askport")  # fmt: skip
    environment = [f"XDG_STATE_HOME={home}", f"PYTHONPATH={home}"]
    run = subprocess.run([*cable.inside("laptop"), "env", *environment, *program], capture_output=True, text=True)
    assert "a fault of Ask Port itself (RuntimeError: broken on purpose after" in run.stderr
    assert MARK not in run.stdout + run.stderr
    files = [each for each in home.rglob("*") if each.is_file() and each != device.prompt]
    assert any(b"broken on purpose" in each.read_bytes() for each in files)
    assert not [str(each) for each in files if MARK.encode() in each.read_bytes()]
