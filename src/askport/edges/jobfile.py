"""The job file: an append-only journal in one SQLite file that survives the end of the program at any moment."""

from collections.abc import Sequence
from datetime import datetime
from pathlib import Path

from sqlalchemy import (
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
)
from sqlalchemy.exc import DatabaseError, OperationalError
from sqlalchemy.pool import ConnectionPoolEntry

from askport.core.errors import BadInput, MachineRefused
from askport.core.formats.capture import pcapng_frame, pcapng_start
from askport.core.register.entries import Entry, Line, chain_hash, first_broken

APPLICATION_ID = 0x41534B50
"""Marks a SQLite file as a job of Ask Port (PRAGMA application_id)."""
VERSION = 2
"""Of the tables below (PRAGMA user_version). A newer file is refused; an older one will be brought up to date here."""

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


class JobFile:
    """A job's journal. What ``append`` has returned from is on the disk."""

    def __init__(self, path: Path, *, create: bool) -> None:
        """Open a job file, or make a new one.

        Raises:
            BadInput: the file is not a job, comes from a newer version, or was changed outside Ask Port.
            MachineRefused: it cannot be read or written.
        """
        self.path = path
        if not path.exists() and not create:
            raise BadInput(f"There is no job file '{path}': name one that Ask Port has made.")
        self._engine = create_engine(f"sqlite:///{path}", poolclass=NullPool)
        event.listen(self._engine, "connect", _make_durable)
        try:
            self._prepare(new=not path.exists() or path.stat().st_size == 0)
            self._lines = self._read()
        except OSError as error:
            raise MachineRefused(f"The job file '{path}' cannot be opened: {error.strerror}.") from None
        except OperationalError as error:
            raise MachineRefused(f"The job file '{path}' cannot be opened: {_plainly(error)}.") from None
        except DatabaseError:
            raise self._not_a_job() from None
        broken = first_broken(self._lines)
        if broken is not None:
            text_ = (
                f"'{path}' was changed outside Ask Port: line {broken} of its journal does not fit. Use a copy of it."
            )
            raise BadInput(text_)

    def _not_a_job(self) -> BadInput:
        return BadInput(f"'{self.path}' is not a job file of Ask Port: name another file, or a new one.")

    def _prepare(self, *, new: bool) -> None:
        with self._engine.begin() as connection:
            version = connection.execute(text("PRAGMA user_version")).scalar() or 0
            if new:
                connection.execute(text(f"PRAGMA application_id = {APPLICATION_ID}"))
                connection.execute(text(f"PRAGMA user_version = {VERSION}"))
                _METADATA.create_all(connection)
            mark = connection.execute(text("PRAGMA application_id")).scalar()
            if mark != APPLICATION_ID or not inspect(connection).has_table(_JOURNAL.name):
                raise self._not_a_job()
            if version > VERSION:
                raise BadInput(
                    f"'{self.path}' is from a newer Ask Port (format {version}, this one reads {VERSION}): "
                    "update Ask Port to open it."
                )
            if not new and version == 1:
                _FRAMES.create(connection, checkfirst=True)
                connection.execute(text(f"PRAGMA user_version = {VERSION}"))

    def _read(self) -> list[Line]:
        with self._engine.connect() as connection:
            rows = connection.execute(select(_JOURNAL).order_by(_JOURNAL.c.number))
            return [Line.model_validate(dict(row._mapping)) for row in rows]

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
        previous = self._lines[-1].hash if self._lines else ""
        number, body = len(self._lines) + 1, entry.model_dump_json()
        line = Line(number=number, at=at, body=body, hash=chain_hash(previous, number, at.isoformat(), body))
        values = {"number": number, "at": at.isoformat(), "body": body, "hash": line.hash}
        self._execute(insert(_JOURNAL).values(**values))
        self._lines.append(line)

    def keep(self, unit: int, frames: Sequence[tuple[datetime, bytes]]) -> None:
        """Keep the frames behind a unit, in place of those kept before.

        Raises:
            MachineRefused: the disk is full or will not be written; what was there before is unharmed.
        """
        capture = pcapng_start() + b"".join(pcapng_frame(at.timestamp(), data) for at, data in frames)
        self._execute(delete(_FRAMES).where(_FRAMES.c.unit == unit), insert(_FRAMES).values(unit=unit, pcapng=capture))

    def frames(self, unit: int) -> bytes | None:
        """Return the frames behind a unit as a pcapng file, or None where none were kept."""
        with self._engine.connect() as connection:
            row = connection.execute(select(_FRAMES.c.pcapng).where(_FRAMES.c.unit == unit)).first()
        return bytes(row[0]) if row else None

    def _execute(self, *statements: Executable) -> None:
        try:
            with self._engine.begin() as connection:
                for statement in statements:
                    connection.execute(statement)
        except DatabaseError as error:
            raise MachineRefused(
                f"The job file '{self.path}' could not be written: {_plainly(error)}. "
                "Nothing recorded before is lost; make room or choose another file with --job."
            ) from None


def _make_durable(connection: object, _: ConnectionPoolEntry) -> None:
    """Have every commit on the disk before it returns, and wait a little for another program that reads."""
    cursor = connection.cursor()  # type: ignore[attr-defined]
    cursor.execute("PRAGMA synchronous = FULL")
    cursor.execute("PRAGMA busy_timeout = 2000")
    cursor.close()


def _plainly(error: DatabaseError) -> str:
    return str(error.orig)
