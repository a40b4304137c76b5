"""What the makers of packages share: where things are, the same moment for every file, and programs that are run."""

import gzip
import io
import os
import shutil
import subprocess
import sys
import tarfile
from collections.abc import Iterable, Mapping
from functools import cache
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1]
HERE = ROOT / "packages"
BUILD, DIST = ROOT / "build", ROOT / "dist"
LOCK = HERE / "requirements.lock"
PYTHON = f"{sys.version_info.major}.{sys.version_info.minor}"


def version() -> str:
    """Return the program's version."""
    text = (ROOT / "src/askport/__init__.py").read_text()
    return text.partition('__version__ = "')[2].partition('"')[0]


@cache
def epoch() -> int:
    """Return the moment that all files get, in seconds since 1970: of the last commit, or as the environment says."""
    if given := os.environ.get("SOURCE_DATE_EPOCH"):
        return int(given)
    asked = subprocess.run(["git", "log", "-1", "--format=%ct"], cwd=ROOT, capture_output=True, text=True, check=False)
    return int(asked.stdout.strip() or 1_790_000_000)


def run(*command: str | Path, env: Mapping[str, str] | None = None, cwd: Path = ROOT) -> str:
    """Run a program and return what it printed; where it fails, end with what it said."""
    environment = {**os.environ, "SOURCE_DATE_EPOCH": str(epoch()), "PYTHONHASHSEED": "0", **(env or {})}
    done = subprocess.run([str(each) for each in command], env=environment, cwd=cwd, capture_output=True, text=True,
                          check=False)  # fmt: skip
    if done.returncode:
        raise SystemExit(f"{' '.join(str(each) for each in command)}\n{done.stdout[-2000:]}{done.stderr[-4000:]}")
    return done.stdout


def emptied(folder: Path) -> Path:
    """Return a folder with nothing in it."""
    shutil.rmtree(folder, ignore_errors=True)
    folder.mkdir(parents=True)
    return folder


def settle(folder: Path) -> None:
    """Give every file the same moment, and rights that do not depend on who made it."""
    for path in (folder, *folder.rglob("*")):
        if not path.is_symlink():
            is_open = path.is_dir() or path.stat().st_mode & 0o100
            path.chmod(0o755 if is_open else 0o644)
        os.utime(path, (epoch(), epoch()), follow_symlinks=False)


def pack(folder: Path, archive: Path) -> Path:
    """Write a folder as a tar.gz that is the same each time; return it."""
    settle(folder)

    def plain(each: tarfile.TarInfo) -> tarfile.TarInfo:
        each.uid = each.gid = 0
        each.uname = each.gname = "root"
        return each

    held = io.BytesIO()
    with tarfile.open(fileobj=held, mode="w", format=tarfile.GNU_FORMAT) as tar:
        for path in sorted((folder, *folder.rglob("*"))):
            tar.add(path, str(path.relative_to(folder.parent)), recursive=False, filter=plain)
    archive.parent.mkdir(exist_ok=True)
    with archive.open("wb") as file, gzip.GzipFile("", "wb", 9, file, epoch()) as packed:
        packed.write(held.getvalue())
    return archive


def tell(paths: Iterable[Path]) -> None:
    """Say what was made, with its size."""
    for path in paths:
        print(f"{path.relative_to(ROOT)}  {path.stat().st_size / 1e6:.1f} MB")
