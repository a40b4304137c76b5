"""Reading what can be read of a damaged job file."""

from pathlib import Path

from sqlalchemy import URL, NullPool, create_engine, event, select
from sqlalchemy.exc import DatabaseError
from sqlalchemy.pool import ConnectionPoolEntry

from askport.core import errors, text
from askport.core.phrases import phrase
from askport.core.register.chain import Line
from askport.edges.job_tables import JOURNAL

_MOST_FAILURES = 200
"""Lines that are tried in vain, until the rest is given up."""


def salvage(path: Path) -> tuple[list[Line], list[str]]:
    """Read what can be read of a damaged job, with a sentence for each part that cannot.

    Raises:
        BadInput: there is no such file, or nothing of it can be read.
    """
    name = text.display_text(str(path), 200)
    if not path.is_file():
        raise errors.BadInput("There is no job file '{name}'.", name=name)
    lines: list[Line] = []
    lost: list[str] = []
    last = failed = 0
    engine = create_engine(URL.create("sqlite", database=str(path)), poolclass=NullPool)
    event.listen(engine, "connect", _whatever_its_schema)
    with engine.connect() as connection:
        while failed < _MOST_FAILURES:
            columns = (JOURNAL.c.number, JOURNAL.c.at, JOURNAL.c.body, JOURNAL.c.hash)
            behind = select(*columns).where(JOURNAL.c.number > last).order_by(JOURNAL.c.number).limit(1)
            try:
                row = connection.execute(behind).first()
                if row is None:
                    break
                line = Line.model_validate({**row._mapping, "place": row.number})
                line.entry  # noqa: B018 - what cannot be read is said now
            except (DatabaseError, ValueError, TypeError):
                last, failed = last + 1, failed + 1
                lost.append(phrase("Line {last} cannot be read.", last=last))
                continue
            if line.number > last + 1:
                lost.append(phrase("Lines {last} to {number} are missing.", last=last + 1, number=line.number - 1))
            last = line.number
            lines.append(line)
    if not lines:
        raise errors.BadInput("Nothing of '{name}' can be read: use a copy of it.", name=name)
    return lines, lost


def _whatever_its_schema(connection: object, _: ConnectionPoolEntry) -> None:
    """Read the journal though the description of another table is damaged (SQLite, PRAGMA writable_schema)."""
    connection.execute("PRAGMA writable_schema = ON")  # type: ignore[attr-defined]
    connection.execute("PRAGMA query_only = ON")  # type: ignore[attr-defined]
