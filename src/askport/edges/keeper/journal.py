"""What the keeper will undo, written down before it is done, where only root can reach it.

One file for each adapter of each network namespace. It lives in /run, because what it describes, the state of the
kernel, does not survive a restart either.
"""

import json
import os
import socket
from pathlib import Path
from typing import Any

DIRECTORY = Path("/run/askport")
_VERSION = 3


def start_of_names() -> str:
    """Return what the names of this network namespace's files start with."""
    return f"{Path('/proc/self/ns/net').stat().st_ino}-"


class Journal:
    """The undo records of one adapter, in the order in which things were done."""

    def __init__(self, adapter: str, index: int, mac: str) -> None:
        """Take the adapter for this process until it ends, and read what an interrupted run of this boot has left.

        Raises:
            OSError: another keeper has it (EADDRINUSE), or the directory is not root's alone.
        """
        # An abstract address (unix(7)) is known in this network namespace only, and gone with its process.
        self._lock = socket.socket(socket.AF_UNIX)
        self._lock.bind(f"\0askport-keeper-{adapter}")
        DIRECTORY.mkdir(mode=0o700, exist_ok=True)
        state = DIRECTORY.lstat()
        if state.st_uid != 0 or state.st_mode & 0o077 or not DIRECTORY.is_dir() or DIRECTORY.is_symlink():
            raise PermissionError(f"{DIRECTORY} is not root's alone")
        self._path = DIRECTORY / f"{start_of_names()}{adapter}.json"
        boot = Path("/proc/sys/kernel/random/boot_id").read_text().strip()
        self._whose = {"version": _VERSION, "boot": boot, "index": index, "mac": mac}
        self.undo: list[dict[str, Any]] = []
        try:
            left = json.loads(self._path.read_text())
            if {**left, "undo": 0} == {**self._whose, "undo": 0}:
                self.undo = left["undo"]
        except (OSError, ValueError, TypeError):
            pass
        self.write()

    def write(self) -> None:
        """Write the records durably, or remove the file where nothing is to be undone."""
        if not self.undo:
            self._path.unlink(missing_ok=True)
            return
        draft = self._path.with_suffix(".draft")
        with draft.open("w") as file:
            json.dump({**self._whose, "undo": self.undo}, file)
            file.flush()
            os.fsync(file.fileno())
        draft.replace(self._path)
