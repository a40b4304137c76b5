"""From a key to its paint, on terminals: our full screen beside a bare one, on a quiet wire and under a flood.

Also how much of a processor an idle screen uses. A paint is the moment at which words that only the new view has were
written to the terminal.
"""

import os
import pty
import re
import select
import struct
import subprocess
import sys
import tempfile
import termios
import time
from collections.abc import Sequence
from fcntl import ioctl
from pathlib import Path
from statistics import median, quantiles

from namespaces import cable

_HERE = Path(__file__).parent
_ASKPORT = str(Path(sys.executable).with_name("askport"))
_PATIENCE_S = 20.0
_COLUMNS, _ROWS = 160, 47
_ROUNDS_QUIET, _ROUNDS_IN_FLOOD = 30, 12
_IDLE_S = 20.0
_ESCAPE = b"\x1b"
_ESCAPES = re.compile(rb"\x1b\[[0-9;?]*[A-Za-z]")
_OURS = (
    (b"?", "What the keys do now"), (_ESCAPE, "since the link"), (b"p", "the site"), (_ESCAPE, "since the link"),
    (b"r", "register of"), (_ESCAPE, "since the link"), (b"3", "how the laptop can talk"), (b"1", "since the link"),
    (b"4", "New settings for BL-01"), (b"2", "since the link"), (b"5", "No checks yet"),
    (b"6", "Nothing to record yet"), (_ESCAPE, "since the link"),
)  # fmt: skip
"""Keys in turn, each with words that stand on the view that it opens, and not on the one before."""
_BARE = tuple((key, "main view" if key in (_ESCAPE, b"1", b"2") else f"view {key.decode()}") for key, _ in _OURS)
_BARE_SCREEN = """
from textual.app import App
from textual.screen import Screen
from textual.widgets import DataTable, Footer, Static
class View(Screen):
    BINDINGS = [("escape", "app.pop_screen", "Back")]
    def __init__(self, key):
        super().__init__()
        self.key = key
    def compose(self):
        yield Static(f"view {self.key}")
        yield DataTable()
        yield Footer()
    def on_mount(self):
        table = self.query_one(DataTable)
        table.add_columns(*"abcdef")
        for row in range(20):
            table.add_row(*(f"{row} {column}" for column in "abcdef"))
class Bare(App):
    BINDINGS = [*((key, f"view('{key}')", key) for key in "pr"), ("question_mark", "view('?')", "?"),
                *((str(n), f"look('{n}')", str(n)) for n in range(1, 7)), ("escape", "look('1')", "main")]
    def compose(self):
        yield Static("main view", id="head")
        yield Static("")
        yield Footer()
    def action_view(self, key):
        self.push_screen(View(key))
    def action_look(self, key):
        head = "main view" if key in "12" else f"view {key}"
        self.query_one("#head").update(head)
        self.query(Static).last().update("\\n".join(f"{row} of {key}" for row in range(20)))
Bare().run()
"""
_PLAN = "tag,address,mask\nBL-01,10.84.16.31,255.255.252.0\nBL-02,10.84.16.32,255.255.252.0\n"


class Terminal:
    """A program on a terminal of its own, and what it has painted since the last key."""

    def __init__(self, command: list[str]) -> None:
        """Start it."""
        self.pid, self._file = pty.fork()
        if self.pid == 0:
            os.environ |= {"TERM": "xterm-256color", "COLORTERM": "truecolor"}
            os.execvp(command[0], command)
        ioctl(self._file, termios.TIOCSWINSZ, struct.pack("HHHH", _ROWS, _COLUMNS, 0, 0))
        self._painted = b""

    def read(self, longest_s: float) -> None:
        """Take in what the program paints."""
        if select.select([self._file], [], [], longest_s)[0]:
            self._painted += os.read(self._file, 1 << 16)

    def until(self, text: str) -> float:
        """Return how many seconds it takes until a text is painted."""
        began = time.perf_counter()
        while text.encode() not in _ESCAPES.sub(b"", self._painted):
            if time.perf_counter() - began > _PATIENCE_S:
                raise TimeoutError(f"'{text}' was not painted")
            self.read(0.5)
        return time.perf_counter() - began

    def press(self, key: bytes) -> None:
        """Type a key."""
        self._painted = b""
        os.write(self._file, key)

    def settle(self, seconds: float) -> None:
        """Let it paint for a while."""
        until = time.perf_counter() + seconds
        while (left := until - time.perf_counter()) > 0:
            self.read(left)

    def close(self) -> None:
        """End the program."""
        os.kill(self.pid, 15)
        try:
            while select.select([self._file], [], [], 5)[0] and os.read(self._file, 65536):
                pass
        except OSError:  # the other end is closed
            pass
        os.close(self._file)
        os.waitpid(self.pid, 0)


Told = dict[bytes, tuple[float, float]]
"""Of each key the time to its paint in milliseconds: the middle one, and the 95th of a hundred."""


def _p95_ms(rounds: int, *pairs: tuple[Terminal, Sequence[tuple[bytes, str]]]) -> list[Told]:
    """Press each key several times; terminals take turns key by key, so that what else the machine does hits all."""
    times: list[dict[bytes, list[float]]] = [{} for _ in pairs]
    for turn in range(rounds + 1):
        for place in range(len(pairs[0][1])):
            for (terminal, keys), told in zip(pairs, times, strict=True):
                key, text = keys[place]
                terminal.settle(0.2)
                terminal.press(key)
                took = terminal.until(text)
                if turn:  # the first time loads what a view needs
                    told.setdefault(key, []).append(took * 1e3)
    return [
        {key: (median(each), quantiles(each, n=20, method="inclusive")[-1]) for key, each in told.items()}
        for told in times
    ]


def _processor_s(pid: int) -> float:
    """Return how much of a processor a program has used, in seconds."""
    threads = Path(f"/proc/{pid}/task").glob("*/schedstat")
    return sum(int(each.read_text().split()[0]) for each in threads) / 1e9


def _idle(terminal: Terminal) -> float:
    began, used = time.perf_counter(), _processor_s(terminal.pid)
    terminal.settle(_IDLE_S)
    return (_processor_s(terminal.pid) - used) / (time.perf_counter() - began)


def _named(told: Told) -> str:
    names = {_ESCAPE: "Escape"}
    return ", ".join(
        f"{names.get(key, key.decode())} {middle:.0f} ({most:.0f})" for key, (middle, most) in told.items()
    )


def key_to_paint() -> None:
    """Measure keys and idle use on a quiet wire and keys under a flood, beside a bare screen."""
    if os.geteuid() != 0:
        print("key to paint: not measured without root")
        return
    with tempfile.TemporaryDirectory() as home, cable() as (laptop, device):
        job, plan = Path(home) / "keys.askport", Path(home) / "plan.csv"
        plan.write_text(_PLAN)
        subprocess.run([_ASKPORT, "plan", "import", str(plan), "--job", str(job)], check=True, capture_output=True)
        bare = Terminal([sys.executable, "-c", _BARE_SCREEN])
        ours = Terminal(["ip", "netns", "exec", laptop, _ASKPORT, "--job", str(job)])
        try:
            bare.until("main view")
            ours.until("Use zl0")
            ours.press(b"\r")
            ours.until("No device heard yet")
            for each in (bare, ours):
                each.settle(3)
            quiet, beside = _p95_ms(_ROUNDS_QUIET, (ours, _OURS), (bare, _BARE))
            print(f"key to paint, quiet, median (p95) in ms: {_named(quiet)}; a bare screen: {_named(beside)}")
            for which, what in enumerate(("median", "p95")):
                ratios = [quiet[key][which] / beside[key][which] for key in quiet]
                print(f"key to paint, quiet, {what}: {max(ratios):.2f} times a bare screen's at the most")
            print(f"idle: {_idle(ours) * 100:.1f} % of a processor; a bare screen: {_idle(bare) * 100:.1f} %")
            flood = subprocess.Popen(
                ["ip", "netns", "exec", device, sys.executable, str(_HERE / "flood.py"), "--seconds", "90"],
                stdout=subprocess.PIPE,
            )
            try:
                ours.settle(3)
                print(f"key to paint, flood, median (p95) in ms: {_named(*_p95_ms(_ROUNDS_IN_FLOOD, (ours, _OURS)))}")
            finally:
                flood.terminate()
                print("flood: " + flood.communicate()[0].decode().strip())
        finally:
            for each in (bare, ours):
                each.close()


if __name__ == "__main__":
    key_to_paint()
