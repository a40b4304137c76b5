"""How long a command and the full screen take to start, beside an interpreter and a screen that do nothing."""

import os
import pty
import subprocess
import sys
import time
from collections.abc import Callable
from functools import partial
from pathlib import Path
from shutil import which
from statistics import median

from namespaces import cable

_RUNS = 7
_ASKPORT = str(Path(sys.executable).with_name("askport"))
_BARE_SCREEN = """
from textual.app import App
from textual.widgets import DataTable
class Bare(App):
    def compose(self):
        yield DataTable()
    def on_mount(self):
        table = self.query_one(DataTable)
        table.add_columns("one", "two", "three")
        for number in range(8):
            table.add_row("nothing", "else", str(number))
Bare().run()
"""
_PATIENCE_S = 30.0


def _seconds(command: list[str]) -> float:
    started = time.perf_counter()
    subprocess.run(command, check=True, capture_output=True)
    return time.perf_counter() - started


def _until_painted(command: list[str], text: bytes) -> float:
    """Run a program on a terminal of its own until a text stands there, and end it."""
    started = time.perf_counter()
    child, terminal = pty.fork()
    if child == 0:
        os.environ |= {"TERM": "xterm-256color", "COLUMNS": "80", "LINES": "24"}
        os.execv(command[0], command)
    painted = b""
    while text not in painted and time.perf_counter() - started < _PATIENCE_S:
        painted += os.read(terminal, 65536)
    took = time.perf_counter() - started
    os.kill(child, 15)
    try:
        while os.read(terminal, 65536):
            pass
    except OSError:  # the other end is closed
        pass
    os.close(terminal)
    os.waitpid(child, 0)
    if text not in painted:
        raise TimeoutError(f"'{text!r}' was not painted")
    return took


def _in_turn(ours: Callable[[], float], bare: Callable[[], float]) -> tuple[float, float]:
    """Return the ratio of two, run in turn, and the seconds of ours."""
    pairs = [(ours(), bare()) for _ in range(_RUNS)]
    took = median(each for each, _ in pairs)
    return took / median(each for _, each in pairs), took


def startup() -> None:
    """Compare a command's start with a bare interpreter's."""
    for words in (["--version"], ["find", "--help"], ["adapters", "--json"]):
        ratio, took = _in_turn(partial(_seconds, [_ASKPORT, *words]), partial(_seconds, [sys.executable, "-c", "pass"]))
        print(f"start of askport {' '.join(words)}: {ratio:.1f} times a bare interpreter ({took * 1e3:.0f} ms)")


def first_paint() -> None:
    """Compare the first paint, and the first full screen of the demo and at a cable, with a bare screen's table."""
    bare = partial(_until_painted, [sys.executable, "-c", _BARE_SCREEN], b"nothing")

    def beside_bare(what: str, command: list[str], text: bytes) -> None:
        ratio, took = _in_turn(partial(_until_painted, command, text), bare)
        print(f"{what}: {ratio:.2f} times a bare screen's ({took * 1e3:.0f} ms)")

    beside_bare("first paint of the demo", [_ASKPORT, "demo"], b"Ask Port")
    beside_bare("first full screen of the demo", [_ASKPORT, "demo"], b"TG-01")
    if os.geteuid() != 0:
        print("first full screen at a cable: not measured without root")
        return
    with cable() as (laptop, _):
        at_cable = [str(which("ip")), "netns", "exec", laptop, _ASKPORT]
        beside_bare("first full screen at a cable", at_cable, b"Plug the cable in")
