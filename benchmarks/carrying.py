"""Sizes, install times and starts of what ``make deb wheelhouse folder`` makes, against a venv, on a bare Debian.

Run by itself: ``.venv/bin/python benchmarks/carrying.py``; what it prints stands in docs/packages.md.
"""

import statistics
import sys
import time
from collections.abc import Callable
from pathlib import Path

sys.path.append(str(Path(__file__).parents[1] / "tests"))

from bare_debian import ROOT, BareDebian  # type: ignore[import-not-found]  # tests are not typed

_DIST = ROOT / "dist"
_ROUNDS = 15


def _took(work: Callable[[], object]) -> float:
    begun = time.perf_counter()
    work()
    return time.perf_counter() - begun


def _starts(debian: BareDebian, *command: str) -> float:
    """Return the median seconds of a start inside, the entering of the place aside."""
    loop = (
        "import subprocess, sys, time\nfor _ in range(int(sys.argv[1])):\n    t = time.perf_counter()\n"
        "    subprocess.run(sys.argv[2:], stdout=subprocess.DEVNULL)\n    print(time.perf_counter() - t)"
    )
    told = debian.run("python3", "-c", loop, str(_ROUNDS), *command).stdout
    return statistics.median(map(float, told.split()))


def main() -> None:
    """Print a table."""
    debian = BareDebian(ROOT / "build/bare.tar")
    try:
        wheelhouse = next(_DIST.glob("askport-*-wheelhouse.tar.gz"))
        deb, folder = next(_DIST.glob("askport_*.deb")), next(_DIST.glob("askport-*-folder.tar.gz"))
        wheels = f"{debian.bring(wheelhouse)}/wheels"
        find = ["--no-index", f"--find-links={wheels}"]
        wheel = next((debian.root / wheels[1:]).glob("askport-*.whl")).name
        inside = f"/srv/{deb.name}"
        debian.bring(deb)
        debian.run("mkdir", "-p", "/opt")
        unpack = f"tar xzf /srv/{folder.name} -C /opt --no-same-owner"
        (debian.root / "srv" / folder.name).write_bytes(folder.read_bytes())
        rows: list[tuple[str, Path, str, list[str], list[str]]] = [
            ("venv", wheelhouse, f"python3 -m venv /srv/v && /srv/v/bin/pip install -q {' '.join(find)} askport",
             ["/srv/v"], ["/srv/v/bin/askport"]),
            ("deb", deb, f"dpkg -i {inside}", ["/opt/askport"], ["/usr/bin/askport"]),
            ("pipx", wheelhouse, f"pipx install --pip-args='{' '.join(find)}' {wheels}/{wheel}",
             ["/root/.local"], ["/root/.local/bin/askport"]),
            ("folder", folder, unpack, [f"/opt/{folder.name.removesuffix('.tar.gz')}"],
             [f"/opt/{folder.name.removesuffix('.tar.gz')}/askport"]),
        ]  # fmt: skip
        base: list[float] = []
        print("| | to carry | on disk | install | `--version` | `find --help` | `adapters --json` |")
        print("| --- | --- | --- | --- | --- | --- | --- |")
        for name, carried, install, places, askport in rows:
            installed = _took(lambda install=install: debian.run("sh", "-c", install))  # type: ignore[misc]
            sizes = sum(debian.size_mb(each) for each in places)
            seconds = [_starts(debian, *askport, *words.split()) for words in ("--version", "find --help",
                                                                               "adapters --json")]  # fmt: skip
            numbers = [installed, *seconds]
            base = base or numbers
            shown = " | ".join(f"{each / at:.2f}" for each, at in zip(numbers, base, strict=True))
            print(f"| {name} | {carried.stat().st_size / 1e6:.0f} MB | {sizes} MB | {shown} |")
        print("\nOne is: " + ", ".join(f"{each:.2f} s" for each in base))
        complete = ["/opt/askport/bin/python3", "-I", "-S", "/opt/askport/share/completion/complete.py"]
        debian.run("askport", "demo", "--headless", "/srv/demo")
        bare = _starts(debian, *complete[:3], "-c", "pass")
        for what, words in (("a command", ["f"]), ("a tag", ["register", "show", "/srv/demo/demo.askport", "D"])):
            took = _starts(debian, *complete, *words)
            print(f"Completing {what}: {took * 1000:.0f} ms, {took / bare:.1f} times a bare start of Python.")
    finally:
        debian.close()


if __name__ == "__main__":
    main()
