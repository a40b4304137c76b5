"""The command line: data on standard output, one sentence on standard error, the contract's exit statuses."""

import ast
import asyncio
import csv
import io
import json
import os
import re
import shlex
import signal
import subprocess
import sys
from pathlib import Path
from types import SimpleNamespace

import click
import pytest
import typer

from askport.cli import main, saying
from askport.cli.main import run
from askport.core.errors import AskPortError
from askport.edges.guide_text import parts
from askport.tui.screens import guide_screen
from conftest import ASKPORT, askport

ROOT = Path(__file__).parents[1]


@pytest.mark.parametrize(
    ("arguments", "status", "said"),
    [
        (["find"], 2, "Missing argument"),
        (["find", "zl0", "--loudness", "shout"], 2, "'shout' is not a loudness"),
        (["find", "zl0", "--within", "10.84.16.0/24", "--loudness", "listen"], 2, "add --loudness"),
        (["find", "zl0", "--within", "10.84.16.0/255.0.255.0"], 2, "not in one piece"),
        (["find", "zl0", "--rate", "0"], 2, "rate of 0"),
        (["borrow", "zl0", "10.84.16.0/22"], 2, "network address of 10.84.16.0/22"),
        (["borrow", "zl0", "10.84.16.9/255.0.252.0"], 2, "not in one piece"),
        (["borrow", "zl0"], 2, "which address to borrow"),
        (["assign", "zl0", "--mac", "x", "--to", "10.84.16.9/22", "--by", "dhcp"], 2, "'x' is not a MAC address"),
        (["assign", "zl0", "--mac", "02:00:00:00:00:99", "--to", "10.84.16.9/22", "--by", "magic"], 2,
         "'magic' is not a way"),
        (["assign", "zl0", "--mac", "02:00:00:00:00:99", "--to", "10.84.61.40/22", "--gateway", "10.84.19.254",
          "--by", "dhcp"], 2, "10.84.16.40 meant"),
        (["prove", "zl0", "--mac", "02:00:00:00:00:99", "--at", "010.084.016.040/22"], 2, "zero-padded"),
        (["prove", "zl0", "--mac", "02:00:00:00:00:99", "--at", "10.84.16.40/22", "--open", "70000"], 2,
         "not a TCP port"),
        ([], 3, "needs a terminal"),
    ],
)  # fmt: skip
def test_bad_input_is_one_sentence(arguments, status, said, capsys):
    handlers = {each: signal.getsignal(each) for each in (signal.SIGTERM, signal.SIGHUP)}
    try:
        assert run(arguments) == status
    finally:
        for each, handler in handlers.items():
            signal.signal(each, handler)
    printed = capsys.readouterr()
    assert printed.out == ""
    assert said in printed.err
    assert printed.err.count("\n") == 1


def test_without_permission_it_is_said_what_to_do(namespaces, tmp_path):
    """As somebody who has no rights, and cannot enter the folder of the interpreter either where that is root's."""
    code = "import sys; from askport.edges.invoker import drop_to_invoker; drop_to_invoker(); "
    code += "from askport.cli.main import run; sys.exit(run(sys.argv[1:]))"
    user = {**os.environ, "SUDO_UID": "9", "SUDO_GID": "9"}
    for arguments in (["find", "lo"], ["borrow", "lo", "10.84.16.9/22"], ["restore"]):
        run = subprocess.run(
            [sys.executable, "-c", code, *arguments], capture_output=True, text=True, cwd="/", env=user
        )
        assert run.returncode == 3, run.stderr
        assert "sudo" in run.stderr.splitlines()[-1]


@pytest.mark.long
def test_the_headless_demo_proves_every_device(tmp_path):
    out = tmp_path / "out"
    run = askport("demo", "--headless", out)
    assert run.returncode == 0, run.stdout + run.stderr
    devices = json.loads((out / "register.json").read_text())["devices"]
    with (out / "register.csv").open(newline="") as table:
        rows = list(csv.DictReader(table))
    assert {row["state"] for row in rows} == {device["state"] for device in devices} == {"proven"}
    assert [row["tag"] for row in rows] == [device["tag"] for device in devices]
    assert {"TG-01", "OX-06", "BL-01", "FD-01", "UV-01", "SW-01", "PA-01", "DR-01"} <= {row["tag"] for row in rows}
    assert (rows[0]["as_found"], rows[0]["found_gateway"]) == ("192.168.61.7/24", "192.168.61.254")
    for said in (
        "6 devices use the same address 172.29.4.100",
        "Learned from OX-01: 2 requests, 20 values put in.",
        "DHCP server 10.84.19.254 found",
        "fe80::200:5eff:fe00:5360",
    ):
        assert said in run.stdout
    for tag, found in (("TG-01", "192.168.61.7"), ("FD-01", None)):
        frames = tmp_path / f"{tag}.pcapng"
        assert askport("register", "frames", out / "demo.askport", tag, "--out", frames).returncode == 0
        (device,) = json.loads(askport("read", frames, "--json").stdout)["devices"]
        assert found in [each["address"] for each in device["addresses"]] or device["asks_for_address"]
    wrong = askport("register", "frames", out / "demo.askport", "XX-01", "--out", frames)
    assert (wrong.returncode, "'XX-01' is not a tag" in wrong.stderr) == (2, True)
    again = askport("demo", "--headless", out)
    assert (again.returncode, "exists already" in again.stderr) == (2, True)


def test_commands_load_no_screen_and_the_core_touches_no_world():
    """The second lock beside the import contracts, which cannot see imports that are made later."""
    code = "import sys; {}; print([m for m in sys.modules if m.split('.')[0] in {!r}])"
    for load, banned in (
        ("from askport.cli.main import run; run(['--version'])", {"textual", "rich", "sqlalchemy"}),
        ("import askport.core.visit.session, askport.core.visit.narrate", {"sqlalchemy", "typer", "textual"}),
        (
            "import askport.core.finding.finder, askport.core.ways.answering_requests",
            {"asyncio", "socket", "random", "pydantic"},
        ),
    ):
        run = subprocess.run([sys.executable, "-c", code.format(load, banned)], capture_output=True, text=True)
        assert run.stdout.splitlines()[-1] == "[]", run.stdout


def test_adapters_are_listed_without_permission():
    document = json.loads(askport("adapters", "--json").stdout)
    assert document["schema"] == "askport.adapters/1"
    loopback = next(each for each in document["adapters"] if each["name"] == "lo")
    assert (loopback["kind"], loopback["addresses"][0]["address"]) == ("loopback", "127.0.0.1/8")


SWALLOWS = """
import signal, sys, time, weakref
from askport.cli import main
from askport.cli import register_command as register

class Gone: pass

def swallow(*_):
    signal.raise_signal(signal.SIGTERM)  # arrives in a callback, where Python ignores what is raised
    time.sleep(0.01)

def held():
    one = Gone()
    kept = weakref.ref(one, swallow)
    del one
    for _ in range(30_000):
        time.sleep(0.01)

register.demo = held
main.import_module = lambda name: register
sys.exit(main.run(["demo"]))
"""


def test_an_end_that_python_ignored_is_asked_for_again():
    """The command itself would go on for five minutes."""
    run = subprocess.run([sys.executable, "-c", SWALLOWS], capture_output=True, text=True, timeout=60)
    assert (run.returncode, run.stderr) == (130, "")


def test_whoever_stops_reading_ends_nothing_badly():
    program = subprocess.Popen([*ASKPORT, "kinds", "schema"], stdout=subprocess.PIPE, stderr=subprocess.PIPE)
    program.stdout.close()
    assert (program.wait(60), program.stderr.read()) == (0, b"")


def test_ctrl_c_in_the_middle_of_what_asyncio_does_comes_right_behind_it():
    """Raised there, a task would never hear that what it waits for has come; elsewhere it is raised at once."""
    reached, inside, outside = [], *(SimpleNamespace(f_globals={"__name__": name}) for name in ("asyncio.events", "x"))

    async def run():
        main._interrupt(2, inside)
        reached.append("the end of what was under way")
        await asyncio.sleep(60)

    with pytest.raises(KeyboardInterrupt):
        asyncio.run(run())
    assert reached
    for frame in (inside, outside, None):
        with pytest.raises(KeyboardInterrupt):
            main._interrupt(2, frame)


@pytest.mark.parametrize(
    ("typed", "is_told"), [("\n", True), ("yes\n", True), ("n\n", False), ("", False), (None, False)]
)
def test_only_whoever_is_there_confirms_that_power_was_pulled(monkeypatch, typed, is_told):
    """Enter does, as on the screen; no, the end of the input, and a pipe do not."""
    typing = io.StringIO("\n" if typed is None else typed)
    typing.isatty = lambda: typed is not None
    monkeypatch.setattr(sys, "stdin", typing)
    assert saying.was_pulled("Was it?") is is_told


def written_commands():
    """Every command that README and docs have in a block, without what stands around it."""
    for page in (ROOT / "README.md", *(ROOT / "docs").glob("*.md")):
        for block in re.findall(r"```sh\n(.*?)```", page.read_text(), re.DOTALL):
            for each in block.splitlines():
                words = shlex.split(each, comments=True)
                if "askport" in words and "usermod" not in words:
                    rest = words[words.index("askport") + 1 :]
                    yield f"{page.name}: {each}", rest[: rest.index("--")] if "--" in rest else rest


def parsed(command, words, above=None):
    context = command.make_context(command.name or "askport", list(words), parent=above)
    for name in getattr(context, "_protected_args", ()):
        parsed(context.command.get_command(context, name), context.args, context)


def test_each_command_of_readme_and_docs_is_one_as_it_is_written():
    whole, found, wrong = typer.main.get_command(main.application()), dict(written_commands()), []
    for where, words in found.items():
        try:
            parsed(whole, words)
        except AskPortError:
            pass  # the database that it names is not here
        except (click.ClickException, AttributeError) as error:
            wrong.append(f"{where}: {error!r}")
    assert len(found) > 80
    assert wrong == []


def test_each_command_says_in_one_whole_line_what_it_does_and_has_an_example_that_fits(monkeypatch):
    monkeypatch.setenv("COLUMNS", "80")
    whole, above = typer.main.get_command(main.application()), ["askport"]
    groups = [("", whole), *((name, each) for name, each in whole.commands.items() if hasattr(each, "commands"))]
    for named, group in groups:
        assert (
            "...\n"
            not in group.get_help(click.Context(group, info_name=named, terminal_width=80)).partition("Commands:")[2]
        )
        for name, each in group.commands.items():
            if not hasattr(each, "commands"):
                example = shlex.split(each.help.partition("Example: ")[2].replace("\n", " ").removeprefix("sudo "))
                assert example[: 2 + bool(named)] == [*above, *([named] if named else []), name]
                parsed(whole, example[1 : example.index("--") if "--" in example else None])


def test_the_guide_has_each_warning_in_the_words_of_the_program():
    """Its tables begin with what is on the screen: no warning is without a row, and no row without a warning."""
    core = ROOT / "src/askport/core"
    sources = [*core.glob("finding/*.py"), *core.glob("reach/*.py"), core / "visit/stages/access.py"]
    pairs = re.findall(r'code="([a-z0-9-]+)"|yield \(?\s*"([a-z0-9-]+)"', "".join(each.read_text() for each in sources))
    codes = {code for pair in pairs for code in pair if code}
    texts = ["".join(getattr(part, "value", "") if isinstance(part, ast.Constant) else "…" for part in each.values)
             if isinstance(each, ast.JoinedStr) else str(getattr(each, "value", ""))
             for source in sources for each in ast.walk(ast.parse(source.read_text()))]  # fmt: skip
    phrases = [phrase for part in parts() if part.heading in (guide_screen.WARNINGS, guide_screen.OF_LAPTOP)
               for row in part.text.splitlines() if row.startswith("| ") and not row.startswith("| warning")
               for phrase in row[2:].split(" | ")[0].split("; ")]  # fmt: skip
    assert [
        each for each in phrases if not any(re.search(re.escape(each).replace("…", ".*"), text) for text in texts)
    ] == []
    assert len(phrases) == len(codes) + 1 + 1  # a link may be down at either end; two reasons lead onto the adapter


def test_the_guide_is_in_the_package_and_opens_at_what_is_on_the_screen():
    headings = [each.heading for each in parts()]
    named = [*guide_screen.BY_PHASE.values(), *guide_screen.BY_WAY.values(), guide_screen.WARNINGS,
             guide_screen.OF_LAPTOP, guide_screen.SILENT, guide_screen._ANY_OTHER_WAY]  # fmt: skip
    assert set(named) <= set(headings)
    assert askport("guide").stdout.splitlines() == headings
    assert askport("guide", "No", "device").stdout.startswith("## No device is found\n")
    assert (askport("guide", "xyzzy").returncode, "has nothing about" in askport("guide", "xyzzy").stderr) == (1, True)
