"""Run the tests twenty times, quiet and beside a busy machine, each time in another order (``make flakes``).

Every fourth run is of a clone in a folder that nobody else can enter.
"""

import os
import resource
import subprocess
import sys
import tempfile
import time
from pathlib import Path

ROOT = Path(__file__).parent.parent
HOW = ["quiet"] * 10 + ["beside busy loops"] * 5 + ["at nice 10 beside busy loops"] * 5
BUSY = "while True: pass"


def one(how: str, order: int, root: Path) -> tuple[int, str]:
    """Run them once; return the exit status, and a line that tells how it was."""
    loops = [subprocess.Popen([sys.executable, "-c", BUSY]) for _ in range(os.cpu_count() or 1) if how != "quiet"]
    begun, before = time.monotonic(), resource.getrusage(resource.RUSAGE_CHILDREN)
    nice = ["nice", "-n", "10"] if how.startswith("at nice") else []
    command = [*nice, "tools/test-room", ".venv/bin/pytest", "--waiting", "8", "--order", str(order)]
    log = ROOT / f"build/flakes/{order}.log"
    try:
        with log.open("w") as file:
            status = subprocess.run(command, cwd=root, stdout=file, stderr=file).returncode
        after = resource.getrusage(resource.RUSAGE_CHILDREN)
    finally:
        for each in loops:
            each.kill()
            each.wait()
    spent = after.ru_utime + after.ru_stime - before.ru_utime - before.ru_stime
    last = log.read_text().strip().rpartition("\n")[2]
    return status, f"{how}: {time.monotonic() - begun:.0f} s, {spent:.0f} s of processor: {last}"


def main() -> int:
    """Print a line for each run, the order of which is its number; names on the command line choose among them."""
    (ROOT / "build/flakes").mkdir(parents=True, exist_ok=True)
    failed = 0
    with tempfile.TemporaryDirectory(prefix="askport-flakes-") as held:
        closed = Path(held) / "clone"
        subprocess.run(["git", "clone", "--quiet", ROOT, closed], check=True)
        subprocess.run(["make", "--silent", ".venv/.tests", ".venv/partners"], cwd=closed, check=True)
        for order, how in enumerate(HOW, 1):
            if len(sys.argv) > 1 and str(order) not in sys.argv[1:]:
                continue
            status, told = one(how, order, closed if order % 4 == 0 else ROOT)
            failed += status != 0
            print(f"{order}. {told}", flush=True)
    return int(failed > 0)


if __name__ == "__main__":
    sys.exit(main())
