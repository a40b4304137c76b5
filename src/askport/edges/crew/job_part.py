"""What a job file keeps of its crew: to which it belongs and as whom, the members' keys, their seals, its own block."""

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from datetime import datetime
from ipaddress import IPv4Address
from typing import Protocol

from sqlalchemy import Connection, Engine, Executable, delete, func, insert, or_, select, update
from sqlalchemy.dialects.sqlite import insert as upsert
from sqlalchemy.schema import CreateTable

from askport.core.crew import seals, strands
from askport.core.phrases import phrase
from askport.core.register.entries import MemberAccepted, entry_of
from askport.core.text import display_text
from askport.edges.job_tables import ACCEPTED, BLOCK, CREW, CREW_OF, DOUBTS, JOURNAL, MEMBERS, SEALS, SHARED


@dataclass(frozen=True, slots=True)
class Membership:
    """To which crew a job file belongs, and as whom."""

    crew: str
    epoch: str
    """Which filling of the database was read."""
    url: str
    site: str
    member: str
    pulled: int = 0
    """Up to which push it was read."""
    digest: str | None = None
    """Of all lines up to there, as the database added them up then."""


class HasCrew(Protocol):
    """A job file."""

    @property
    def crew(self) -> Membership | None:
        """To which crew it belongs, and as whom."""

    @property
    def engine(self) -> Engine:
        """What reads and writes the file."""


_FIELDS = ("crew", "epoch", "url", "site", "member", "pulled", "digest")


def membership_in(connection: Connection) -> Membership | None:
    """Return to which crew a job file belongs, or None."""
    if not _is_shared(connection):
        return None
    found = connection.execute(select(*(CREW.c[each] for each in _FIELDS))).first()
    return Membership(*found) if found else None


def _is_shared(connection: Connection) -> bool:
    """Whether the file has ever joined a crew."""
    return connection.dialect.has_table(connection, CREW.name)


def making_shared() -> list[Executable]:
    """Return what makes the tables that the file of a crew has more."""
    return [CreateTable(each, if_not_exists=True) for each in SHARED.sorted_tables]


def crew_of(connection: Connection) -> str | None:
    """Return which crew the file's seals are of, also after it has left, or None where it has none."""
    return connection.execute(select(CREW_OF.c.crew)).scalar() if _is_shared(connection) else None


def keeping_membership(each: Membership) -> Executable:
    """Return what writes down to which crew it belongs."""
    values = {name: getattr(each, name) for name in _FIELDS}
    made = upsert(CREW).values(number=1, **values)
    return made.on_conflict_do_update(index_elements=["number"], set_=values)


def remembering(crew: str) -> Executable:
    """Return what writes down which crew its seals are of."""
    made = upsert(CREW_OF).values(number=1, crew=crew)
    return made.on_conflict_do_update(index_elements=["number"], set_={"crew": crew})


def leaving() -> list[Executable]:
    """Return what has a job file belong to no crew; whose line is whose stays."""
    return [delete(CREW), delete(BLOCK)]


def _is_own(member: str) -> object:
    return or_(JOURNAL.c.member.is_(None), JOURNAL.c.member == member)


def last_own(connection: Connection, crew: Membership) -> int:
    """Return the number of the last line of the member's own strand, 0 where there is none.

    After an older copy of a file was put back its strand may fork: the longest branch is gone on with.
    """
    own = select(JOURNAL.c.number).where(_is_own(crew.member))  # type: ignore[arg-type]
    order = (JOURNAL.c.place.desc(), JOURNAL.c.number.desc())
    return connection.execute(own.order_by(*order).limit(1)).scalar() or 0


def heads_in(connection: Connection) -> set[str]:
    """Return the hashes of all lines that a member has sealed."""
    return set(connection.execute(select(SEALS.c.head)).scalars()) if _is_shared(connection) else set()


def members_in(connection: Connection) -> list[seals.Member]:
    """Return the members as this file knows them."""
    if not _is_shared(connection):
        return []
    found = connection.execute(select(MEMBERS).order_by(MEMBERS.c.name)).mappings()
    return [seals.Member(each["name"], each["key"], each["login"], bool(each["removed"])) for each in found]


def keeping_members(members: Iterable[seals.Member]) -> list[Executable]:
    """Return what writes members down; a key that is known stays what it was."""
    statements: list[Executable] = []
    for each in members:
        now = {"login": each.login, "removed": int(each.removed)}
        made = upsert(MEMBERS).values(name=each.name, key=each.key, **now)
        statements.append(made.on_conflict_do_update(index_elements=["name"], set_=now))
    return statements


def accepting(members: Iterable[seals.Member]) -> list[Executable]:
    """Return what takes members for right as they are now."""
    made: list[Executable] = []
    for each in members:
        now = {"key": each.key, "removed": int(each.removed)}
        made.append(upsert(ACCEPTED).values(name=each.name, **now).on_conflict_do_nothing())
    return made


def strangers_in(connection: Connection) -> list[seals.Member]:
    """Return the members who came later, or went, and of whom nobody has said that this is right.

    It counts when this file's own member says so, or one who is accepted.
    """
    crew = membership_in(connection)
    if crew is None or not connection.dialect.has_table(connection, ACCEPTED.name):
        return []
    found = connection.execute(select(ACCEPTED)).mappings()
    known = {each["name"]: (each["key"], bool(each["removed"])) for each in found}
    members = {each.name: each for each in members_in(connection)}
    said = select(JOURNAL.c.member, JOURNAL.c.body).where(JOURNAL.c.body.contains('"member-accepted"'))
    for member, body in connection.execute(said.order_by(JOURNAL.c.number)):
        by = member or crew.member
        if by == crew.member or (by in members and known.get(by, ("",))[0] == members[by].key):
            entry = entry_of(body)
            if isinstance(entry, MemberAccepted):
                known[entry.name] = entry.key, entry.removed
    return [
        each for each in members.values()
        if each.name != crew.member and known.get(each.name) != (each.key, each.removed)
    ]  # fmt: skip


def stranger_words(each: seals.Member) -> str:
    """Say of a member who came later, or who went, that somebody has to say whether it is right."""
    name = display_text(each.name, 40)
    if each.removed:
        return phrase(
            "{name} was taken out of this crew. To accept that: 'askport crew members JOB --accept \"{name}\"'.",
            name=name,
        )
    return phrase(
        "{name} is new in this crew, with the key {key}. To accept it: 'askport crew members JOB --accept \"{name}\"'.",
        name=name,
        key=each.fingerprint,
    )


def seals_in(connection: Connection) -> list[seals.Seal]:
    """Return all seals, in the order of their pushes."""
    found = connection.execute(select(SEALS).order_by(SEALS.c.push, SEALS.c.place)).mappings()
    return [seals.Seal(each["member"], each["head"], each["place"], each["signature"], each["push"]) for each in found]


def heads_of(connection: Connection, push: int) -> set[str]:
    """Return up to which lines pushes of a number went; several where a database was put back, and gave it anew."""
    return set(connection.execute(select(SEALS.c.head).where(SEALS.c.push == push)).scalars())


def keeping_seal(seal: seals.Seal) -> Executable:
    """Return what writes a seal down."""
    values = {"place": seal.place, "signature": seal.signature, "push": seal.push}
    made = upsert(SEALS).values(head=seal.head, member=seal.member, **values)
    return made.on_conflict_do_update(index_elements=["head", "member"], set_=values)


def keeping_doubts(sentences: Iterable[str], *, anew: bool) -> list[Executable]:
    """Return what writes down what is not believed; ``anew`` where all of the database was read for it."""
    made: list[Executable] = [CreateTable(DOUBTS, if_not_exists=True), *([delete(DOUBTS)] if anew else [])]
    return [*made, *(upsert(DOUBTS).values(sentence=each).on_conflict_do_nothing() for each in sentences)]


def has_pushed(hashes: Iterable[str], member: str | None, at: datetime | None) -> list[Executable]:
    """Return what writes down whose lines these are, and when their crew had them; None where it does not."""
    every, steps, pushed = list(hashes), 500, at.isoformat() if at else None
    parts = [every[first : first + steps] for first in range(0, len(every), steps)]
    return [update(JOURNAL).where(JOURNAL.c.hash.in_(part)).values(member=member, pushed=pushed) for part in parts]


def strand_lines(connection: Connection, where: object = None, most: int | None = None) -> Iterator[strands.StrandLine]:
    """Yield lines with the hash of the one before each on its strand, in the order of the file."""
    before = JOURNAL.alias()
    joined = JOURNAL.outerjoin(before, before.c.number == JOURNAL.c.number - 1)
    previous = func.coalesce(JOURNAL.c.after, before.c.hash, "")
    found = select(
        JOURNAL.c.hash, JOURNAL.c.member, JOURNAL.c.place, previous, JOURNAL.c.at, JOURNAL.c.body
    ).select_from(joined)
    if where is not None:
        found = found.where(where)  # type: ignore[arg-type]
    found = found.order_by(JOURNAL.c.number)
    for row in connection.execute(found.limit(most) if most else found, execution_options={"yield_per": 2000}):
        yield strands.StrandLine(row[0], row[1] or "", *row[2:])


def unpushed(connection: Connection, most: int) -> list[strands.StrandLine]:
    """Return lines that the crew does not have yet, the first ones first."""
    return list(strand_lines(connection, JOURNAL.c.member.is_(None), most))


def waiting(connection: Connection) -> int:
    """Return how many lines the crew does not have yet."""
    return connection.execute(select(func.count()).where(JOURNAL.c.member.is_(None))).scalar() or 0


def places_of(connection: Connection, hashes: Iterable[str]) -> dict[str, int]:
    """Return the places of those lines that are there, by their hashes."""
    every, found = list(hashes), dict[str, int]()
    for first in range(0, len(every), 500):
        wanted = JOURNAL.c.hash.in_(every[first : first + 500])
        found |= {
            each.hash: each.place for each in connection.execute(select(JOURNAL.c.hash, JOURNAL.c.place).where(wanted))
        }
    return found


def times_of(connection: Connection, hashes: Sequence[str]) -> list[datetime]:
    """Return when those lines that are there say they were written."""
    found = list[str]()
    for first in range(0, len(hashes), 500):
        wanted = JOURNAL.c.hash.in_(hashes[first : first + 500])
        found += connection.execute(select(JOURNAL.c.at).where(wanted)).scalars()
    return [datetime.fromisoformat(each) for each in found]


def strand_heads(connection: Connection) -> set[tuple[str, str]]:
    """Return each member with the last line of each of its strands: what a crew's fingerprint is made of."""
    heads: dict[str, str] = {}
    for line in strand_lines(connection, JOURNAL.c.member.is_not(None)):
        if heads.get(line.before) == line.member:
            heads.pop(line.before)
        heads[line.hash] = line.member
    return {(member, hash_) for hash_, member in heads.items()}


def crew_words(job: HasCrew) -> seals.CrewWords | None:
    """Return what a paper says of a job file's crew, or None where it has none."""
    if job.crew is None:
        return None
    with job.engine.connect() as connection:
        strangers = {each.name for each in strangers_in(connection)}
        members = tuple((seals.as_member(each.name, strangers), each.fingerprint) for each in members_in(connection))
        return seals.CrewWords(job.crew.site, seals.crew_fingerprint(strand_heads(connection)), members)


def forks_in(connection: Connection) -> list[str]:
    """Return the members of whom two lines go on from the same one: their strand has forked."""
    seen: set[tuple[str, str]] = set()
    forks: dict[str, None] = {}
    for line in strand_lines(connection, JOURNAL.c.member.is_not(None)):
        after = line.member, line.before
        if line.before and after in seen:
            forks[line.member] = None
        seen.add(after)
    return list(forks)


def block_in(connection: Connection) -> list[IPv4Address]:
    """Return the free addresses that were dealt to this member."""
    return sorted(IPv4Address(each) for each in connection.execute(select(BLOCK.c.address)).scalars())


def block_of(job: HasCrew) -> frozenset[IPv4Address] | None:
    """Return the free addresses that a job file's laptop may give away; None for all, because it has no crew."""
    if job.crew is None or not job.crew.member:
        return None
    with job.engine.connect() as connection:
        return frozenset(block_in(connection))


def keeping_block(addresses: Iterable[IPv4Address]) -> list[Executable]:
    """Return what writes down which addresses were dealt to this member."""
    rows = [{"address": str(each)} for each in addresses]
    return [delete(BLOCK), *([insert(BLOCK).values(rows)] if rows else [])]
