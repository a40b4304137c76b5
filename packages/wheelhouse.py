"""``make wheelhouse``: the program's wheel and every wheel that it needs, which install without a network."""

import platform
import shutil
import sys
from pathlib import Path

from making import BUILD, DIST, LOCK, PYTHON, ROOT, emptied, pack, run, settle, tell, version
from papers import write_papers

TOOLS = Path(sys.executable).parent
WHEELS = BUILD / "wheels"
_READ_ME = """Ask Port {version}, for Python {python} on Linux ({machine}). Without a network, one line installs it:

    pipx install --pip-args='--no-index --find-links=wheels' wheels/askport-{version}-py3-none-any.whl

or, where there is no pipx:

    python3 -m venv ~/askport && ~/askport/bin/pip install --no-index --find-links=wheels askport

'requirements.lock' names every wheel with its hash:

    pip install --no-index --find-links=wheels --require-hashes -r requirements.lock

'sudo' does not look into ~/.local/bin: start it as 'sudo $(command -v askport)'. 'askport doctor' says what is missing.
NOTICE has the licences of all that is in here, and sbom.cdx.json lists it.
"""


def wheels() -> Path:
    """Return a folder with the program's wheel and those that the lock names, checked against their hashes."""
    if not (WHEELS / ".whole").exists() or (WHEELS / ".whole").stat().st_mtime < LOCK.stat().st_mtime:
        emptied(WHEELS)
        run(TOOLS / "pip", "download", "--quiet", "--disable-pip-version-check", "--only-binary=:all:", "--no-deps",
            "--require-hashes", "-r", LOCK, "-d", WHEELS)  # fmt: skip
        (WHEELS / ".whole").touch()
    for old in WHEELS.glob("askport-*.whl"):
        old.unlink()
    source = emptied(BUILD / "source")
    shutil.copytree(ROOT / "src", source / "src", ignore=shutil.ignore_patterns("__pycache__", "*.egg-info"))
    for each in ("pyproject.toml", "README.md", "LICENSE", "NOTICE"):
        shutil.copy2(ROOT / each, source / each)
    settle(source)
    run(TOOLS / "pip", "wheel", "--quiet", "--disable-pip-version-check", "--no-deps", "-w", WHEELS, source)
    return WHEELS


def main() -> None:
    """Make the archive."""
    folder = emptied(BUILD / f"askport-{version()}-wheelhouse")
    shutil.copytree(wheels(), folder / "wheels", ignore=shutil.ignore_patterns(".whole"))
    shutil.copy2(LOCK, folder / LOCK.name)
    said = _READ_ME.format(version=version(), machine=platform.machine(), python=PYTHON)
    (folder / "README").write_text(said)
    write_papers(folder)
    tell([pack(folder, DIST / f"{folder.name}.tar.gz")])


if __name__ == "__main__":
    main()
