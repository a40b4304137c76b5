"""``make folder``: the program with its own Python in one folder, for a computer that has none that fits."""

import platform
import shutil
import sys
from pathlib import Path
from zipfile import ZipFile, ZipInfo

from making import BUILD, DIST, HERE, emptied, pack, run, tell, version
from papers import environment, list_no_commands, put_beside, write_papers

_LOADED_BY_NAME = ("askport", "textual", "rich", "pysnmp", "asyncssh", "telnetlib3", "psycopg", "psycopg_binary",
                   "sqlalchemy.dialects.sqlite", "sqlalchemy.dialects.postgresql", "reportlab", "serial", "xlsxwriter",
                   "serial_asyncio_fast", "pyte", "netaddr", "segno", "babel")  # fmt: skip
_WITH_DATA = ("askport", "textual", "netaddr", "reportlab", "pysnmp", "babel")
_READ_ME = """Ask Port {version} for Linux on {machine}, with its own Python; the C library has to be {libc} or newer.

    sudo tar xf askport-{version}-folder.tar.gz -C /opt --no-same-owner
    sudo /opt/askport-{version}-folder/askport

Everybody must be able to read the folder: the program gives up root's rights, and reads parts of itself after that. Put
it where only root can write. 'completion' has what shells complete it with. NOTICE has the licences of all that is in
here, and sbom.cdx.json lists it.
"""


def main() -> None:
    """Make the archive."""
    made, name = environment(), f"askport-{version()}-folder"
    packages = next(made.glob("lib/python3.*/site-packages"))
    work = emptied(BUILD / "pyinstaller")
    options = [f"--collect-submodules={each}" for each in _LOADED_BY_NAME]
    options += [f"--collect-data={each}" for each in _WITH_DATA]
    run(Path(sys.executable).parent / "pyinstaller", "--noconfirm", "--log-level=ERROR", "--onedir", "--name=askport",
        f"--paths={packages}", f"--distpath={work / 'dist'}", f"--workpath={work / 'work'}", f"--specpath={work}",
        "--recursive-copy-metadata=askport", "--exclude-module=tkinter", *options, HERE / "entry.py",
        env={"PYTHONPATH": str(packages)})  # fmt: skip
    folder = BUILD / name
    shutil.rmtree(folder, ignore_errors=True)
    shutil.move(work / "dist/askport", folder)
    _sort(folder / "_internal/base_library.zip")
    list_no_commands(folder / "_internal")
    libc = " ".join(platform.libc_ver())
    (folder / "README").write_text(_READ_ME.format(version=version(), machine=platform.machine(), libc=libc))
    shutil.copytree(BUILD / "from-commands/completion", folder / "completion")
    for each in (folder / "completion").glob("askport.*"):
        where = f"python3 -I -S /opt/{name}/completion/complete.py"
        each.write_text(each.read_text().replace("@COMPLETE@", where))
    write_papers(folder)
    packed = pack(folder, DIST / f"{name}.tar.gz")
    tell([packed, put_beside(packed, (folder / "sbom.cdx.json").read_text())])


def _sort(archive: Path) -> None:
    """Put the modules of an archive in one order, whatever the path is at which it was made."""
    with ZipFile(archive) as before:
        found = {each: before.read(each) for each in sorted(before.namelist())}
    with ZipFile(archive, "w") as after:
        for name, data in found.items():
            after.writestr(ZipInfo(name), data)


if __name__ == "__main__":
    main()
