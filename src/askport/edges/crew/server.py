"""A crew's database from one member's side: news in one round trip, and pushes that go whole or not at all."""

import json
from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager, suppress
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime
from ipaddress import IPv4Address
from typing import Any

from askport.core.crew.seals import Member, Seal
from askport.core.crew.strands import LONGEST_BODY, StrandLine
from askport.core.errors import BadInput, MachineRefused
from askport.core.phrases import listed, phrase
from askport.core.text import display_text
from askport.edges.crew.reaching import engine_to, not_allowed, not_reached, state_of
from askport.edges.crew.schema import VERSION

AT_ONCE = 500
"""Lines in one push, so that a screen can take one without a pause."""
_REFUSALS = frozenset({"42501", "23514", "23503", "28000", "28P01", "42P17"})
"""SQLSTATEs by which the database says no, and not that it is gone (PostgreSQL, appendix A)."""
_PUSH = """
INSERT INTO askport.pushes (number, member, head, place, signature) VALUES (0, %s, %s, %s, %s) RETURNING number, at
"""
_LINES = """
INSERT INTO askport.lines (hash, push, member, place, before, at, body)
SELECT each->>0, %s, each->>1, (each->>2)::integer, each->>3, each->>4, each->>5
FROM json_array_elements(%s::json) WITH ORDINALITY AS told (each, place) ORDER BY told.place
ON CONFLICT (hash) DO NOTHING
"""
_NEWS = """
WITH upto AS (
    SELECT coalesce(max(number), :after) AS number FROM (
        SELECT number, sum(lines) OVER (ORDER BY number) - lines AS earlier FROM (
            SELECT number, (SELECT count(*) FROM askport.lines WHERE push = number) AS lines
            FROM askport.pushes WHERE number > :after ORDER BY number LIMIT :most
        ) AS each
    ) AS counted WHERE earlier < :most
)
SELECT json_build_object(
    'id', crew.id, 'epoch', crew.epoch, 'site', crew.site, 'version', crew.version, 'now', extract(epoch FROM now()),
    'last', (SELECT coalesce(max(number), 0) FROM askport.pushes),
    'after', (SELECT head FROM askport.pushes WHERE number = :after),
    'members', (SELECT coalesce(json_agg(json_build_array(name, key, login, removed IS NOT NULL) ORDER BY name), '[]')
        FROM askport.members),
    'pushes', (SELECT coalesce(json_agg(json_build_array(member, head, place, signature, pushes.number, pushes.at)
        ORDER BY pushes.number), '[]')
        FROM askport.pushes, upto WHERE pushes.number > :after AND pushes.number <= upto.number),
    'lines', (SELECT coalesce(json_agg(json_build_array(hash, member, place, before, left(at, 100),
        left(body, :longest), push) ORDER BY push, place), '[]')
        FROM askport.lines, upto WHERE push > :after AND push <= upto.number),
    'digest', CASE WHEN :digest THEN (SELECT coalesce(sum(hashtextextended(
        concat_ws(E'\\n', hash, push, member, place, before, at, body), 0)::numeric), 0)::text || '/' || count(*)
        FROM askport.lines WHERE push <= :after) || '/' || (SELECT coalesce(sum(hashtextextended(
        concat_ws(E'\\n', pushes.number, member, head, place, signature), 0)::numeric), 0)::text
        FROM askport.pushes WHERE pushes.number <= :after) END
) FROM askport.crew
"""
_MISSING = frozenset({"sql-42P01", "sql-42703", "sql-3F000", "sql-42883"})
"""No such table, column, schema or function."""
_LOCKED = "55P03"
_HOLDERS = """
SELECT DISTINCT usename FROM pg_locks JOIN pg_stat_activity USING (pid) WHERE granted AND pid <> pg_backend_pid()
    AND locktype = 'relation' AND relation = ANY (ARRAY['askport.crew', 'askport.pushes', 'askport.lines']::regclass[])
    AND mode <> 'AccessShareLock' ORDER BY usename
"""
_CLAIMS = "SELECT what, member, since FROM askport.claims WHERE until > now() ORDER BY what"
_BLOCKS = "SELECT host(address), member FROM askport.blocks WHERE family(address) = 4 ORDER BY address"


@dataclass(frozen=True, slots=True)
class News:
    """What the database has that a job file does not, or a part of it."""

    crew: str
    epoch: str
    """Drawn anew wherever the database is filled anew."""
    site: str
    now: datetime
    """By the database's clock."""
    last: int
    """The number of its last push."""
    after: str | None
    """Up to which line the push went that was read last; None where there is none of that number."""
    members: list[Member]
    pushes: list[Seal]
    lines: list[StrandLine]
    digest: str | None
    """Of all lines that had been read already, where it was asked for."""


@dataclass(frozen=True, slots=True)
class Claimed:
    """What a member has in hand."""

    what: str
    member: str
    since: datetime


@dataclass(frozen=True, slots=True)
class InHand:
    """Everything that members have in hand, and the free addresses that each holds."""

    claims: list[Claimed] = field(default_factory=list)
    blocks: dict[IPv4Address, str] = field(default_factory=dict)


class Server:
    """One connection to a crew's database."""

    def __init__(self, url: str) -> None:
        """Connect.

        Raises:
            BadInput: the URL cannot be read.
            MachineRefused: it is not reached.
        """
        self.url = url
        self._engine = engine_to(url)
        self.trips = 0
        """Statements that were sent, each of them one round trip."""
        with self._talking():
            self._connection = self._engine.connect().execution_options(isolation_level="AUTOCOMMIT")
            self._driver: Any = self._connection.connection.driver_connection

    def close(self) -> None:
        """Let the connection go."""
        with suppress(MachineRefused), self._talking():
            self._connection.close()
        self._engine.dispose()

    @contextmanager
    def _talking(self) -> Iterator[None]:
        """Say in one sentence what goes wrong meanwhile."""
        from psycopg import Error
        from sqlalchemy.exc import DBAPIError, SQLAlchemyError

        try:
            yield
        except (DBAPIError, Error) as error:
            state = state_of(error)
            if state == _LOCKED and (who := self._holders()):
                raise MachineRefused(
                    "The crew's database is held by {who}: it is tried again later.", who=who
                ) from None
            raise (not_allowed(error) if state in _REFUSALS else not_reached(self.url, error)) from None
        except (SQLAlchemyError, OSError) as error:
            raise not_reached(self.url, error) from None

    def _run(self, statement: str, **values: Any) -> Any:
        from sqlalchemy import text

        self.trips += 1
        return self._connection.execute(text(statement), values)

    def news(self, after: int, *, digest: bool = False, most: int = AT_ONCE) -> News:
        """Return what came after a push, about so many lines of it.

        Raises:
            BadInput: there is no crew there, or its tables are of another version.
            MachineRefused: the connection was lost.
        """
        try:
            with self._talking():
                told = self._run(_NEWS, after=after, most=most, digest=digest, longest=LONGEST_BODY + 1).scalar()
        except MachineRefused as error:
            if error.code not in _MISSING:
                raise
            raise self._lacks(error) from None
        if told is None:
            raise self._no_crew()
        told = json.loads(told) if isinstance(told, str) else told
        try:
            return self._news(told)
        except (TypeError, ValueError, KeyError, AttributeError) as error:
            shown = display_text(self.url, 120)
            raise BadInput(
                "What '{shown}' has is no crew's ({error}): its owner brings it up to date, or puts a backup back.",
                shown=shown,
                error=display_text(str(error), 80),
            ) from None

    def _news(self, told: Any) -> News:
        _require_version(told["version"], self.url)
        pushes = [replace(Seal(*each[:5]), at=datetime.fromisoformat(each[5])) for each in told["pushes"]]
        return News(
            crew=told["id"], epoch=told["epoch"], site=told["site"], now=datetime.fromtimestamp(told["now"], UTC),
            last=told["last"], after=told["after"], members=[Member(*each) for each in told["members"]], pushes=pushes,
            lines=[_line(*each) for each in told["lines"]], digest=told["digest"],
        )  # fmt: skip

    def _holders(self) -> str:
        """Return the logins that hold what others wait for, or an empty text where that is not to be seen."""
        from sqlalchemy import text

        with suppress(Exception):
            return listed([display_text(each, 40) for each in self._connection.execute(text(_HOLDERS)).scalars()])
        return ""

    def _lacks(self, error: MachineRefused) -> BadInput:
        """Return what is said where something is missing there: all of it, or a part that was taken out."""
        with self._talking():
            if not self._run("SELECT to_regclass('askport.crew')").scalar():
                return self._no_crew()
        return BadInput(
            "{message} Its owner has to put a backup back, or fill an empty database.", message=error.message
        )

    def _no_crew(self) -> BadInput:
        shown = display_text(self.url, 120)
        return BadInput("There is no crew in '{shown}': its owner makes one with 'askport crew create'.", shown=shown)

    def login(self) -> str:
        """Return as whom this laptop is known to the database."""
        with self._talking():
            return str(self._run("SELECT session_user").scalar())

    def join(self, name: str, key: str) -> None:
        """Become a member.

        Raises:
            Refused: the database does not let this login in, or the name is taken.
        """
        with self._talking():
            self._run("INSERT INTO askport.members (name, key) VALUES (:name, :key)", name=name, key=key)

    def push(self, lines: Sequence[StrandLine], seal: Seal) -> Seal:
        """Push lines with their seal, all or nothing; those that are there already are left alone.

        Returns the seal with its number and time.

        Raises:
            Refused: the database does not take them.
            MachineRefused: the connection was lost; whether they arrived is found out by pushing them again.
        """
        rows = [[each.hash, each.member, each.place, each.before, each.at, each.body] for each in lines]
        self.trips += 2
        with self._talking(), self._driver.transaction():
            sealed = (seal.member, seal.head, seal.place, seal.signature)
            number, at = self._driver.execute(_PUSH, sealed).fetchone()
            self._driver.execute(_LINES, (number, json.dumps(rows)))
        return replace(seal, push=number, at=at)

    def known(self, hashes: Sequence[str]) -> set[str]:
        """Return which of these lines are there."""
        with self._talking():
            found = self._run("SELECT hash FROM askport.lines WHERE hash = ANY (:hashes)", hashes=list(hashes))
            return set(found.scalars())

    def in_hand(self) -> InHand:
        """Return what members have in hand."""
        with self._talking():
            claims = [Claimed(*each) for each in self._run(_CLAIMS)]
            blocks = {IPv4Address(address): member for address, member in self._run(_BLOCKS)}
        return InHand(claims, blocks)

    def claim(self, member: str, wanted: Iterable[str], seconds: int) -> list[Claimed]:
        """Have exactly these things in hand, as far as nobody else has them; return who has each."""
        with self._talking():
            found = self._run(
                "SELECT what, member, since FROM askport.claim(CAST(:wanted AS text[]), :member, :seconds)",
                wanted=list(wanted), member=member, seconds=seconds,
            )  # fmt: skip
            return [Claimed(*each) for each in found]

    def deal(self, member: str, wanted: Iterable[IPv4Address]) -> list[IPv4Address]:
        """Take free addresses that nobody else holds; return those that were had."""
        with self._talking():
            found = self._run(
                "SELECT host(deal) FROM askport.deal(CAST(:wanted AS inet[]), :member)",
                wanted=[str(each) for each in wanted], member=member,
            )  # fmt: skip
            return [IPv4Address(each) for each in found.scalars()]

    def leave(self, member: str) -> None:
        """Take a member out: its lines stay, and what it had in hand is free."""
        with self._talking():
            self._run("SELECT askport.leave(:member)", member=member)

    def lacks(self, digests: Sequence[str]) -> list[str]:
        """Return which of these captures are not there."""
        with self._talking():
            found = set(
                self._run("SELECT sha256 FROM askport.captures WHERE sha256 = ANY (:all)", all=list(digests)).scalars()
            )
        return [each for each in digests if each not in found]

    def put_capture(self, digest: str, capture: bytes) -> None:
        """Keep frames there too."""
        with self._talking():
            self._run(
                "INSERT INTO askport.captures VALUES (:digest, :capture) ON CONFLICT DO NOTHING",
                digest=digest, capture=capture,
            )  # fmt: skip

    def capture(self, digest: str) -> bytes | None:
        """Return frames that are kept there, or None."""
        with self._talking():
            found = self._run("SELECT pcapng FROM askport.captures WHERE sha256 = :digest", digest=digest).scalar()
        return bytes(found) if found is not None else None

    def listen(self) -> None:
        """Be told of news from now on."""
        with self._talking():
            self._run("LISTEN askport")

    def wait(self, seconds: float) -> list[str]:
        """Wait for news, so long at the most; return what was told.

        Raises:
            MachineRefused: the connection was lost.
        """
        with self._talking():
            return [each.payload for each in self._driver.notifies(timeout=seconds, stop_after=1)]


def _line(hash_: str, member: str, place: int, before: str, at: str, body: str, push: int) -> StrandLine:
    """Return a line; what is empty in the database (NULL) is no text that anybody wrote.

    Raises:
        TypeError: it is none at all.
    """
    if not (isinstance(place, int) and isinstance(push, int)):
        raise TypeError(phrase("a line without a place"))
    return StrandLine(hash_ or "", member or "", place, before or "", at or "", body or "", push)


def _require_version(version: int, url: str) -> None:
    shown = display_text(url, 120)
    if version > VERSION:
        raise BadInput("The crew in '{shown}' is of a newer Ask Port: update this one.", shown=shown)
    if version < VERSION:
        raise BadInput(
            "The crew in '{shown}' is of an older Ask Port: its owner brings it up to date with 'askport crew create'.",
            shown=shown,
        )
