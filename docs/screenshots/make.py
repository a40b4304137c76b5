"""Photograph the main views of the demo in a real terminal window: Xvfb, xterm, tmux and ImageMagick."""

import os
import subprocess
import tempfile
import time
from pathlib import Path

HERE = Path(__file__).parent
ASKPORT = HERE.parent.parent / ".venv/bin/askport"
SIZE = (160, 47)
"""Columns and lines: about 1280x800 pixels."""
PATIENCE_S = 60.0

# Each step: a text to wait for on the screen, then either keys to press or the name of a picture to take.
TOUR = (
    ("Enter ▸ Go on with 00:00:5e:00:53:10", "find.png"),
    ("Enter ▸ Go on with", ["Enter"]),
    ("Enter ▸ Borrow", "reach.png"),
    ("Enter ▸ Borrow", ["Enter"]),
    ("Type this into the device", "set.png"),
    ("Type this into the device", ["F7"]),
    ("put it back. l leaves", "prove.png"),
    ("put it back. l leaves", ["F6"]),
    ("Its power is off", ["F6"]),
    ("Enter ▸ Record TG-01", ["Enter"]),
    ("is recorded and the laptop", ["r"]),
    ("of 1 proven", "register.png"),
)


def main() -> None:
    """Take every picture of the tour."""
    with tempfile.TemporaryDirectory() as work:
        tmux = ["tmux", "-S", f"{work}/tmux"]
        environment = {k: v for k, v in os.environ.items() if k not in ("TMUX", "COLUMNS", "LINES")}
        environment |= {"COLORTERM": "truecolor", "DISPLAY": f":{os.getpid() % 4000 + 100}", "TZ": "UTC"}
        Path(f"{work}/conf").write_text(
            'set -g status off\nset -g default-terminal tmux-256color\nset -ga terminal-overrides ",xterm*:Tc"\n'
        )
        started = [
            subprocess.Popen(["Xvfb", environment["DISPLAY"], "-screen", "0", "1280x800x24", "-nolisten", "tcp"],
                             stderr=subprocess.DEVNULL),
        ]  # fmt: skip
        try:
            time.sleep(1.5)
            columns, lines = map(str, SIZE)
            subprocess.run([*tmux, "-f", f"{work}/conf", "new-session", "-d", "-x", columns, "-y", lines,
                            f"{ASKPORT} demo --pace 8; sleep 99"], env=environment, check=True)  # fmt: skip
            xterm = ["xterm", "-fa", "DejaVu Sans Mono", "-fs", "10", "-geometry", f"{columns}x{lines}+0+0",
                     "-bw", "0", "-b", "0", "+sb", "-bg", "black", "-fg", "white", "-e", *tmux, "attach"]  # fmt: skip
            started.append(subprocess.Popen(xterm, env=environment))
            for text, step in TOUR:
                wait_for(tmux, text)
                if isinstance(step, str):
                    time.sleep(0.6)
                    picture = HERE / step
                    subprocess.run(["import", "-window", "root", "-strip", str(picture)], env=environment, check=True)
                    print(picture.name)
                else:
                    subprocess.run([*tmux, "send-keys", *step], check=True)
        finally:
            subprocess.run([*tmux, "kill-server"], check=False)
            for process in started:
                process.terminate()
                process.wait()


def wait_for(tmux: list[str], text: str) -> None:
    """Wait until a text stands on the screen."""
    deadline = time.monotonic() + PATIENCE_S
    while text not in (screen := subprocess.run([*tmux, "capture-pane", "-p"], capture_output=True, text=True).stdout):
        if time.monotonic() > deadline:
            raise SystemExit(f"never saw '{text}':\n{screen}")
        time.sleep(0.1)


if __name__ == "__main__":
    main()
