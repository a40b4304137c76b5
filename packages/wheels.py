"""The wheels that are shipped: the program's own, and those that the lock names."""

import shutil
import sys
from pathlib import Path

from making import BUILD, LOCK, ROOT, emptied, run, settle

_TOOLS = Path(sys.executable).parent
_WHEELS = BUILD / "wheels"


def wheels() -> Path:
    """Return a folder with the program's wheel and those that the lock names, checked against their hashes."""
    if not (_WHEELS / ".whole").exists() or (_WHEELS / ".whole").stat().st_mtime < LOCK.stat().st_mtime:
        emptied(_WHEELS)
        run(_TOOLS / "pip", "download", "--quiet", "--disable-pip-version-check", "--only-binary=:all:", "--no-deps",
            "--require-hashes", "-r", LOCK, "-d", _WHEELS)  # fmt: skip
        (_WHEELS / ".whole").touch()
    for old in _WHEELS.glob("askport-*.whl"):
        old.unlink()
    source = emptied(BUILD / "source")
    shutil.copytree(ROOT / "src", source / "src", ignore=shutil.ignore_patterns("__pycache__", "*.egg-info"))
    for each in ("pyproject.toml", "README.md", "LICENSE", "NOTICE"):
        shutil.copy2(ROOT / each, source / each)
    settle(source)
    run(_TOOLS / "pip", "wheel", "--quiet", "--disable-pip-version-check", "--no-deps", "-w", _WHEELS, source)
    return _WHEELS
