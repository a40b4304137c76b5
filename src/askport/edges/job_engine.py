"""What reads and writes a job file: SQLite (sqlite.org) by way of SQLAlchemy, each commit on the disk."""

import sqlite3
from contextlib import closing
from pathlib import Path

from sqlalchemy import URL, Connection, Engine, NullPool, create_engine, event
from sqlalchemy.pool import ConnectionPoolEntry


def engine_of(path: Path) -> Engine:
    """Return what reads and writes a job file."""
    engine = create_engine(URL.create("sqlite", database=str(path)), poolclass=NullPool)
    event.listen(engine, "connect", _make_ready)
    event.listen(engine, "begin", _begin)
    return engine


def copied(path: Path, directory: str) -> Engine:
    """Return a copy of a file that is only read, for what has to be made anew in it."""
    copy = Path(directory) / "copy.askport"
    with closing(sqlite3.connect(path)) as file, closing(sqlite3.connect(copy)) as made:
        file.backup(made)
    return engine_of(copy)


def _begin(connection: Connection) -> None:
    """Begin a transaction by ourselves: the driver would leave the making of tables out of it."""
    connection.exec_driver_sql("BEGIN")


def _make_ready(connection: object, _: ConnectionPoolEntry) -> None:
    """Have every commit on the disk before it returns, wait a little for another program that reads, fold letters."""
    cursor = connection.cursor()  # type: ignore[attr-defined]
    cursor.execute("PRAGMA synchronous = FULL")
    cursor.execute("PRAGMA busy_timeout = 2000")
    cursor.close()
    connection.isolation_level = None  # type: ignore[attr-defined]
    connection.create_function("casefold", 1, str.casefold, deterministic=True)  # type: ignore[attr-defined]
