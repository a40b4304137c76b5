"""How long a command takes to start, beside an interpreter that does nothing."""

import subprocess
import sys
import time
from pathlib import Path
from statistics import median

_RUNS = 7


def _seconds(command: list[str]) -> float:
    started = time.perf_counter()
    subprocess.run(command, check=True, capture_output=True)
    return time.perf_counter() - started


def startup() -> None:
    """Run both in turn and compare."""
    askport = str(Path(sys.executable).with_name("askport"))
    bare, ours = [], []
    for _ in range(_RUNS):
        bare.append(_seconds([sys.executable, "-c", "pass"]))
        ours.append(_seconds([askport, "--version"]))
    ratio = median(ours) / median(bare)
    print(f"start of a command: {ratio:.1f} times a bare interpreter ({median(ours) * 1e3:.0f} ms)")
