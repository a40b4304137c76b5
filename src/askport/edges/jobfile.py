"""The job file: an append-only journal in one SQLite file that survives the end of the program at any moment."""

import fcntl
from collections.abc import Mapping, Sequence
from datetime import datetime
from hashlib import sha256
from pathlib import Path
from typing import IO

from sqlalchemy import (
    URL,
    Column,
    Executable,
    Integer,
    LargeBinary,
    MetaData,
    NullPool,
    String,
    Table,
    create_engine,
    delete,
    event,
    insert,
    inspect,
    select,
    text,
    update,
)
from sqlalchemy.exc import DatabaseError, OperationalError, SQLAlchemyError
from sqlalchemy.pool import ConnectionPoolEntry

from askport.core.errors import BadInput, MachineRefused
from askport.core.formats.capture import pcapng_frame, pcapng_start
from askport.core.register.entries import Entry, Kept, Line, chain_hash, first_broken
from askport.core.text import display_text

APPLICATION_ID = 0x41534B50
"""Marks a SQLite file as a job of Ask Port (PRAGMA application_id)."""
VERSION = 3
"""Of the tables below (PRAGMA user_version). A newer file is refused; an older one will be brought up to date here."""

_MOST_FAILURES = 200
"""Lines of a damaged file that are tried in vain, until the rest of it is given up."""

_METADATA = MetaData()
_JOURNAL = Table(
    "journal",
    _METADATA,
    Column("number", Integer, primary_key=True),
    Column("at", String, nullable=False),
    Column("body", String, nullable=False),
    Column("hash", String, nullable=False),
)
_FRAMES = Table(
    "frames",
    _METADATA,
    Column("unit", Integer, primary_key=True),
    Column("pcapng", LargeBinary, nullable=False),
)
"""The frames that a device's as-found values rest on, as a capture file."""
_SEAL = Table(
    "seal",
    _METADATA,
    Column("number", Integer, primary_key=True),
    Column("count", Integer, nullable=False),
    Column("hash", String, nullable=False),
)
"""How many lines the journal has, and the hash of its last: lines taken off its end are missed."""


class JobFile:
    """A job's journal. What ``append`` has returned from is on the disk."""

    def __init__(self, path: Path, *, create: bool) -> None:
        """Open a job file; with ``create`` for writing, and made where there is none.

        Raises:
            BadInput: there is no such file, or it is not a job of Ask Port, or it was changed by something else.
            MachineRefused: it cannot be opened or written, or another run of Ask Port has it.
        """
        self.path = path
        self._name = display_text(str(path), 200)
        self._lock: IO[bytes] | None = None
        self._is_job = False
        self._is_sealed = True
        if not create and not path.exists():
            raise BadInput(f"There is no job file '{self._name}'.")
        url = URL.create("sqlite", database=str(path))
        self._engine = create_engine(url, poolclass=NullPool)
        event.listen(self._engine, "connect", _make_durable)
        try:
            if create:
                self._lock = self._take(path)
            self._prepare(new=not path.exists() or path.stat().st_size == 0, writes=create)
            self._lines = self._read()
        except OSError as error:
            raise MachineRefused(f"The job file '{self._name}' cannot be opened: {error.strerror}.") from None
        except OperationalError as error:
            raise MachineRefused(f"The job file '{self._name}' cannot be opened: {_plainly(error)}.") from None
        except DatabaseError as error:
            raise (self._damaged(_plainly(error)) if self._is_job else self._not_a_job()) from None
        try:
            fault = self._fault()
        except (SQLAlchemyError, TypeError, ValueError):
            raise self._damaged("a part of it cannot be read") from None
        if fault:
            raise BadInput(f"'{self._name}' was changed outside Ask Port: {fault} Use a copy of it.")

    def _damaged(self, how: str) -> BadInput:
        return BadInput(f"'{self._name}' is damaged: {how}. Use a copy of it.")

    def _take(self, path: Path) -> IO[bytes]:
        """Keep the file for this run; a lock of this kind is none of SQLite's (flock(2))."""
        file = path.open("ab")
        try:
            fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError:
            text = f"'{self._name}' is in use by another run of Ask Port: end that one, or name another job file."
            raise MachineRefused(text, code="job-in-use") from None
        return file

    def close(self) -> None:
        """Let others have the file."""
        if self._lock:
            self._lock.close()

    def _not_a_job(self) -> BadInput:
        return BadInput(f"'{self._name}' is not a job file of Ask Port: name another file, or a new one.")

    def _prepare(self, *, new: bool, writes: bool) -> None:
        with self._engine.begin() as connection:
            version = connection.execute(text("PRAGMA user_version")).scalar() or 0
            if new:
                connection.execute(text(f"PRAGMA application_id = {APPLICATION_ID}"))
                connection.execute(text(f"PRAGMA user_version = {VERSION}"))
                _METADATA.create_all(connection)
                connection.execute(insert(_SEAL).values(number=1, count=0, hash=""))
            mark = connection.execute(text("PRAGMA application_id")).scalar()
            if mark != APPLICATION_ID:
                raise self._not_a_job()
            self._is_job = True
            if version > VERSION:
                raise BadInput(
                    f"'{self._name}' is from a newer Ask Port (format {version}, this one reads {VERSION}): "
                    "update Ask Port to open it."
                )
            has = inspect(connection).has_table
            self._is_sealed = new or writes or version == VERSION
            if not new and writes and version < VERSION and has(_JOURNAL.name):
                _METADATA.create_all(connection)
                last = connection.execute(select(_JOURNAL).order_by(_JOURNAL.c.number.desc())).first()
                count, hash_ = (last.number, last.hash) if last else (0, "")
                connection.execute(insert(_SEAL).values(number=1, count=count, hash=hash_))
                connection.execute(text(f"PRAGMA user_version = {VERSION}"))
            for table in _METADATA.sorted_tables:
                if not has(table.name) and (self._is_sealed or table is _JOURNAL):
                    raise BadInput(f"'{self._name}' was changed outside Ask Port: its {table.name} is missing.")
            if writes:
                # Tried now, before anything is done that could then not be written down.
                connection.execute(update(_SEAL).values(count=_SEAL.c["count"]))

    def _read(self) -> list[Line]:
        with self._engine.connect() as connection:
            rows = connection.execute(select(_JOURNAL).order_by(_JOURNAL.c.number))
            lines = []
            for place, row in enumerate(rows, 1):
                try:
                    line = Line.model_validate(dict(row._mapping))
                    line.entry  # noqa: B018 - what cannot be read is said now
                except ValueError:
                    raise self._damaged(f"line {place} of its journal cannot be read") from None
                lines.append(line)
            return lines

    def _fault(self) -> str | None:
        """Say what does not fit the chain, or return None where all of it does."""
        broken = first_broken(self._lines)
        if broken is not None:
            return f"line {broken} of its journal does not fit."
        kept = {entry.unit: entry.sha256 for entry in (line.entry for line in self._lines) if isinstance(entry, Kept)}
        if not self._is_sealed:
            return None  # of an earlier format, and only read
        with self._engine.connect() as connection:
            seal = connection.execute(select(_SEAL.c["count"], _SEAL.c["hash"])).first()
            frames = {row.unit: row.pcapng for row in connection.execute(select(_FRAMES))}
        last = self._lines[-1].hash if self._lines else ""
        if seal is None or tuple(seal) != (len(self._lines), last):
            return "lines at the end of its journal are missing, or were added."
        for unit, digest in kept.items():
            if unit not in frames or sha256(bytes(frames[unit])).hexdigest() != digest:
                return f"the frames kept of unit {unit} do not fit."
        return None

    @property
    def lines(self) -> list[Line]:
        """The journal so far."""
        return list(self._lines)

    @property
    def units(self) -> int:
        """How many devices have been begun."""
        return max((line.entry.unit for line in self._lines), default=0)

    def append(self, entry: Entry, at: datetime) -> None:
        """Add one entry, durably.

        Raises:
            MachineRefused: the disk is full or will not be written; what was there before is unharmed.
        """
        self._append([(entry, at)])

    def append_all(self, entries: Sequence[Entry], at: datetime) -> None:
        """Add several entries at once: all of them, or none.

        Raises:
            MachineRefused: the disk is full or will not be written; what was there before is unharmed.
        """
        if entries:
            self._append([(entry, at) for entry in entries])

    def adopt(self, entries: Sequence[tuple[Entry, datetime]], frames: Mapping[int, bytes]) -> None:
        """Take over entries of other journals with their times, and the capture files of their units.

        Raises:
            MachineRefused: the disk is full or will not be written.
        """
        kept = [insert(_FRAMES).values(unit=unit, pcapng=capture) for unit, capture in frames.items()]
        self._append(entries, *kept)

    def _append(self, entries: Sequence[tuple[Entry, datetime]], *with_it: Executable) -> None:
        previous = self._lines[-1].hash if self._lines else ""
        lines: list[Line] = []
        for number, (entry, at) in enumerate(entries, len(self._lines) + 1):
            body = entry.model_dump_json()
            previous = chain_hash(previous, number, at.isoformat(), body)
            lines.append(Line(number=number, at=at, body=body, hash=previous))
        values: list[dict[str, object]] = [
            {"number": each.number, "at": each.at.isoformat(), "body": each.body, "hash": each.hash} for each in lines
        ]
        seal = update(_SEAL).values(count=lines[-1].number, hash=previous)
        self._execute(*with_it, seal, rows=values)
        self._lines += lines

    def keep(self, unit: int, frames: Sequence[tuple[datetime, bytes]]) -> None:
        """Keep the frames behind a unit, in place of those kept before, with their digest in the journal.

        Raises:
            MachineRefused: the disk is full or will not be written; what was there before is unharmed.
        """
        capture = pcapng_start() + b"".join(pcapng_frame(at.timestamp(), data) for at, data in frames)
        entry = Kept(unit=unit, frames=len(frames), sha256=sha256(capture).hexdigest())
        at = max(at for at, _ in frames)
        replaced = delete(_FRAMES).where(_FRAMES.c.unit == unit), insert(_FRAMES).values(unit=unit, pcapng=capture)
        self._append([(entry, at)], *replaced)

    def frames(self, unit: int) -> bytes | None:
        """Return the frames behind a unit as a pcapng file, or None where none were kept.

        Raises:
            BadInput: the file is damaged there.
        """
        try:
            with self._engine.connect() as connection:
                row = connection.execute(select(_FRAMES.c.pcapng).where(_FRAMES.c.unit == unit)).first()
        except DatabaseError as error:
            raise self._damaged(_plainly(error)) from None
        return bytes(row[0]) if row else None

    def _execute(self, *statements: Executable, rows: list[dict[str, object]]) -> None:
        """Write rows of the journal together with what belongs to them."""
        try:
            with self._engine.begin() as connection:
                for statement in statements:
                    connection.execute(statement)
                connection.execute(insert(_JOURNAL), rows)
        except DatabaseError as error:
            raise MachineRefused(
                f"The job file '{self._name}' could not be written: {_plainly(error)}. "
                "Nothing recorded before is lost; make room or choose another file with --job."
            ) from None


def salvage(path: Path) -> tuple[list[Line], list[str]]:
    """Read what can be read of a damaged job, with a sentence for each part that cannot.

    Raises:
        BadInput: there is no such file, or nothing of it can be read.
    """
    name = display_text(str(path), 200)
    if not path.is_file():
        raise BadInput(f"There is no job file '{name}'.")
    engine = create_engine(URL.create("sqlite", database=str(path)), poolclass=NullPool)
    lines: list[Line] = []
    lost: list[str] = []
    last = failed = 0
    with engine.connect() as connection:
        while failed < _MOST_FAILURES:
            behind = select(_JOURNAL).where(_JOURNAL.c.number > last).order_by(_JOURNAL.c.number).limit(1)
            try:
                row = connection.execute(behind).first()
                if row is None:
                    break
                line = Line.model_validate(dict(row._mapping))
                line.entry  # noqa: B018 - what cannot be read is said now
            except (DatabaseError, ValueError, TypeError):
                last, failed = last + 1, failed + 1
                lost.append(f"Line {last} cannot be read.")
                continue
            if line.number > last + 1:
                lost.append(f"Lines {last + 1} to {line.number - 1} are missing.")
            last = line.number
            lines.append(line)
    if not lines:
        raise BadInput(f"Nothing of '{name}' can be read: use a copy of it.")
    return lines, lost


def _make_durable(connection: object, _: ConnectionPoolEntry) -> None:
    """Have every commit on the disk before it returns, and wait a little for another program that reads."""
    cursor = connection.cursor()  # type: ignore[attr-defined]
    cursor.execute("PRAGMA synchronous = FULL")
    cursor.execute("PRAGMA busy_timeout = 2000")
    cursor.close()


def _plainly(error: DatabaseError) -> str:
    return str(error.orig)
