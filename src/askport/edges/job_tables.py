"""The tables of a job file: the journal, what is kept with it, and the register that it adds up to."""

from sqlalchemy import Column, Connection, Index, Integer, LargeBinary, MetaData, String, Table, column, table, text

from askport.core.phrases import phrase
from askport.core.text import display_text

APPLICATION_ID = 0x41534B50
"""Marks a SQLite file as a job of Ask Port (PRAGMA application_id)."""
VERSION = 7
"""Of the journal's tables (PRAGMA user_version). A newer file is refused; an older one is brought up to date."""
FORM = 5
"""Of the register's tables: where a file has another, they are made anew from the journal."""

METADATA = MetaData()
JOURNAL = Table(
    "journal",
    METADATA,
    Column("number", Integer, primary_key=True),
    Column("place", Integer, nullable=False),
    Column("after", String),
    Column("at", String, nullable=False),
    Column("body", String, nullable=False),
    Column("hash", String, nullable=False),
    Column("member", String),
    Column("pushed", String),
)
CAPTURES = Table(
    "captures",
    METADATA,
    Column("sha256", String, primary_key=True),
    Column("pcapng", LargeBinary, nullable=False),
)
"""Frames that as-found values rest on, as capture files by their SHA-256."""
SEAL = Table(
    "seal",
    METADATA,
    Column("number", Integer, primary_key=True),
    Column("count", Integer, nullable=False),
    Column("hash", String, nullable=False),
)
"""How many lines the journal has, and the hash of its last: lines taken off its end are missed."""

SHARED = MetaData()
"""What a job file has more where it joins a crew."""
CREW = Table(
    "crew",
    SHARED,
    Column("number", Integer, primary_key=True),
    Column("crew", String, nullable=False),
    Column("epoch", String, nullable=False),
    Column("url", String, nullable=False),
    Column("site", String, nullable=False),
    Column("member", String, nullable=False),
    Column("pulled", Integer, nullable=False),
    Column("digest", String),
)
"""Which crew the job belongs to and as whom, where its database is (never with a password), and up to which push."""
CREW_OF = Table("crew_of", SHARED, Column("number", Integer, primary_key=True), Column("crew", String, nullable=False))
"""Which crew its seals are of, also once the file has left it."""
MEMBERS = Table(
    "members",
    SHARED,
    Column("name", String, primary_key=True),
    Column("key", String, nullable=False),
    Column("login", String, nullable=False),
    Column("removed", Integer, nullable=False),
)
"""Its members with their public keys, as they were seen first."""
SEALS = Table(
    "seals",
    SHARED,
    Column("head", String, primary_key=True),
    Column("member", String, primary_key=True),
    Column("place", Integer, nullable=False),
    Column("signature", String, nullable=False),
    Column("push", Integer, nullable=False),
)
"""By which its members vouch for their lines."""
BLOCK = Table("block", SHARED, Column("address", String, primary_key=True))
"""Free addresses that were dealt to this member, to give away without the database."""

ACCEPTED = Table(
    "accepted",
    SHARED,
    Column("name", String, primary_key=True),
    Column("key", String, nullable=False),
    Column("removed", Integer, nullable=False),
)
"""Who was a member when this file joined: whoever comes later is named until somebody says that it is right."""
DOUBTS = Table("doubts", SHARED, Column("sentence", String, primary_key=True))
"""What of the database was not believed when it was read last."""

REGISTER = MetaData()
"""What the journal adds up to: it grows in the same transaction, and can be made anew at any time."""
GROWN = Table(
    "grown",
    REGISTER,
    Column("form", Integer, primary_key=True),
    Column("count", Integer, nullable=False),
    Column("hash", String, nullable=False),
)
"""Up to which line."""
DEVICES = Table(
    "devices",
    REGISTER,
    Column("id", Integer, primary_key=True),
    Column("tag", String, nullable=False, index=True),
    Column("state", String, nullable=False),
    Column("as_left", String, nullable=False),
    Column("left", Integer),
    Column("as_found", String, nullable=False),
    Column("found", Integer),
    Column("maker", String, nullable=False),
    Column("mac", String, nullable=False),
    Column("kind", String, nullable=False),
    Column("place", String, nullable=False),
    Column("recorded_at", String),
    Column("has_open_points", Integer, nullable=False),
    Column("row", String, nullable=False),
)
"""A row for each: what tables show and sort by, and all of it as JSON."""
MACS = Table("macs", REGISTER, Column("mac", String, primary_key=True), Column("device", Integer, nullable=False))
VISITS = Table("visits", REGISTER, Column("unit", Integer, primary_key=True), Column("device", Integer, nullable=False))
SUBNETS = Table(
    "subnets",
    REGISTER,
    Column("network", String, primary_key=True),
    Column("place", Integer, nullable=False),
    Column("body", String, nullable=False),
)
PLANNED = Table(
    "planned",
    REGISTER,
    Column("tag", String, primary_key=True),
    Column("place", Integer, nullable=False),
    Column("body", String, nullable=False),
)
CONFLICTS = Table(
    "conflicts",
    REGISTER,
    Column("sentence", String, primary_key=True),
    Column("settled", String),
)
SEARCH = table("search", column("rowid"), column("known"))
"""Everything known of a device as one text, in an index of the three-letter pieces of it (SQLite, FTS5)."""
Index("macs_of", MACS.c.device)
Index("visits_of", VISITS.c.device)
Index("left_at", DEVICES.c.left)


def create_register(connection: Connection) -> None:
    """Make the register's tables anew, empty."""
    connection.execute(text("DROP TABLE IF EXISTS search"))
    REGISTER.drop_all(connection)
    REGISTER.create_all(connection)
    connection.execute(text("CREATE VIRTUAL TABLE search USING fts5(known, tokenize = 'trigram')"))


def foreign_parts(connection: Connection, *, is_older: bool) -> str:
    """Say what is in a file beside our own tables and indexes, or nothing.

    A trigger or a view in place of a table could drop lines, or show others than are there. An earlier format had other
    tables, but neither of these.
    """
    ours = {each.name for kept in (METADATA, SHARED, REGISTER) for each in kept.tables.values()} | {"search"}
    for kind, name, of in connection.execute(text("SELECT type, name, tbl_name FROM sqlite_master")):
        is_known = kind in ("table", "index") and (is_older or of in ours or of.startswith("search_"))
        if not is_known and not name.startswith("sqlite_"):
            shown = display_text(str(name), 40)
            return phrase("it has the {kind} '{name}', which is none of its own", kind=kind, name=shown)
    return ""
