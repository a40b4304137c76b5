"""Photograph the main views of the demo in a real terminal window: Xvfb, xterm, tmux and ImageMagick."""

import json
import os
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from askport.bench import scenario

HERE = Path(__file__).parent
ASKPORT = HERE.parent.parent / ".venv/bin/askport"
SIZE = (160, 47)
"""Columns and lines: about 1280x800 pixels."""
PATIENCE_S = 60.0

Step = tuple[str, str | list[str]]
"""A text to wait for, then keys to press or the name of a picture to take."""


def _next_by_page(tag: str) -> list[Step]:
    """Set the next device on its page and record it, without the proof by a power cut."""
    return [
        ("Go on to the next device.", ["Enter"]),
        (f"{tag}    current", []),
        ("Enter ▸ Use this device", ["Enter"]),
        ("Enter ▸ Borrow", ["Enter"]),
        ("Enter ▸ Fill in its web page", ["Enter"]),
        ("Press l to skip", ["l"]),
        (f"Enter ▸ Record {tag}", ["Enter"]),
    ]


# Each tour: options of the demo, then its steps.
TOURS: tuple[tuple[list[str], list[Step]], ...] = (
    (
        ["--pace", "8"],
        [
            ("Enter ▸ Use this device: 00:00:5e:00:53:10", "find.png"),
            ("Enter ▸ Use this device", ["f"]),
            ("What it said", "frames.png"),
            ("What it said", ["f"]),
            ("Enter ▸ Use this device", ["Enter"]),
            ("Enter ▸ Borrow", "reach.png"),
            ("Enter ▸ Borrow", ["Enter"]),
            ("Enter ▸ Fill in its web page", "set.png"),
            ("Enter ▸ Fill in its web page", ["Enter"]),
            ("and put it back.", ["F6"]),
            ("Its power is off", ["F6"]),
            ("Enter ▸ Record TG-01", ["5"]),
            ("Once more", "prove.png"),
            ("Once more", ["Enter"]),
            *_next_by_page("OX-01"),
            *_next_by_page("OX-02"),
            ("Go on to the next device.", ["r"]),
            ("of 3 proven", "register.png"),
            ("of 3 proven", ["Enter"]),
            ("power cycle", ["n"]),
            ("Note:", [*"Cable", "Space", *"behind", "Space", *"the", "Space", *"panel", "Enter"]),
            ("Notes", "device.png"),
            ("Notes", ["Escape"]),
            ("of 3 proven", ["F9"]),
            ("cover, 1 of 5", ["Enter"]),
            ("cover, 2 of 5", ["Enter"]),
            ("cover, 3 of 5", ["Enter"]),
            ("cover, 4 of 5", ["Enter"]),
            ("cover, 5 of 5", ["Enter"]),
            ("Their fingerprint", "handover.png"),
            ("Their fingerprint", ["Escape"]),
            ("of 3 proven", ["Escape"]),
            ("Go on to the next device.", ["p"]),
            ("Work list", ["Tab", "Tab", "Tab", "Tab"]),
            ("Take it next", "site.png"),
        ],
    ),
    (
        ["--pace", "4", "--wire", "twins"],
        [("6 devices use the same", ["m"]), ("Which MAC", ["5", "3", "4", "7"]), ("differ", "twins.png")],
    ),
    (
        ["--pace", "4", "--wire", "twins"],
        [
            ("6 devices use the same", ["x"]),
            ("Setting starts", ["F7"] * 6),
            ("Waiting for it at", "switch.png"),
        ],
    ),
    (
        ["--pace", "8", "--first", "SW-01"],
        [
            ("Enter ▸ Use this device: 00:00:5e:00:53:28", ["Enter"]),
            ("Enter ▸ Borrow 172", ["Enter"]),
            ("asks for a log-in", ["u"]),
            ("What is the log-in name", [*"fitter", "Enter"]),
            ("And the password of", [*"hatchery", "Enter"]),
            ("Enter ▸ Send the commands", "console.png"),
            ("Enter ▸ Send the commands", ["Enter"]),
            ("and put it back.", ["4"]),
        ],
    ),
    (
        ["--pace", "8", "--first", "OX-01"],
        [
            ("Enter ▸ Use this device", ["Enter"]),
            ("Enter ▸ Borrow", ["Enter"]),
            ("Enter ▸ Fill in its web page", ["Enter"]),
            ("and put it back.", ["F6"]),
            ("Its power is off", ["F6"]),
            ("Enter ▸ Record OX-01", ["Enter"]),
            ("OX-01 is recorded", ["g"]),
            ("Power-cycle which units", [*"last", "Enter"]),
            ("Crate, same as", ["Enter"]),
            ("as OX-02, like OX-01", ["Enter"]),
            ("OX-02 is recorded", ["Enter"]),
            ("as OX-03, like OX-01", "crate.png"),
        ],
    ),
    (
        ["--pace", "8", "--first", "UV-01"],
        [
            ("Send discovery requests, 10.212.7.33 first", ["Enter"]),
            ("Enter ▸ Use this device", ["Enter"]),
            ("Enter ▸ Borrow", ["Enter"]),
            ("Type this into the device", ["c"]),
            ("A number key copies", ["2"]),
            ("Copied: ", "crib.png"),
            ("Copied: ", ["Escape"]),
            ("Ways for this device", ["F8"]),
            ("Actual address", "landed.png"),
        ],
    ),
    (
        ["--pace", "8", "--first", "WX-01"],
        [("has shown no address", ["Enter"]), ("Enter ▸ Set 10.84.16.90", "ping.png")],
    ),
    (
        ["--pace", "2", "--wire", "house"],
        [("wrong socket?", ["+"]), ("DHCP server 10.84.19.254 found", "house.png")],
    ),
)
WATCHES: list[Step] = [("live", ["Tab"]), ("ben", "watch.png")]
"""In the office of a crew that has the demo's job."""
PLUGS: list[Step] = [("Enter ▸ Use enp3s0", []), ("fe80::", "plug.png")]
"""On a laptop with two adapters, one of which is off."""


def main() -> None:
    """Take every picture of every tour."""
    environment = {k: v for k, v in os.environ.items() if k not in ("TMUX", "COLUMNS", "LINES")}
    environment |= {"COLORTERM": "truecolor", "DISPLAY": f":{os.getpid() % 4000 + 100}", "TZ": "UTC"}
    screen = ["Xvfb", environment["DISPLAY"], "-screen", "0", "1280x800x24", "-nolisten", "tcp"]
    xvfb = subprocess.Popen(screen, stderr=subprocess.DEVNULL)
    try:
        time.sleep(1.5)
        for options, steps in TOURS if not sys.argv[1:] else ():
            take(["demo", *options], steps, environment)
        with adapters() as inside:
            take(["--job", f"/tmp/askport-plug-{os.getpid()}.askport"], PLUGS, environment, inside)
        with crew(environment) as url:
            take(["watch", f"'{url}'"], WATCHES, environment)
    finally:
        xvfb.terminate()
        xvfb.wait()


@contextmanager
def adapters() -> Iterator[str]:
    """Make a laptop of its own with two adapters, in a network namespace; give what starts a program there."""
    name = f"askport-plug-{os.getpid()}"

    def ip(words: str) -> None:
        subprocess.run(["ip", *words.format(laptop=name, device=f"{name}-d").split()], check=True)

    ip("netns add {laptop}")
    ip("netns add {device}")
    try:
        for adapter in ("enp3s0", "enx0090ee1f"):
            ip(f"-n {{laptop}} link add {adapter} type veth peer name {adapter} netns {{device}}")
        ip("-n {device} link set enp3s0 address 00:00:5e:00:53:10 up")
        ip("-n {laptop} link set enp3s0 up")
        yield f"ip netns exec {name} "
    finally:
        ip("netns del {laptop}")
        ip("netns del {device}")
        Path(f"/tmp/{name}.askport").unlink(missing_ok=True)


@contextmanager
def crew(environment: dict[str, str]) -> Iterator[str]:
    """Have two members share the demo's job, each with a unit in hand, and give their database's URL."""
    sys.path.insert(0, str(HERE.parents[1] / "tests"))
    from crew_database import Database  # type: ignore[import-not-found]

    with tempfile.TemporaryDirectory() as work:
        environment |= {"XDG_DATA_HOME": f"{work}/data", "XDG_STATE_HOME": f"{work}/state"}
        database = Database(Path(tempfile.mkdtemp(prefix="askport-pg-")))
        database.anew()

        def askport(*arguments: str) -> None:
            subprocess.run([ASKPORT, *arguments], env=environment, check=True, stdout=subprocess.DEVNULL)

        try:
            askport("demo", "--headless", work)
            askport("crew", "create", database.url(), "--site", "Quell-Haus")
            database.sql("GRANT site_member TO anna, ben")
            database.sql("GRANT site_office TO carla")
            askport("crew", "join", database.url("anna"), "--job", f"{work}/demo.askport")
            done = {each["tag"] for each in json.loads(Path(f"{work}/register.json").read_text())["devices"]}
            planned = [unit.work for unit in scenario.UNITS if unit.work.tag not in done and unit.work.target]
            rows = [f"{each.tag},{each.target.interface.ip},22\n" for each in planned if each.target]
            Path(f"{work}/more.csv").write_text("".join(["tag,address,prefix\n", *rows]))
            askport("plan", "import", f"{work}/more.csv", "--job", f"{work}/demo.askport")
            askport("crew", "join", database.url("ben"), "--job", f"{work}/ben.askport")
            for member, item in zip(("anna", "ben"), planned, strict=False):
                database.sql(f"SELECT askport.claim(ARRAY['unit {item.tag}'], '{member}', 3000)")
            yield database.url("carla")
        finally:
            database.remove()


def take(options: list[str], steps: list[tuple[str, str | list[str]]], environment: dict[str, str],
         inside: str = "") -> None:  # fmt: skip
    """Go through one tour in a terminal window of its own."""
    columns, lines = map(str, SIZE)
    with tempfile.TemporaryDirectory() as work:
        tmux = ["tmux", "-S", f"{work}/tmux"]
        Path(f"{work}/conf").write_text(
            'set -g status off\nset -g default-terminal tmux-256color\nset -ga terminal-overrides ",xterm*:Tc"\n'
        )
        command = f"{inside}{ASKPORT} {' '.join(options)}; sleep 99"
        session = ["new-session", "-d", "-x", columns, "-y", lines, command]
        subprocess.run([*tmux, "-f", f"{work}/conf", *session], env=environment, check=True)
        xterm = ["xterm", "-fa", "DejaVu Sans Mono", "-fs", "10", "-geometry", f"{columns}x{lines}+0+0",
                 "-bw", "0", "-b", "0", "+sb", "-bg", "black", "-fg", "white", "-e", *tmux, "attach"]  # fmt: skip
        window = subprocess.Popen(xterm, env=environment)
        try:
            for text, step in steps:
                wait_for(tmux, text)
                if isinstance(step, str):
                    time.sleep(0.6)
                    picture = ["import", "-window", "root", "-strip", str(HERE / step)]
                    subprocess.run(picture, env=environment, check=True)
                    print(step)
                else:
                    subprocess.run([*tmux, "send-keys", *step], check=True)
        finally:
            subprocess.run([*tmux, "kill-server"], check=False)
            window.terminate()
            window.wait()


def wait_for(tmux: list[str], text: str) -> None:
    """Wait until a text stands on the screen."""
    deadline = time.monotonic() + PATIENCE_S
    while text not in (screen := subprocess.run([*tmux, "capture-pane", "-p"], capture_output=True, text=True).stdout):
        if time.monotonic() > deadline:
            raise SystemExit(f"never saw '{text}':\n{screen}")
        time.sleep(0.1)


if __name__ == "__main__":
    main()
