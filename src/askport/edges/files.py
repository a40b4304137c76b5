"""Files that are written whole, or not at all."""

from collections.abc import Callable, Mapping
from pathlib import Path

from askport.core.errors import BadInput, MachineRefused
from askport.core.text import display_text


def write_file(path: Path, data: bytes) -> None:
    """Write a file; what stood there before stays until the new one is complete.

    Raises:
        MachineRefused: it cannot be written.
    """
    draft = path.with_name(path.name + ".part")
    try:
        draft.write_bytes(data)
        draft.replace(path)
    except OSError as error:
        raise MachineRefused(f"'{display_text(str(path), 120)}' could not be written: {error.strerror}.") from None
    finally:
        draft.unlink(missing_ok=True)


def write_all(directory: Path, documents: Mapping[str, Callable[[], bytes]]) -> list[tuple[Path, int]]:
    """Write documents into a directory, and return where each is and how large.

    Raises:
        MachineRefused: the directory cannot be made or written.
    """
    try:
        directory.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise MachineRefused(f"'{display_text(str(directory), 120)}' cannot be made: {error.strerror}.") from None
    written = []
    for name, make in documents.items():
        data = make()
        write_file(directory / name, data)
        written.append((directory / name, len(data)))
    return written


def read_text(path: Path, what: str) -> str:
    """Read a text that somebody named; ``what`` says what it is for, as the end of a sentence.

    Raises:
        BadInput: there is no such file.
        MachineRefused: it cannot be read.
    """
    shown = display_text(str(path), 120)
    try:
        return path.read_text(encoding="utf-8-sig")
    except FileNotFoundError:
        raise BadInput(f"There is no file '{shown}' {what}.") from None
    except (OSError, UnicodeDecodeError) as error:
        reason = getattr(error, "strerror", "") or "it is no text"
        raise MachineRefused(f"'{shown}' cannot be read: {reason}.") from None
