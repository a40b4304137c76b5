"""``make papers``: NOTICE with the licence of every shipped package, and a list of them (CycloneDX)."""

import json
import sys
from email.parser import HeaderParser
from pathlib import Path

from making import BUILD, DIST, HERE, ROOT, run, tell
from wheels import wheels

_TOOLS = Path(sys.executable).parent
_NAMED = ("licen", "copying", "notice", "authors")
GUIDES = ("guide.md", "field-protocols.md", "lessons.md", "kinds.md", "crew-server.md", "packages.md")
"""The guide, and the pages that it names."""


def environment() -> Path:
    """Return an environment in which everything is installed that is shipped, from the wheels alone."""
    found, folder = wheels(), BUILD / "environment"
    own = next(found.glob("askport-*.whl"))
    if not (folder / ".whole").exists() or (folder / ".whole").stat().st_mtime < own.stat().st_mtime:
        run(sys.executable, "-m", "venv", "--clear", "--without-pip", folder)
        run(_TOOLS / "pip", "--python", folder / "bin/python", "install", "--quiet", "--disable-pip-version-check",
            "--no-index", "--no-compile", f"--find-links={found}", "askport")  # fmt: skip
        list_no_commands(packages_of(folder))
        (folder / ".whole").touch()
    return folder


def list_no_commands(packages: Path) -> None:
    """Take commands off the packages' lists: they are not shipped, and have the path in them at which this was made."""
    for each in packages.glob("*.dist-info/RECORD"):
        kept = [line for line in each.read_text().splitlines(keepends=True) if not line.startswith("../")]
        each.write_text("".join(kept))


def packages_of(folder: Path) -> Path:
    """Return where an environment has its packages."""
    return next(folder.glob("lib/python3.*/site-packages"))


def notice(folder: Path) -> str:
    """Return our own notice, and name, version and licence texts of every package in a folder."""
    parts = [(ROOT / "NOTICE").read_text().rstrip()]
    for metadata in sorted(folder.glob("*.dist-info/METADATA"), key=lambda each: each.parent.name.lower()):
        told = HeaderParser().parsestr(metadata.read_text())
        if told["Name"] == "askport":
            continue
        licence = told["License-Expression"] or (told["License"] or "").split("\n")[0]
        classes = [each.rpartition(" :: ")[2] for each in told.get_all("Classifier", []) if "License" in each]
        texts = [each for each in sorted(metadata.parent.rglob("*")) if each.is_file() and each != metadata
                 and any(each.name.lower().startswith(name) for name in _NAMED)]  # fmt: skip
        head = f"{told['Name']} {told['Version']}: {licence or ', '.join(classes) or 'see below'}"
        parts.append("=" * 100 + f"\n{head}\n" + "=" * 100)
        parts += [each.read_text(errors="replace").rstrip() for each in texts]
        kept = HERE / "licences" / f"{told['Name'].lower()}.txt"
        if not texts and not kept.exists():
            raise SystemExit(f"{told['Name']} ships no licence text: put it into {kept.relative_to(ROOT)}.")
        parts += [kept.read_text().rstrip()] if not texts else []
    return "\n\n".join(parts) + "\n"


def sbom(folder: Path) -> str:
    """Return the list of what is in an environment, the same each time."""
    text = run(_TOOLS / "cyclonedx-py", "environment", "--output-reproducible", "--sv", "1.6", folder / "bin/python")
    return json.dumps(json.loads(text), indent=1, sort_keys=True).replace(str(folder), "") + "\n"


def with_debian(listed: str, tree: Path) -> str:
    """Return the list with what Debian's own packages bring into a system; /usr/share/doc has their licences."""
    told = run(
        "dpkg-query", f"--admindir={tree / 'var/lib/dpkg'}", "-W", "-f", "${Package} ${Version} ${Architecture}\\n"
    )
    document = json.loads(listed)
    for name, number, architecture in (line.split() for line in told.splitlines()):
        purl = f"pkg:deb/debian/{name}@{number}?arch={architecture}"
        found = {"type": "library", "name": name, "version": number, "purl": purl, "bom-ref": purl}
        document["components"].append(found)
    return json.dumps(document, indent=1, sort_keys=True) + "\n"


def put_beside(artefact: Path, listed: str) -> Path:
    """Write what an artefact holds beside it; return where."""
    path = artefact.with_name(f"{artefact.name}.cdx.json")
    path.write_text(listed)
    return path


def write_papers(folder: Path) -> None:
    """Write all into a folder: the licences, what is in it, and the guide with the pages that it names."""
    shipped = environment()
    (folder / "NOTICE").write_text(notice(packages_of(shipped)))
    (folder / "sbom.cdx.json").write_text(sbom(shipped))
    for name in GUIDES:
        (folder / name).write_text((ROOT / f"docs/{name}").read_text())


if __name__ == "__main__":
    DIST.mkdir(exist_ok=True)
    write_papers(DIST)
    tell([DIST / "NOTICE", DIST / "sbom.cdx.json"])
