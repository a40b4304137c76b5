"""Capture files on disk."""

import os
import stat
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from datetime import UTC, datetime
from pathlib import Path
from types import TracebackType

from askport.core.errors import BadInput, MachineRefused
from askport.core.formats.capture import Captured, pcapng_frame, pcapng_start, read_capture
from askport.core.text import display_text
from askport.core.wire import Frame

_MAX_SIZE = 2 << 30
"""Bytes read of one file; it is held in memory."""

_HEAD = 64
"""Bytes by which the kinds of capture are told apart."""
_LAST_MOMENT = datetime(9999, 12, 31, tzinfo=UTC).timestamp()
"""A later one is a damaged or made-up time stamp, and no calendar has it."""


class CaptureFile:
    """A pcap or pcapng file; its frames' times are seconds since 1970."""

    def __init__(self, path: Path) -> None:
        """Read the file.

        Raises:
            MachineRefused: it cannot be read.
            BadInput: it is not a capture, or too large.
        """
        self._path = path
        try:
            with path.open("rb") as file:
                state = os.fstat(file.fileno())
                if not stat.S_ISREG(state.st_mode):
                    raise BadInput("'{name}' is not a regular file: save the capture into one first.", name=self._name)
                if state.st_size > _MAX_SIZE:
                    raise BadInput(
                        "'{name}' is over {max_size} GiB: cut it first.", name=self._name, max_size=_MAX_SIZE >> 30
                    )
                head = file.read(_HEAD)
                self._read(head)  # says what it is not before all of it is read
                data = head + file.read()
        except FileNotFoundError:
            raise BadInput("There is no file '{name}'.", name=self._name) from None
        except OSError as error:
            raise MachineRefused("'{name}' cannot be read: {why}.", name=self._name, why=error.strerror) from None
        self._frames = self._read(data)
        self.count = 0
        self._first_at = self._last_at = 0.0

    def _read(self, data: bytes) -> Iterator[Captured]:
        with self._naming():
            return read_capture(data)

    @contextmanager
    def _naming(self) -> Iterator[None]:
        """Name the file in what is wrong with its bytes."""
        try:
            yield
        except BadInput as error:
            raise BadInput("'{name}' cannot be read: {message}.", name=self._name, message=error.message) from None

    @property
    def _name(self) -> str:
        return display_text(str(self._path), 120)

    @property
    def span_s(self) -> float:
        """Seconds from the first to the last frame read."""
        return self._last_at - self._first_at

    def frames(self) -> Iterator[Frame]:
        """Yield the frames, once.

        Raises:
            BadInput: its header is broken, or it holds no Ethernet.
        """
        with self._naming():
            for captured in self._frames:
                self._first_at = self._first_at if self.count else captured.at
                self._last_at = max(self._last_at, captured.at)
                self.count += 1
                yield Frame(at=captured.at, data=captured.data)

    def wall(self, at: float) -> datetime:
        """Return a moment of the file as aware UTC."""
        return datetime.fromtimestamp(min(max(at, 0.0), _LAST_MOMENT), UTC)


class CaptureWriter:
    """Writes what passes a wire into a pcapng file."""

    def __init__(self, path: Path, wall: Callable[[float], datetime]) -> None:
        """Begin the file.

        Raises:
            MachineRefused: it cannot be written.
        """
        self._path, self._wall = path, wall
        try:
            self._file = path.open("wb")
        except OSError as error:
            raise MachineRefused(
                "'{path}' cannot be written: {why}.", path=display_text(str(path), 120), why=error.strerror
            ) from None
        self._write(pcapng_start())

    def put(self, at: float, data: bytes, outbound: bool) -> None:
        """Add a frame.

        Raises:
            MachineRefused: the disk is full, say; what was written before stays readable.
        """
        self._write(pcapng_frame(self._wall(at).timestamp(), data, outbound=outbound))

    def _write(self, block: bytes) -> None:
        try:
            self._file.write(block)
        except OSError as error:
            name = display_text(str(self._path), 120)
            raise MachineRefused(
                "'{name}' could not be written further: {why}.", name=name, why=error.strerror
            ) from None

    def __enter__(self) -> "CaptureWriter":
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._file.close()
