"""What the keeper will undo, written down before it is done, where only root can reach it.

One file for each adapter of each network namespace. It lives in /run, because what it describes, the state of the
kernel, does not survive a restart either.
"""

import fcntl
import json
import os
from dataclasses import asdict, dataclass, field
from pathlib import Path
from typing import Any

DIRECTORY = Path("/run/askport")
VERSION = 2


@dataclass(slots=True)
class Journal:
    """The adapter as it was identified, and what is to be undone on it."""

    adapter: str
    index: int
    mac: str
    namespace: int
    boot: str
    undo: list[dict[str, Any]] = field(default_factory=list)
    """What to undo, in the order in which it was done."""
    version: int = VERSION


def this_namespace() -> int:
    """Return the inode number that identifies this network namespace."""
    return Path("/proc/self/ns/net").stat().st_ino


def this_boot() -> str:
    """Return the kernel's identifier of this boot."""
    return Path("/proc/sys/kernel/random/boot_id").read_text().strip()


def path_of(adapter: str) -> Path:
    """Return where an adapter's journal stands."""
    return DIRECTORY / f"{this_namespace()}-{adapter}.json"


def lock(adapter: str) -> int:
    """Take the adapter for this process until it ends, unless another keeper has it (BlockingIOError)."""
    DIRECTORY.mkdir(mode=0o700, exist_ok=True)
    state = DIRECTORY.lstat()
    if state.st_uid != 0 or state.st_mode & 0o077 or not DIRECTORY.is_dir() or DIRECTORY.is_symlink():
        raise PermissionError(f"{DIRECTORY} is not root's alone")
    descriptor = os.open(path_of(adapter).with_suffix(".lock"), os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o600)
    try:
        fcntl.flock(descriptor, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except BlockingIOError:
        os.close(descriptor)
        raise
    return descriptor


def write(journal: Journal) -> None:
    """Write the journal durably, or remove it where nothing is to be undone."""
    path = path_of(journal.adapter)
    if not journal.undo:
        path.unlink(missing_ok=True)
        return
    draft = path.with_suffix(".draft")
    with draft.open("w") as file:
        json.dump(asdict(journal), file)
        file.flush()
        os.fsync(file.fileno())
    draft.replace(path)


def read(path: Path) -> Journal | None:
    """Read a journal, or return None where there is none that belongs to this boot."""
    try:
        journal = Journal(**json.loads(path.read_text()))
    except FileNotFoundError:
        return None
    except (ValueError, TypeError):
        path.unlink(missing_ok=True)
        return None
    return journal if journal.version == VERSION and journal.boot == this_boot() else None
