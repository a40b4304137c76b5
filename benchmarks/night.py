"""Run everything at full strength, one target after the other (``make night``)."""

import json
import subprocess
import sys
import time
from pathlib import Path

TARGETS = (
    "full", "liars", "endings", "beside", "races", "crates", "crews", "browsers", "packages-test", "stick-test", "fuzz",
    "mutations", "benchmarks",
)  # fmt: skip
FOLDER = Path("build/night")


def main() -> int:
    """Print a line for each target, and keep what each said and the figures of all."""
    FOLDER.mkdir(parents=True, exist_ok=True)
    figures = {}
    for target in sys.argv[1:] or TARGETS:
        log, begun = FOLDER / f"{target}.log", time.monotonic()
        with log.open("w") as file:
            status = subprocess.run(["make", target], stdout=file, stderr=file).returncode
        lines = log.read_text().split("\n")
        last = next((each for each in reversed(lines) if each.strip() and not each.startswith("make")), "")
        figures[target] = {"status": status, "seconds": round(time.monotonic() - begun), "last": last}
        print(f"{target}: {'done' if status == 0 else f'FAILED ({status})'} in {figures[target]['seconds']} s: {last}")
        (FOLDER / "figures.json").write_text(json.dumps(figures, indent=1))
    return int(any(each["status"] for each in figures.values()))


if __name__ == "__main__":
    sys.exit(main())
