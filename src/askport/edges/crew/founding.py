"""Making a crew's database, bringing it up to date, and filling it again from a member's file; as its owner."""

import secrets
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

from askport.core.crew import seals, strands
from askport.core.errors import BadInput, Refused
from askport.core.text import display_text
from askport.edges.crew.reaching import engine_to, not_reached, said_plainly
from askport.edges.crew.schema import GRANTS, MIGRATIONS, VERSION

if TYPE_CHECKING:
    from sqlalchemy import Connection


@dataclass(frozen=True, slots=True)
class Made:
    """What became of it."""

    site: str
    crew: str
    was: int | None
    """The version that was there before; None where there was none."""
    member_role: str
    office_role: str


@dataclass(frozen=True, slots=True)
class Filling:
    """A crew as a member's file has it."""

    crew: str
    members: Sequence[seals.Member]
    pushes: Sequence[tuple[seals.Seal, Sequence[strands.StrandLine]]]
    captures: Iterable[tuple[str, bytes]]


def found(url: str, site: str, *, upto: int = VERSION, filling: Filling | None = None) -> Made:
    """Make a crew, or bring one up to date.

    Args:
        filling: what it is filled with, where another database was lost.

    Raises:
        BadInput: the URL cannot be read, or another crew is there.
        Refused: this login may not make tables or roles there.
        MachineRefused: it is not reached.
    """
    from psycopg import Error
    from sqlalchemy import text
    from sqlalchemy.exc import DBAPIError, SQLAlchemyError

    engine = engine_to(url)
    try:
        with engine.begin() as connection:
            database = connection.execute(text("SELECT current_database()")).scalar_one()
            whole: Any = connection.connection.driver_connection  # what several statements at once go through
            names = [f"{database}_{what}" for what in ("member", "office", "functions")]
            member, office, functions = (_role(connection, each) for each in names)
            was = _version(connection)
            if was is not None and was > VERSION:
                raise BadInput(
                    "The crew in '{url}' is of a newer Ask Port: update this one.", url=display_text(url, 120)
                )
            if was is not None and filling:
                raise BadInput(
                    "There is a crew in '{url}' already: fill an empty database.", url=display_text(url, 120)
                )
            # Functions that are there are its own; what is in the migrations is read as they will be.
            whole.execute(f"GRANT {functions} TO CURRENT_USER; SET LOCAL search_path = pg_catalog, askport, pg_temp")
            for migration in MIGRATIONS[was or 0 : upto]:
                whole.execute(migration)
            texts = {"functions_text": _quoted(names[2], "'"), "member_text": _quoted(names[0], "'")}
            whole.execute(GRANTS.format(member=member, office=office, functions=functions, **texts))
            if was is None:
                crew = filling.crew if filling else secrets.token_hex(16)
                connection.execute(
                    text("INSERT INTO askport.crew (id, epoch, site, version) VALUES (:crew, :epoch, :site, :version)"),
                    {"crew": crew, "epoch": secrets.token_hex(8), "site": site, "version": upto},
                )
            else:
                brought = text("UPDATE askport.crew SET version = greatest(version, :version)")
                connection.execute(brought, {"version": upto})
            if filling:
                _fill(connection, filling)
            there = connection.execute(text("SELECT id, site FROM askport.crew")).one()
            return Made(there.site, there.id, was, names[0], names[1])
    except (DBAPIError, Error) as error:
        state = getattr(getattr(error, "orig", error), "sqlstate", None) or ""
        if state == "42501" or state.startswith("28"):
            raise Refused(
                "This login may not make a crew there: {error}. Use the database's owner, who may make roles "
                "too (CREATEROLE).",
                error=said_plainly(error),
            ) from None
        raise not_reached(url, error) from None
    except (SQLAlchemyError, OSError) as error:
        raise not_reached(url, error) from None
    finally:
        engine.dispose()


def _version(connection: "Connection") -> int | None:
    from sqlalchemy import text

    there = connection.execute(text("SELECT to_regclass('askport.crew')")).scalar()
    return connection.execute(text("SELECT version FROM askport.crew")).scalar() if there else None


def _quoted(name: str, mark: str) -> str:
    return f"{mark}{name.replace(mark, mark * 2)}{mark}"


def _role(connection: "Connection", name: str) -> str:
    """Return the name of a role, quoted; it is made where it is missing, and nobody can log in as it."""
    from sqlalchemy import text

    quoted = _quoted(name, '"')
    if connection.execute(text("SELECT 1 FROM pg_roles WHERE rolname = :name"), {"name": name}).scalar() is None:
        connection.exec_driver_sql(f"CREATE ROLE {quoted} NOLOGIN")
    return quoted


def _fill(connection: "Connection", filling: Filling) -> None:
    """Write members, pushes and lines as a file has them; each line is checked as any other, and the seals stay."""
    from sqlalchemy import text

    for each in filling.members:
        values: dict[str, Any] = {"name": each.name, "login": each.login, "key": each.key, "removed": each.removed}
        connection.execute(
            text(
                "INSERT INTO askport.members (name, login, key, removed) "
                "VALUES (:name, :login, :key, CASE WHEN :removed THEN now() END)"
            ),
            values,
        )
    for seal, lines in filling.pushes:
        number = connection.execute(
            text(
                "INSERT INTO askport.pushes (number, member, head, place, signature) "
                "VALUES (0, :member, :head, :place, :signature) RETURNING number"
            ),
            {"member": seal.member, "head": seal.head, "place": seal.place, "signature": seal.signature},
        ).scalar_one()
        rows = [
            {"hash": each.hash, "push": number, "member": each.member, "place": each.place, "before": each.before,
             "at": each.at, "body": each.body}
            for each in lines
        ]  # fmt: skip
        if rows:
            connection.execute(
                text(
                    "INSERT INTO askport.lines (hash, push, member, place, before, at, body) "
                    "VALUES (:hash, :push, :member, :place, :before, :at, :body)"
                ),
                rows,
            )
    for digest, capture in filling.captures:
        connection.execute(
            text("INSERT INTO askport.captures VALUES (:digest, :capture) ON CONFLICT DO NOTHING"),
            {"digest": digest, "capture": capture},
        )
