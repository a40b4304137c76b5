"""Kind files: those of the job's folder, the technician's own, and those that ship."""

from collections.abc import Iterator
from dataclasses import dataclass
from importlib.resources import files
from pathlib import Path

from platformdirs import user_config_path

from askport.core.errors import AskPortError, BadInput, MachineRefused
from askport.core.kinds import kind_reading, model
from askport.core.phrases import phrase
from askport.core.text import display_text

_MAX_BYTES = 1_000_000
IN_FOLDER = phrase("the job's folder")
"""Where lessons are kept."""


@dataclass(frozen=True, slots=True)
class KindFile:
    """One kind with where it stands."""

    kind: model.Kind
    path: Path | None
    """None where it ships with the program."""
    where: str


def known_kinds(job: Path | None = None) -> tuple[list[KindFile], list[str]]:
    """Return all kinds, the nearest to the job first, and a sentence for each file that cannot be used."""
    found: list[KindFile] = []
    wrong: list[str] = []
    for path, where in _paths(job):
        try:
            found.append(KindFile(load_kind(path), path, where))
        except AskPortError as error:
            wrong.append(error.message)
    shipped = sorted(files("askport").joinpath("kinds").iterdir(), key=lambda each: each.name)
    texts = ((each.name, each.read_text(encoding="utf-8")) for each in shipped if each.name.endswith(".toml"))
    return found + [KindFile(kind_reading.read_kind(text, name), None, "ships") for name, text in texts], wrong


class KindShelf:
    """The kinds for one job, read again where a file has changed."""

    def __init__(self, job: Path) -> None:
        self._job, self._read = job, [(Path(), 0)]
        self._kinds: list[model.Kind] = []
        self.wrong: list[str] = []
        """A sentence for each file that cannot be used."""

    def kinds(self) -> list[model.Kind]:
        """Return the kinds, the nearest to the job first."""
        there = [(path, _changed_at(path)) for path, _ in _paths(self._job)]
        if there != self._read:
            found, self.wrong = known_kinds(self._job)
            self._read, self._kinds = there, [each.kind for each in found]
        return self._kinds


def _changed_at(path: Path) -> int:
    try:
        return path.stat().st_mtime_ns
    except OSError:
        return 0


def load_kind(path: Path) -> model.Kind:
    """Read one kind file.

    Raises:
        BadInput: there is none, or it has mistakes.
        MachineRefused: it cannot be read.
    """
    name = display_text(str(path), 200)
    try:
        if not path.is_file():
            raise BadInput(
                "There is no kind file '{name}': 'askport kinds list' shows those that are known.", name=name
            )
        data = path.read_bytes()[:_MAX_BYTES]
    except OSError as error:
        raise MachineRefused("'{name}' cannot be read: {why}.", name=name, why=error.strerror) from None
    try:
        text = data.decode("utf-8")
    except UnicodeDecodeError as error:
        line = data[: error.start].count(b"\n") + 1
        raise BadInput("{name}, line {line}: it is not UTF-8 there: save it as UTF-8.", name=name, line=line) from None
    return kind_reading.read_kind(text, name)


def kind_named(name: str, job: Path | None = None) -> KindFile:
    """Return the kind that a file or a name means.

    Raises:
        BadInput: there is no such file, or no kind of that name.
        MachineRefused: the file cannot be read.
    """
    if name.endswith(".toml") or "/" in name:
        path = Path(name)
        return KindFile(load_kind(path), path, "named")
    found, _ = known_kinds(job)
    wanted = name.casefold()
    exact = [each for each in found if wanted in (each.kind.name.casefold(), _stem(each))]
    if not exact:
        raise BadInput(
            "There is no kind '{name}': 'askport kinds list' shows those that are known.", name=display_text(name, 60)
        )
    return exact[0]


def _stem(each: KindFile) -> str:
    return (each.path.stem if each.path else each.kind.name.replace(" ", "-")).casefold()


def _paths(job: Path | None) -> Iterator[tuple[Path, str]]:
    folders = [(job.absolute().parent, IN_FOLDER)] if job else []
    folders.append((user_config_path("askport") / "kinds", phrase("your own")))
    for folder, where in folders:
        if folder.is_dir():
            for path in sorted(folder.glob("*.kind.toml" if where == IN_FOLDER else "*.toml")):
                if job is None or not _is_of_another_job(path, job):
                    yield path, where


def _is_of_another_job(path: Path, job: Path) -> bool:
    """Whether a file is a lesson of another job in the folder, whose name it begins with."""
    own = len(job.stem) if path.name.startswith(f"{job.stem}.") else 0
    others = (each.stem for each in path.parent.glob("*.askport") if path.name.startswith(f"{each.stem}."))
    return any(len(each) > own for each in others)
