"""What the keeper will undo, written down before it is done, where only root can reach it.

One file for each adapter of each network namespace, in /run, because the kernel's state that it describes does not
survive a restart either. Room is reserved before anything is changed, and what was undone is marked in place, so that
undoing needs no space; every record stands for itself, so that a file which was cut keeps the others.
"""

import errno
import json
import os
import zlib
from pathlib import Path
from typing import Any

from askport.edges.kernel import locks, namespaces

DIRECTORY = Path("/run/askport")
_VERSION = 4
_ROOM = 1 << 16


def _boot() -> str:
    return Path("/proc/sys/kernel/random/boot_id").read_text().strip()


def require_directory() -> None:
    """Make the directory, where it is not there.

    Raises:
        OSError: it is not root's alone.
    """
    DIRECTORY.mkdir(mode=0o700, exist_ok=True)
    state = DIRECTORY.lstat()
    if state.st_uid != 0 or state.st_mode & 0o077 or not DIRECTORY.is_dir() or DIRECTORY.is_symlink():
        raise PermissionError(1, f"{DIRECTORY} is not root's alone")


def files() -> list[Path]:
    """Return the files of this network namespace."""
    return sorted(DIRECTORY.glob(f"{namespaces.number()}-*.journal"))


def _line(content: dict[str, Any]) -> bytes:
    raw = json.dumps(content).encode()
    return b"U %08x " % zlib.crc32(raw) + raw + b"\n"


def _content(line: bytes) -> dict[str, Any] | None:
    checksum, _, raw = line[2:].partition(b" ")
    try:
        return json.loads(raw) if int(checksum, 16) == zlib.crc32(raw) else None
    except ValueError:
        return None


def whose_of(path: Path) -> dict[str, Any] | None:
    """Return which adapter a file is about, or None where that cannot be read, or is of another start."""
    try:
        with path.open("rb") as file:
            whose = _content(file.readline().rstrip(b"\n"))
    except OSError:
        return None
    return whose if whose and (whose.get("boot"), whose.get("version")) == (_boot(), _VERSION) else None


def is_same(left: dict[str, Any], now: dict[str, Any]) -> bool:
    """Whether an adapter is the one that was left: its index is, and its name or one of its MAC addresses."""
    macs = {now["mac"], now["permanent"]} & {left["mac"], left["permanent"]}
    return bool(left["index"] == now["index"] and (macs or left["name"] == now["name"]))


def left_for(now: dict[str, Any]) -> Path:
    """Return the file of an adapter: the one left under whatever name it had then, or its own."""
    known = ((path, whose_of(path)) for path in files())
    own = DIRECTORY / f"{namespaces.number()}-{now['name']}.journal"
    return next((path for path, whose in known if whose and is_same(whose, now)), own)


class Journal:
    """The undo records of one adapter, in the order in which things were done."""

    def __init__(self, path: Path, whose: dict[str, Any]) -> None:
        """Take the file for this process until it ends, and read what an interrupted run of this boot has left.

        Raises:
            OSError: another keeper has it (EWOULDBLOCK), or the directory is not root's alone.
        """
        require_directory()
        opened = locks.locked(path)
        if opened is None:
            raise BlockingIOError(errno.EWOULDBLOCK, "another keeper has it")
        self._path, self._file = path, opened
        self._whose = {"version": _VERSION, "boot": _boot(), **whose}
        self.undo: list[dict[str, Any]] = []
        self._places: list[int] = []
        self.is_cut = False
        """Whether something of what an interrupted run has left cannot be read."""
        self._end, self._room = 0, os.fstat(self._file).st_size
        self._read(os.pread(self._file, self._room, 0))

    def _read(self, raw: bytes) -> None:
        for line in raw.splitlines(keepends=True):
            content = _content(line[:-1]) if line.endswith(b"\n") else None
            if content is None:
                self.is_cut = bool(line.strip(b"\0"))
                break
            if not self._end and (content.get("boot"), content.get("version")) != (_boot(), _VERSION):
                return
            if self._end and line.startswith(b"U"):
                self.undo.append(content)
                self._places.append(self._end)
            self._end += len(line)
        self.is_cut |= 0 < self._room < _ROOM

    def add(self, undo: dict[str, Any]) -> None:
        """Write down how to undo what is to be done next.

        Raises:
            OSError: there is no room for it.
        """
        head = b"" if self._end else _line(self._whose)
        lines = head + _line(undo)
        if self._end + len(lines) >= self._room:
            self._room = max(_ROOM, 2 * (self._end + len(lines)))
            os.posix_fallocate(self._file, 0, self._room)
        os.pwrite(self._file, lines, self._end)
        os.fsync(self._file)
        self._places.append(self._end + len(head))
        self.undo.append(undo)
        self._end += len(lines)

    def done(self, place: int) -> None:
        """Mark one record as undone, in place."""
        os.pwrite(self._file, b"D", self._places.pop(place))
        self.undo.pop(place)

    def close(self) -> None:
        """Let go of the file, which stays where something is left to undo, and under another name where it was cut."""
        if self.is_cut and not self.undo:
            self._path.rename(self._path.with_suffix(".cut"))
        elif not self.undo:
            self._path.unlink(missing_ok=True)
        os.close(self._file)
