"""Files that one process alone has, until it ends however that comes about (flock(2))."""

import contextlib
import fcntl
import os
from pathlib import Path


def locked(path: Path) -> int | None:
    """Return a descriptor of a file, made where there is none, that this process alone has; None where another has."""
    while True:
        file = os.open(path, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o600)
        try:
            fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
            if path.stat().st_ino == os.fstat(file).st_ino:
                return file
        except BlockingIOError:
            os.close(file)
            return None
        except FileNotFoundError:
            pass
        os.close(file)  # its last owner took it away just then


def shared(path: Path, owner: str) -> str:
    """Have a file for one owner, together with its other processes, until this one ends; return whose it is now.

    Whoever finds nobody there writes down the owner. From having it alone to sharing it is not one step: another may
    come in between, so that what stands there is read last.
    """
    file = os.open(path, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o600)
    with contextlib.suppress(BlockingIOError):
        fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
        os.ftruncate(file, 0)
        os.pwrite(file, owner.encode(), 0)
    fcntl.flock(file, fcntl.LOCK_SH)
    found = os.pread(file, 64, 0).decode()
    if found != owner:
        os.close(file)
    return found


def told_by_owner(path: Path) -> str:
    """Return what stands in a file that another process has; nothing where nobody has it any more."""
    with path.open() as file:
        try:
            fcntl.flock(file, fcntl.LOCK_SH | fcntl.LOCK_NB)
        except BlockingIOError:
            return file.read()
    return ""


class AmongRuns:
    """One of those that use a thing at the same time."""

    def __init__(self, path: Path) -> None:
        self._file = os.open(path, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o600)
        fcntl.flock(self._file, fcntl.LOCK_SH)

    def is_alone(self) -> bool:
        """Whether nobody else uses it at this moment."""
        try:
            return self.leaves_last()
        finally:
            fcntl.flock(self._file, fcntl.LOCK_SH)

    def leaves_last(self) -> bool:
        """Be one of them no more; return whether nobody is left, which holds for one of those who leave together."""
        try:
            fcntl.flock(self._file, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError:  # what was shared is let go of all the same
            return False
        return True
