"""Reaching a crew's database: libpq's own ways to name it and to log in, and TLS that is checked."""

import os
from ipaddress import ip_address
from pathlib import Path
from typing import TYPE_CHECKING, Any

from askport.core.errors import BadInput, MachineRefused, Refused
from askport.core.phrases import phrase
from askport.core.text import display_text

if TYPE_CHECKING:
    from sqlalchemy import Engine

SCHEMES = ("postgresql://", "postgres://")
_CONNECT_S = 5
_WAITS_S = 5
"""How long one statement waits for what somebody else holds, in seconds."""
_HOLDS_S = 20
"""How long a connection that carries nothing more is held on to, in seconds."""


def is_url(text: str) -> bool:
    """Whether a text names a database and not a file."""
    return text.startswith(SCHEMES) or text.startswith("service=")


def parameters(url: str) -> dict[str, str]:
    """Return what a URL or a connection string of libpq says, with TLS checked where nothing else is said.

    A database on this machine needs none: nobody is in between.

    Raises:
        BadInput: it cannot be read, or has a password in it, which others could see.
    """
    from psycopg import ProgrammingError
    from psycopg.conninfo import conninfo_to_dict

    shown = display_text(url, 120)
    try:
        told = {key: str(value) for key, value in conninfo_to_dict(url).items() if value is not None}
    except ProgrammingError:  # libpq's words repeat what was typed, be it a password
        raise BadInput(
            "'{without_password}' names no database: write postgresql://user@host/name.",
            without_password=_without_password(shown),
        ) from None
    if any(told.pop(each, None) for each in ("password", "sslpassword")):
        raise BadInput(
            "A password in the crew's URL is seen by everybody on this machine. Leave it out, and "
            "put it into ~/.pgpass or a service file (libpq)."
        )
    if not _is_local(told) and "sslmode" not in told and not os.environ.get("PGSSLMODE") and "service" not in told:
        told["sslmode"] = "verify-full"
        has_own = "sslrootcert" in told or os.environ.get("PGSSLROOTCERT")
        if not has_own and not Path("~/.postgresql/root.crt").expanduser().exists():
            told["sslrootcert"] = "system"
    return told


def _without_password(text: str) -> str:
    text = text.partition("?")[0]
    head, at, tail = text.partition("@")
    user, colon, _ = head.rpartition(":")
    return f"{user}@{tail}" if at and colon and "/" not in head.rpartition(":")[2] else text


def _is_local(told: dict[str, str]) -> bool:
    """Whether it is a Unix socket or this machine."""
    hosts = (told.get("hostaddr") or told.get("host") or os.environ.get("PGHOST", "")).split(",")
    return all(not host or host.startswith(("/", "@")) or host == "localhost" or _loops(host) for host in hosts)


def _loops(host: str) -> bool:
    try:
        return ip_address(host).is_loopback
    except ValueError:
        return False


def engine_to(url: str) -> "Engine":
    """Return what talks to a crew's database; nothing is connected yet.

    Raises:
        BadInput: the URL cannot be read, or has a password in it.
    """
    import psycopg
    from sqlalchemy import NullPool, create_engine

    told = parameters(url)

    def connect() -> Any:
        beats = {"keepalives_idle": 5, "keepalives_interval": 5, "keepalives_count": 3}
        ours = {"connect_timeout": _CONNECT_S, "tcp_user_timeout": _HOLDS_S * 1000, "application_name": "askport"}
        options = "-c statement_timeout={holds_s}s -c lock_timeout={waits_s}s {get}".format(
            holds_s=_HOLDS_S,
            waits_s=_WAITS_S,
            get=told.get("options", ""),
        )
        return psycopg.connect(**{**ours, **beats, **told, "options": options})  # type: ignore[arg-type]

    return create_engine("postgresql+psycopg://", creator=connect, poolclass=NullPool)


def state_of(error: Exception) -> str:
    """Return the SQLSTATE by which the database says what is wrong (PostgreSQL, appendix A), or an empty text."""
    return getattr(getattr(error, "orig", None) or error, "sqlstate", None) or ""


def said_plainly(error: Exception) -> str:
    """Return what the database, or the way to it, says is wrong, in one line."""
    original = getattr(error, "orig", None) or error
    diagnosis = getattr(original, "diag", None)
    text = (diagnosis.message_primary if diagnosis else None) or str(original)
    lines = [each.strip() for each in text.splitlines() if each.strip()]
    return display_text(lines[0] if lines else type(original).__name__, 200).rstrip(".")


def not_reached(url: str, error: Exception) -> MachineRefused:
    """Return what is raised where the database cannot be reached, or the connection was lost."""
    text = phrase(
        "The crew's database '{url}' is not reached: {error}.", url=display_text(url, 120), error=said_plainly(error)
    )
    return MachineRefused(text, code=f"sql-{state_of(error)}")


def not_allowed(error: Exception) -> Refused:
    """Return what is raised where the database refuses."""
    return Refused("The crew's database refuses: {error}.", error=said_plainly(error))
