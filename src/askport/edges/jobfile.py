"""The job file: an append-only journal in one SQLite file that survives the end of the program at any moment."""

import fcntl
import sqlite3
from collections.abc import Iterable, Iterator, Sequence
from contextlib import nullcontext
from copy import copy
from datetime import datetime
from hashlib import sha256
from pathlib import Path
from secrets import randbits
from tempfile import TemporaryDirectory
from typing import IO

from sqlalchemy import (
    Connection,
    Engine,
    Executable,
    bindparam,
    insert,
    inspect,
    select,
    text,
    update,
)
from sqlalchemy.exc import DatabaseError, OperationalError, SQLAlchemyError

from askport.core.errors import BadInput, MachineRefused
from askport.core.formats.capture import pcapng_frame, pcapng_start
from askport.core.phrases import phrase
from askport.core.plan.folding import plan_of
from askport.core.register import as_planned, visits
from askport.core.register.chain import Chain, Line, next_line
from askport.core.register.entries import Entry, Found, Kept
from askport.core.register.fold import fold
from askport.core.register.in_order import in_order
from askport.core.text import display_text
from askport.edges import job_engine, kept_frames, older_jobs, projection
from askport.edges.crew import growing_together, job_part, verifying
from askport.edges.growing import Stored, grow, is_behind, make_anew
from askport.edges.job_tables import APPLICATION_ID, CAPTURES, JOURNAL, METADATA, SEAL, VERSION, foreign_parts

_CHECKED_AT_OPENING = 20_000
"""Lines at the end of a journal that are checked whenever it is opened; all of it is when something is handed over."""
_SEALED = update(SEAL).values(count=bindparam("count_"), hash=bindparam("hash_"))
_WRITTEN = insert(JOURNAL)
_UNIT_BITS = 52
"""What a number in JSON holds everywhere (RFC 8259 section 6)."""


class JobFile:
    """A job's journal, and the register that it adds up to. What ``append`` has returned from is on the disk."""

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
        self._copy: TemporaryDirectory[str] | None = None
        self._last: Line | None = None
        self._own: Line | None = None
        """The last line of the strand that this file goes on with."""
        self.crew: job_part.Membership | None = None
        """To which crew it belongs, and as whom."""
        if not create and not path.exists():
            raise BadInput("There is no job file '{name}'.", name=self._name)
        self._engine = job_engine.engine_of(path)
        try:
            if create:
                self._lock = self._take(path)
            self._prepare(new=not path.exists() or path.stat().st_size == 0, writes=create)
            self.register = projection.Projection(self._engine, self._damaged)
            fault = self._fault()
            if not fault:
                self._grow(writes=create)
        except OSError as error:
            raise MachineRefused(
                "The job file '{name}' cannot be opened: {why}.", name=self._name, why=error.strerror
            ) from None
        except OperationalError as error:
            if "decode" in _plainly(error):
                raise self._damaged(phrase("a part of it is no text")) from None
            raise MachineRefused(
                "The job file '{name}' cannot be opened: {plainly}.", name=self._name, plainly=_plainly(error)
            ) from None
        except DatabaseError as error:
            raise (self._damaged(_plainly(error)) if self._is_job else self._not_a_job()) from None
        except (SQLAlchemyError, TypeError, ValueError):
            raise self._damaged(phrase("a part of it cannot be read")) from None
        if fault:
            raise self._changed(fault)

    def _changed(self, fault: str) -> BadInput:
        return BadInput(
            "'{name}' was changed outside Ask Port: {fault} Use a copy of it.", name=self._name, fault=fault
        )

    def _damaged(self, how: str) -> BadInput:
        return BadInput("'{name}' is damaged: {how}. Use a copy of it.", name=self._name, how=how)

    def _take(self, path: Path) -> IO[bytes]:
        """Keep the file for this run; a lock of this kind is none of SQLite's (flock(2))."""
        file = path.open("ab")
        try:
            fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError:
            text = phrase(
                "'{name}' is in use by another run of Ask Port: end that one, or name another job file.",
                name=self._name,
            )
            raise MachineRefused(text, code="job-in-use") from None
        return file

    def close(self) -> None:
        """Let others have the file."""
        if self._lock:
            self._lock.close()

    def _not_a_job(self) -> BadInput:
        return BadInput("'{name}' is not a job file of Ask Port: name another file, or a new one.", name=self._name)

    def _prepare(self, *, new: bool, writes: bool) -> None:
        with self._engine.begin() as connection:
            version = connection.execute(text("PRAGMA user_version")).scalar() or 0
            if new:
                connection.execute(text(f"PRAGMA application_id = {APPLICATION_ID}"))
                connection.execute(text(f"PRAGMA user_version = {VERSION}"))
                METADATA.create_all(connection)
                connection.execute(insert(SEAL).values(number=1, count=0, hash=""))
                version = VERSION
            mark = connection.execute(text("PRAGMA application_id")).scalar()
            if mark != APPLICATION_ID:
                raise self._not_a_job()
            self._is_job = True
            if version > VERSION:
                raise BadInput(
                    "'{name}' is from a newer Ask Port (format {version}, this one reads {version_2}): update "
                    "Ask Port to open it.",
                    name=self._name,
                    version=version,
                    version_2=VERSION,
                )
            if foreign := foreign_parts(connection, is_older=version < VERSION):
                raise BadInput(
                    "'{name}' was changed outside Ask Port: {foreign}. Go on with an earlier copy.",
                    name=self._name,
                    foreign=foreign,
                )
            if version == VERSION or writes:
                self._bring_up_to_date(connection, version)
            if writes:
                # Tried now, before anything is done that could then not be written down.
                connection.execute(update(SEAL).values(count=SEAL.c["count"]))
        if version < VERSION and not writes:
            self._work_on_a_copy()
            with self._engine.begin() as connection:
                self._bring_up_to_date(connection, version)

    def _work_on_a_copy(self) -> None:
        self._copy = TemporaryDirectory(prefix="askport-")
        self._engine = job_engine.copied(self.path, self._copy.name)

    def _bring_up_to_date(self, connection: Connection, version: int) -> None:
        has = inspect(connection).has_table
        needed = METADATA.sorted_tables if version == VERSION else [JOURNAL]
        for table in needed:
            if not has(table.name):
                raise BadInput(
                    "'{name}' was changed outside Ask Port: its {table_name} is missing.",
                    name=self._name,
                    table_name=table.name,
                )
        if version < VERSION:
            older_jobs.bring_up_to_date(connection)

    def grow_anew(self) -> None:
        """Make the register anew, where something has come that changes what the journal adds up to."""
        self._grow(writes=True)
        self.register.has_grown()

    def _grow(self, *, writes: bool) -> None:
        """Make the register anew where it does not stand for the journal as it is."""
        count, hash_ = (self._last.number, self._last.hash) if self._last else (0, "")
        with self._engine.connect() as connection:
            behind = is_behind(connection, count, hash_)
        if behind:
            if not writes and self._copy is None:
                self._work_on_a_copy()
                self.register = projection.Projection(self._engine, self._damaged)
            with self._engine.begin() as connection:
                make_anew(connection, self._read(connection=connection), own=self.crew.member if self.crew else None)

    def _fault(self) -> str | None:
        """Say what of the end of the journal does not fit, or return None where all of it does."""
        with self._engine.connect() as connection:
            seal = connection.execute(select(SEAL.c["count"], SEAL.c["hash"])).first()
            number = connection.execute(select(JOURNAL.c.number).order_by(JOURNAL.c.number.desc()).limit(1)).scalar()
        first = max(1, (number or 0) - _CHECKED_AT_OPENING)
        if fault := self._chain_fault(first):
            return fault
        count, hash_ = (self._last.number, self._last.hash) if self._last else (0, "")
        if seal is None or tuple(seal) != (count, hash_):
            return phrase("lines at the end of its journal are missing, or were added.")
        return kept_frames.frames_fault(self._engine, first, has_all=self.crew is None)

    def _chain_fault(self, first: int) -> str | None:
        """Say which line from a first one on does not fit."""
        columns = (JOURNAL.c.number, JOURNAL.c.place, JOURNAL.c.after, JOURNAL.c.at, JOURNAL.c.body, JOURNAL.c.hash)
        with self._engine.connect() as connection:
            referred = connection.execute(select(JOURNAL.c.after).where(JOURNAL.c.after.is_not(None))).scalars()
            chain = Chain(self._line(first - 1), set(referred))
            rows = connection.execute(select(*columns).where(JOURNAL.c.number >= first).order_by(JOURNAL.c.number))
            place = first - 1
            for place, row in enumerate(rows, first):
                if not chain.fits(*row):
                    return phrase("line {place} of its journal does not fit.", place=place)
        self._last = self._line(place)
        with self._engine.connect() as connection:
            crew = job_part.membership_in(connection)
            sealed = job_part.heads_in(connection)
        self.belong_to(crew)
        if not chain.ends_together(sealed | ({self._own.hash} if self._own else set())):
            return phrase("lines of its journal are missing.")
        return None

    def _read(self, first: int = 1, connection: Connection | None = None) -> Iterator[Line]:
        """Read the journal from a line on, as it is needed."""
        found = select(JOURNAL).where(JOURNAL.c.number >= first).order_by(JOURNAL.c.number)
        with nullcontext(connection) if connection else self._engine.connect() as reading:
            rows = reading.execute(found, execution_options={"yield_per": 2000})
            for place, row in enumerate(rows.mappings(), first):
                try:
                    line = Line.model_validate(dict(row))
                    line.entry  # noqa: B018 - what cannot be read is said now
                except ValueError:
                    raise self._damaged(phrase("line {place} of its journal cannot be read", place=place)) from None
                yield line

    def _line(self, number: int) -> Line | None:
        with self._engine.connect() as connection:
            found = connection.execute(select(JOURNAL).where(JOURNAL.c.number == number)).mappings().first()
        return Line.model_validate(dict(found)) if found else None

    @property
    def engine(self) -> Engine:
        """What reads and writes the file."""
        return self._engine

    @property
    def lines(self) -> list[Line]:
        """The journal so far, all of it read anew."""
        return list(self._read())

    @property
    def count(self) -> int:
        """How many lines the journal has."""
        return self._last.number if self._last else 0

    @property
    def fingerprint(self) -> str:
        """The hash of the last line, which stands for all of them; an empty text where there is none."""
        return self._last.hash if self._last else ""

    def new_unit(self) -> int:
        """Draw a number for a device's way through the job."""
        return randbits(_UNIT_BITS)

    def as_it_stands(self) -> "JobFile":
        """Return a copy of it at this moment, for what takes long to read while somebody writes on.

        Raises:
            MachineRefused: there is no room for a copy.
        """
        still = copy(self)
        still._lock = None
        try:
            still._work_on_a_copy()
            with still._engine.connect() as connection:
                count = connection.execute(select(SEAL.c["count"])).scalar() or 0
        except (OSError, sqlite3.Error) as error:
            raise MachineRefused(
                "'{name}' cannot be copied to be read: {error}.", name=self._name, error=error
            ) from None
        still.register = projection.Projection(still._engine, still._damaged)
        still._last = still._line(count)
        return still

    def checked(self) -> list[visits.Row]:
        """Check the whole file, and return the register as the journal adds up to it.

        Raises:
            BadInput: it was changed by something else, or the register that is kept is not what the journal says.
        """
        try:
            fault = (
                self._chain_fault(1)
                or kept_frames.frames_fault(self._engine, 1, has_all=self.crew is None)
                or verifying.seals_fault(self._engine)
            )
            if fault:
                raise self._changed(fault)
            plan = plan_of(line.entry for line in self._in_order())
            rows = as_planned.held_against(plan, self._folded())
            differs = self.register.differs(rows, plan, ordered=self.crew is None)
        except (SQLAlchemyError, TypeError, ValueError):
            raise self._damaged(phrase("a part of it cannot be read")) from None
        if differs:
            raise self._changed(
                phrase(
                    "{differs} kept beside its journal is not what the journal says.",
                    differs=display_text(differs, 150),
                )
            )
        return rows

    def _in_order(self) -> Iterable[Line]:
        """Return the journal in the order in which it adds up: a crew's is the same in each of its files."""
        return in_order(self._read(), self.crew.member) if self.crew else self._read()

    def _folded(self) -> list[visits.Row]:
        rows = fold(self._in_order(), self.crew.member if self.crew else None)
        if self.crew:  # numbered as they came into this file
            for row in rows:
                stored = self.register.by_mac(row.mac)
                row.id = stored.id if stored else row.id
            rows.sort(key=lambda each: each.id)
        return rows

    def stands(self, fingerprint: str) -> tuple[int, int, datetime | None] | None:
        """Return how many lines were handed over with a fingerprint or the beginning of one, how many came later, and
        when the first of these was written; None where no line has it.
        """
        like = JOURNAL.c.hash.startswith(fingerprint, autoescape=True)
        with self._engine.connect() as connection:
            found = connection.execute(select(JOURNAL.c.number, JOURNAL.c.place).where(like)).first()
        if found is None:
            return None
        first = self._line(found.number + 1)
        return found.place, self.count - found.place, first.at if first else None

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

    def _append(self, entries: Iterable[tuple[Entry, datetime]], *with_it: Executable) -> None:
        last, own, lines, begun = self._last, self._own, [], set[int]()
        try:
            with self._engine.connect() as connection:
                for entry, at in entries:
                    if self.crew and entry.unit not in begun:
                        entry = growing_together.made_upon(connection, entry, Stored(connection), self.crew.member)
                    begun |= {entry.unit} if isinstance(entry, Found) else set()
                    last = own = next_line(entry, at, last, own)
                    lines.append(last)
        except DatabaseError as error:
            raise self._damaged(_plainly(error)) from None
        self._write(lines, *with_it)
        self._own = own

    def adopt(self, lines: Sequence[Line], captures: Iterable[bytes] = (), with_it: Iterable[Executable] = ()) -> None:
        """Take over lines of other journals as they are, and the frames that were kept with them, all or nothing.

        Raises:
            MachineRefused: the disk is full or will not be written.
        """
        self._write(lines, *map(kept_frames.keeping, captures), *with_it)
        if self.crew is None:
            self._own = self._last

    def belong_to(self, crew: job_part.Membership | None) -> None:
        """Take in to which crew it belongs, as it was written down, and which line its own strand goes on with."""
        self.crew = crew
        with self._engine.connect() as connection:
            self._own = self._line(job_part.last_own(connection, crew)) if crew else self._last

    def change(self, *statements: Executable) -> None:
        """Write what is no line of the journal, all or nothing.

        Raises:
            MachineRefused: the disk is full or will not be written.
        """
        self._write((), *statements)

    def keep(self, unit: int, frames: Sequence[tuple[datetime, bytes]]) -> None:
        """Keep the frames behind a unit, with their digest in the journal.

        Raises:
            MachineRefused: the disk is full or will not be written; what was there before is unharmed.
        """
        capture = pcapng_start() + b"".join(pcapng_frame(at.timestamp(), data) for at, data in frames)
        entry = Kept(unit=unit, frames=len(frames), sha256=sha256(capture).hexdigest())
        self._append([(entry, max(at for at, _ in frames))], kept_frames.keeping(capture))

    def capture(self, digest: str) -> bytes:
        """Return kept frames as a pcapng file.

        Raises:
            BadInput: the file is damaged there.
        """
        try:
            with self._engine.connect() as connection:
                found = connection.execute(select(kept_frames.CAPTURE).where(CAPTURES.c.sha256 == digest)).scalar()
        except DatabaseError as error:
            raise self._damaged(_plainly(error)) from None
        if found is None and self.crew:
            raise BadInput(
                "The frames of this visit have not come from the crew yet: 'askport crew sync' carries them."
            )
        if found is None:
            raise self._damaged(phrase("frames that were kept are missing"))
        return bytes(found)

    def _write(self, lines: Sequence[Line], *with_it: Executable) -> None:
        """Write lines together with what belongs to them, and have the register grow with them."""
        rows = [
            {"number": line.number, "place": line.place, "after": line.after, "at": line.at.isoformat(),
             "body": line.body, "hash": line.hash, "member": line.member,
             "pushed": line.pushed.isoformat() if line.pushed else None}
            for line in lines
        ]  # fmt: skip
        try:
            with self._engine.begin() as connection:
                for statement in with_it:
                    connection.execute(statement)
                if lines:
                    connection.execute(_SEALED, {"count_": lines[-1].number, "hash_": lines[-1].hash})
                    connection.execute(_WRITTEN, rows)
                    grow(connection, lines, own=self.crew.member if self.crew else None)
        except DatabaseError as error:
            raise MachineRefused(
                "The job file '{name}' could not be written: {plainly}. Nothing recorded before is lost; "
                "make room or choose another file with --job.",
                name=self._name,
                plainly=_plainly(error),
            ) from None
        self._last = lines[-1] if lines else self._last
        self.register.has_grown()


def _plainly(error: DatabaseError) -> str:
    return str(error.orig)
