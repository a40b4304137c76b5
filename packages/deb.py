"""``make deb``: a Debian package that installs with neither pip nor a network."""

import gzip
import hashlib
import shutil
import subprocess
import sys
from pathlib import Path

from making import BUILD, DIST, HERE, PYTHON, ROOT, emptied, epoch, run, settle, tell, version
from papers import GUIDES, environment, notice, packages_of, put_beside, sbom

_HOME = Path("opt/askport")
_COMPLETE = "/opt/askport/bin/python3 -I -S /opt/askport/share/completion/complete.py"
_MINOR = int(PYTHON.split(".")[1])
_CONTROL = f"""Package: askport
Version: {{version}}
Architecture: {{architecture}}
Maintainer: The Ask Port authors <askport@localhost>
Installed-Size: {{kilobytes}}
Depends: python3 (>= 3.{_MINOR}~), python3 (<< 3.{_MINOR + 1}~), iproute2, passwd
Recommends: nftables
Section: net
Priority: optional
Description: finds a device's unknown address on one cable and sets its final one
 A full-screen terminal program for whoever commissions devices: it finds the
 address of the device at the other end of the cable, sets its final settings,
 proves them, keeps a record and gives the laptop back as it was.
"""


def _put(text: str | bytes, path: Path, *, mode: int = 0o644) -> None:
    path.parent.mkdir(parents=True, exist_ok=True)
    path.write_bytes(text if isinstance(text, bytes) else text.encode())
    path.chmod(mode)


def _packed(text: str) -> bytes:
    return gzip.compress(text.encode(), 9, mtime=epoch())


def furnish(root: Path) -> None:
    """Lay all files of the package out under a folder, as they are to stand under ``/``."""
    home = root / _HOME
    made = environment()
    site = home / f"lib/python{PYTHON}/site-packages"
    shutil.copytree(packages_of(made), site, ignore=shutil.ignore_patterns("__pycache__"))
    (home / "bin").mkdir()
    (home / "bin/python3").symlink_to(f"/usr/bin/python{PYTHON}")
    _put(f"home = /usr/bin\ninclude-system-site-packages = false\nversion = {PYTHON}\n", home / "pyvenv.cfg")
    launcher = "#!/opt/askport/bin/python3 -I\nfrom askport.cli.main import main\n\nmain()\n"
    _put(launcher, home / "bin/askport", mode=0o755)
    (root / "usr/bin").mkdir(parents=True)
    (root / "usr/bin/askport").symlink_to("/opt/askport/bin/askport")
    # Byte code that is not held against the times of its sources, which dpkg sets.
    run(sys.executable, "-m", "compileall", "-q", "-j", "2", "--invalidation-mode", "unchecked-hash", "-s", root, "-p",
        "/", site)  # fmt: skip
    for name in ("askport-keeper.socket", "askport-keeper.service"):
        _put((HERE / "debian" / name).read_text(), root / "usr/lib/systemd/system" / name)
    _put((HERE / "debian/askport.desktop").read_text(), root / "usr/share/applications/askport.desktop")
    _put((HERE / "debian/askport.svg").read_text(), root / "usr/share/icons/hicolor/scalable/apps/askport.svg")
    documents = root / "usr/share/doc/askport"
    _put((ROOT / "LICENSE").read_text() + "\n" + notice(packages_of(made)), documents / "copyright")
    _put(_packed((ROOT / "CHANGELOG.md").read_text()), documents / "changelog.gz")
    _put(sbom(made), documents / "sbom.cdx.json")
    for name in GUIDES:
        _put((ROOT / f"docs/{name}").read_text(), documents / name)
    written = BUILD / "from-commands"
    for page in sorted((written / "man").glob("*.1")):
        _put(_packed(page.read_text()), root / f"usr/share/man/man1/{page.name}.gz")
    for name, where in (
        ("commands.json", _HOME / "share/completion"), ("complete.py", _HOME / "share/completion"),
        ("askport.bash", Path("usr/share/bash-completion/completions/askport")),
        ("askport.zsh", Path("usr/share/zsh/vendor-completions/_askport")),
        ("askport.fish", Path("usr/share/fish/vendor_completions.d/askport.fish")),
    ):  # fmt: skip
        text = (written / "completion" / name).read_text().replace("@COMPLETE@", _COMPLETE)
        _put(text, root / (where / name if where.is_relative_to(_HOME) else where))


def _sums(root: Path) -> str:
    """Return what dpkg --verify holds the files against (deb-md5sums(5))."""
    files = (each for each in sorted(root.rglob("*")) if each.is_file() and not each.is_symlink())
    named = ((hashlib.md5(each.read_bytes()).hexdigest(), each.relative_to(root)) for each in files)
    return "".join(f"{digest}  {path}\n" for digest, path in named if path.parts[0] != "DEBIAN")


def main() -> None:
    """Make the package."""
    root = emptied(BUILD / "deb")
    furnish(root)
    # Of a folder its entry only, as the policy counts it (5.6.20): how large it is depends on the disk that it is on.
    size = sum(-(-each.lstat().st_size // 1024) if each.is_file() else 1 for each in root.rglob("*"))
    architecture = run("dpkg", "--print-architecture").strip()
    _put(_CONTROL.format(version=version(), architecture=architecture, kilobytes=size), root / "DEBIAN/control")
    for name in ("postinst", "prerm", "postrm"):
        _put((HERE / "debian" / name).read_text(), root / "DEBIAN" / name, mode=0o755)
    _put(_sums(root), root / "DEBIAN/md5sums")
    settle(root)
    DIST.mkdir(exist_ok=True)
    package = DIST / f"askport_{version()}_{architecture}.deb"
    run("dpkg-deb", "--root-owner-group", "-Zzstd", "-z15", "--build", root, package)
    tell([package, put_beside(package, sbom(environment()))])


if __name__ == "__main__":
    if shutil.which("dpkg-deb") is None:
        raise SystemExit("There is no dpkg-deb: a Debian package is made on Debian.")
    try:
        main()
    except subprocess.CalledProcessError as error:
        raise SystemExit(str(error)) from None
