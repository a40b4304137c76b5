"""``make wheelhouse``: the program's wheel and every wheel that it needs, which install without a network."""

import platform
import shutil

from making import BUILD, DIST, LOCK, PYTHON, emptied, pack, tell, version
from papers import put_beside, write_papers
from wheels import wheels

_READ_ME = """Ask Port {version}, for Python {python} on Linux ({machine}). Without a network, one line installs it:

    pipx install --pip-args='--no-index --find-links=wheels' wheels/askport-{version}-py3-none-any.whl

or, where there is no pipx:

    python3 -m venv ~/askport && ~/askport/bin/pip install --no-index --find-links=wheels askport

'requirements.lock' names every wheel with its hash:

    pip install --no-index --find-links=wheels --require-hashes -r requirements.lock

'sudo' does not look into ~/.local/bin: start it as 'sudo $(command -v askport)'. 'askport doctor' says what is missing.
NOTICE has the licences of all that is in here, and sbom.cdx.json lists it.
"""


def main() -> None:
    """Make the archive."""
    folder = emptied(BUILD / f"askport-{version()}-wheelhouse")
    shutil.copytree(wheels(), folder / "wheels", ignore=shutil.ignore_patterns(".whole"))
    shutil.copy2(LOCK, folder / LOCK.name)
    said = _READ_ME.format(version=version(), machine=platform.machine(), python=PYTHON)
    (folder / "README").write_text(said)
    write_papers(folder)
    packed = pack(folder, DIST / f"{folder.name}.tar.gz")
    tell([packed, put_beside(packed, (folder / "sbom.cdx.json").read_text())])


if __name__ == "__main__":
    main()
