"""Files that are written whole, or not at all."""

import errno
import os
from collections.abc import Callable, Mapping
from pathlib import Path

from askport.core.errors import BadInput, MachineRefused
from askport.core.phrases import phrase
from askport.core.text import display_text


def write_file(path: Path, data: bytes, mode: int = 0o666) -> None:
    """Write a file; what stood there before stays until the new one is complete, and on the disk.

    Raises:
        MachineRefused: it cannot be written.
    """
    draft = path.with_name(path.name + ".part")
    try:
        with os.fdopen(os.open(draft, os.O_CREAT | os.O_TRUNC | os.O_WRONLY, mode), "wb") as file:
            file.write(data)
            file.flush()
            os.fsync(file.fileno())
        draft.replace(path)
        sync_directory(path.parent)
    except OSError as error:
        raise MachineRefused(
            "'{path}' could not be written: {why}.", path=display_text(str(path), 120), why=error.strerror
        ) from None
    finally:
        draft.unlink(missing_ok=True)


def sync_directory(directory: Path) -> None:
    """Have a file that was moved into a directory stay there, whatever comes.

    Raises:
        OSError: the disk is not there any more.
    """
    opened = os.open(directory, os.O_RDONLY | os.O_DIRECTORY)
    try:
        os.fsync(opened)
    except OSError as error:
        if error.errno != errno.EINVAL:  # some network file systems cannot
            raise
    finally:
        os.close(opened)


def write_all(directory: Path, documents: Mapping[str, Callable[[], bytes]]) -> list[tuple[Path, int]]:
    """Write documents into a directory, and return where each is and how large.

    Raises:
        MachineRefused: the directory cannot be made or written.
    """
    try:
        directory.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise MachineRefused(
            "'{directory}' cannot be made: {why}.",
            directory=display_text(str(directory), 120),
            why=error.strerror,
        ) from None
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
        raise BadInput("There is no file '{shown}' {what}.", shown=shown, what=what) from None
    except (OSError, UnicodeDecodeError) as error:
        reason = getattr(error, "strerror", "") or phrase("it is no text")
        raise MachineRefused("'{shown}' cannot be read: {reason}.", shown=shown, reason=reason) from None
