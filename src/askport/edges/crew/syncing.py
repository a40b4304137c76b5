"""Bringing a job file and its crew's database together: lines first, then the frames that are kept with them.

Reading and pushing go by a connection of their own to the job file, so that a screen can have them done beside it. What
changes the file (:func:`adopt`, :func:`mark_pushed`) is left to whoever has it open.
"""

import re
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime, timedelta
from itertools import groupby

from sqlalchemy import Engine, Executable, delete, select

from askport.core.crew.seals import Member, Seal, seal
from askport.core.crew.strands import StrandLine, Wrong, check_push
from askport.core.errors import BadInput, Refused
from askport.core.phrases import phrase
from askport.core.register import chain, in_order
from askport.core.text import display_text
from askport.edges.crew import job_part
from askport.edges.crew.job_part import Membership
from askport.edges.crew.server import AT_ONCE, News, Server
from askport.edges.job_tables import GROWN, JOURNAL
from askport.edges.jobfile import JobFile

_DOUBTED = "?"
"""Stands for a database of which something was not believed: it is read again as a whole each time."""
_MOST = 2000
"""Lines that are read at once by a command; a screen takes fewer."""
_CLOCKS_S = 120.0
"""A difference of clocks from which on it is said."""


@dataclass(slots=True)
class Pulled:
    """Pushes that are believed, and what is wrong with others."""

    membership: Membership
    members: list[Member] = field(default_factory=list)
    seals: list[Seal] = field(default_factory=list)
    fresh: list[StrandLine] = field(default_factory=list)
    """Lines that the file does not have, each behind the one before it."""
    known: list[StrandLine] = field(default_factory=list)
    """Lines that it has."""
    wrong: list[Wrong] = field(default_factory=list)
    is_all: bool = True
    """Whether nothing more is there."""
    clock_off: timedelta = timedelta()
    """By how much the database's clock is ahead of the laptop's."""
    was_put_back: bool = False
    """Whether the database may have less than it had, or was filled anew: own lines may be missing there."""

    @property
    def is_empty(self) -> bool:
        """Whether there is nothing to write down."""
        return not (self.seals or self.fresh or self.known)


def pull(server: Server, engine: Engine, crew: Membership, *, digest: bool = False, most: int = _MOST) -> Pulled:
    """Read what is new, and check it line by line; nothing is written.

    Args:
        digest: whether to see too that nothing changed of what was read before.

    Raises:
        BadInput: it is another crew's database, or of another version.
        MachineRefused: the connection was lost.
    """
    news = server.news(crew.pulled, digest=digest, most=most)
    if news.crew != crew.crew:
        shown = display_text(server.url, 120)
        raise BadInput(
            "'{shown}' is the database of another crew, {site}: name this job's own.",
            shown=shown,
            site=display_text(news.site, 60),
        )
    with engine.connect() as connection:
        heads = job_part.heads_of(connection, crew.pulled)
    # The numbers of pushes that a backup lacks are given anew: the same number with another line is another push.
    if news.epoch != crew.epoch or news.last < crew.pulled or (heads and news.after not in heads):
        # Another database that was filled anew, or one that was put back: all of it is read again.
        lost = changes(server, engine, crew) if news.epoch == crew.epoch else []
        told = _anew(server, engine, crew, most)
        told.was_put_back = True
        return _doubting(told, lost)
    if digest and crew.digest is not None and news.digest != crew.digest:
        found = changes(server, engine, crew)
        # Where all is right again, what was not believed before is taken now.
        told = _doubting(_checked(engine, crew, news), found) if found else _anew(server, engine, crew, most)
        told.was_put_back = bool(found)
        return told
    return _checked(engine, crew, news)


def _anew(server: Server, engine: Engine, crew: Membership, most: int) -> Pulled:
    """Begin to read all of it again."""
    news = server.news(0, most=most)
    return _checked(engine, replace(crew, epoch=news.epoch, pulled=0, digest=None), news)


def _doubting(told: Pulled, wrong: Sequence[Wrong]) -> Pulled:
    """Return it with more that is wrong: all of the database is read again each time until nothing is."""
    told.wrong += wrong
    if told.wrong:
        told.membership = replace(told.membership, digest=_DOUBTED)
    return told


def _checked(engine: Engine, crew: Membership, news: News) -> Pulled:
    told = Pulled(crew, clock_off=news.now - datetime.now(UTC))
    with engine.connect() as connection:
        known_members = {each.name: each for each in job_part.members_in(connection)}
        told.members, told.wrong = _members(news.members, known_members)
        keys = {each.name: each.key for each in told.members}
        named = {each for line in news.lines for each in (line.hash, line.before)}
        there = job_part.places_of(connection, named | {each.head for each in news.pushes})
        by_push = {push: list(lines) for push, lines in groupby(news.lines, key=lambda line: line.push)}
        here = dict(there)
        come = {line.hash: line.place for line in news.lines}
        for push in news.pushes:
            lines = by_push.get(push.push, [])
            # Lines that were lost are pushed anew: they come with a later push than the one that sealed them first.
            known = here if lines else come | here
            if wrong := check_push(push, lines, keys, crew=crew.crew, place_of=known.get):
                told.wrong.append(wrong)
            else:
                here |= {line.hash: line.place for line in lines}
                told.seals.append(push)
                for line in lines:
                    (told.known if line.hash in there else told.fresh).append(line)
    last = max((each.push for each in news.pushes), default=crew.pulled)
    digest = crew.digest if last == crew.pulled or crew.digest == _DOUBTED else None
    told.membership = replace(crew, epoch=news.epoch, site=news.site, pulled=last, digest=digest)
    told.is_all = last >= news.last
    return _doubting(told, ())


def _members(told: Sequence[Member], known: dict[str, Member]) -> tuple[list[Member], list[Wrong]]:
    """Return the members with the keys that were seen of them first, and who has another now, or none."""
    wrong = []
    members = []
    for each in told:
        if not re.fullmatch("[0-9a-f]{64}", each.key):
            name = display_text(each.name, 40)
            wrong.append(
                Wrong(each.name, phrase("{name} has no key in the database: nothing of {name} is taken.", name=name))
            )
            continue
        before = known.get(each.name)
        if before and before.key != each.key:
            name = display_text(each.name, 40)
            text = phrase(
                "{name} has another key in the database than before: nothing is taken that is not by the first one.",
                name=name,
            )
            wrong.append(Wrong(each.name, text))
            each = replace(each, key=before.key)
        members.append(each)
    return members, wrong


def changes(server: Server, engine: Engine, crew: Membership) -> list[Wrong]:
    """Read again what was read before, and say what was changed, added or taken away since then."""
    found: list[Wrong] = []
    seen: set[str] = set()
    at = 0
    with engine.connect() as connection:
        known_members = {each.name: each for each in job_part.members_in(connection)}
        places: dict[str, int] = {}
        while True:
            news = server.news(at)
            keys = {each.name: each.key for each in _members(news.members, known_members)[0]}
            by_push = {push: list(lines) for push, lines in groupby(news.lines, key=lambda line: line.push)}
            come = {line.hash: line.place for line in news.lines}
            for push in news.pushes:
                lines = by_push.get(push.push, [])
                known = places if lines else come | places
                if wrong := check_push(push, lines, keys, crew=crew.crew, place_of=known.get):
                    found.append(wrong)
                places |= {line.hash: line.place for line in lines}
                seen |= {line.hash for line in lines}
            if not news.pushes:
                break
            at = news.pushes[-1].push
        had = job_part.strand_lines(connection, JOURNAL.c.member.is_not(None))
        lost = [each for each in had if each.hash not in seen]
        found += [
            Wrong(each.member, phrase("{name} is missing in the database, and this file has it.", name=each.name))
            for each in lost
        ]
    return list({each.member: each for each in reversed(found)}.values())[::-1]


def adopt(job: JobFile, pulled: Pulled) -> None:
    """Write down what was read, all or nothing.

    Raises:
        MachineRefused: the disk is full or will not be written.
    """
    lines: list[chain.Line] = []
    number, last = job.count, job.fingerprint
    pushed = {seal.push: seal.at for seal in pulled.seals}
    for each in pulled.fresh:
        number += 1
        after = None if each.before == last else each.before
        at = datetime.fromisoformat(each.at)
        lines.append(chain.Line(
            number=number, place=each.place, after=after, at=at, body=each.body, hash=each.hash, member=each.member,
            pushed=pushed[each.push],
        ))  # fmt: skip
        last = each.hash
    statements = [job_part.keeping_membership(pulled.membership), *job_part.keeping_members(pulled.members)]
    statements += map(job_part.keeping_seal, pulled.seals)
    known = [
        ([each.hash for each in part], member, pushed[push])
        for (member, push), part in groupby(pulled.known, key=lambda each: (each.member, each.push))
    ]
    job.adopt(lines, (), [*statements, *_pushed(job, known)])
    job.belong_to(pulled.membership)
    job.grow_anew()


def runs(lines: Sequence[StrandLine]) -> list[list[StrandLine]]:
    """Return lines in pieces of one strand each: a seal vouches for what its last line follows, and no more."""
    found: list[list[StrandLine]] = []
    for line in lines:
        if found and found[-1][-1].hash == line.before:
            found[-1].append(line)
        else:
            found.append([line])
    return found


def push(server: Server, engine: Engine, crew: Membership, key: bytes) -> list[tuple[list[str], Seal]]:
    """Push lines that the database does not have, about as many as go at once; return their hashes with each seal.

    Raises:
        Refused: the database does not take them.
        MachineRefused: the connection was lost.
    """
    with engine.connect() as connection:
        lines = job_part.unpushed(connection, AT_ONCE)
    told = []
    for run in runs([replace(each, member=crew.member) for each in lines]):
        last = run[-1]
        made = seal(key, crew=crew.crew, member=crew.member, head=last.hash, place=last.place)
        told.append(([each.hash for each in run], server.push(run, made)))
    return told


def mark_pushed(job: JobFile, crew: Membership, told: Sequence[tuple[Sequence[str], Seal]]) -> None:
    """Write down what was pushed.

    Raises:
        MachineRefused: the disk is full or will not be written.
    """
    parts = [(hashes, crew.member, made.at) for hashes, made in told]
    job.change(*_pushed(job, parts), *(job_part.keeping_seal(made) for _, made in told))
    job.grow_anew()


def _pushed(job: JobFile, parts: Iterable[tuple[Sequence[str], str, datetime | None]]) -> list[Executable]:
    """Return what writes down when the crew had lines; the register is made anew where a clock was ahead by that."""
    statements: list[Executable] = []
    for hashes, member, at in parts:
        statements += job_part.has_pushed(hashes, member, at)
        with job.engine.connect() as connection:
            if at and any(in_order.is_ahead(when, at) for when in job_part.times_of(connection, hashes)):
                statements.append(delete(GROWN))
    return statements


@dataclass(slots=True)
class Synced:
    """What a meeting with the database came to."""

    pulled: int = 0
    pushed: int = 0
    wrong: list[Wrong] = field(default_factory=list)
    notes: list[str] = field(default_factory=list)


def sync(server: Server, job: JobFile, key: bytes | None, *, digest: bool = True) -> Synced:
    """Bring both together, as often as something is new.

    Args:
        job: a job file that is open for writing, and belongs to the crew.
        key: its member's private key, or None where it only reads.
        digest: whether to see too that nothing changed of what was read before.

    Raises:
        Refused: the database does not take what is pushed.
        MachineRefused: the connection was lost, or the file cannot be written.
    """
    crew, done, put_back, is_whole = job.crew, Synced(), False, digest
    if crew is None:
        raise Refused(
            "'{path}' belongs to no crew: 'askport crew join' joins one.", path=display_text(str(job.path), 120)
        )
    while True:
        told = pull(server, job.engine, crew, digest=digest)
        done.wrong += [each for each in told.wrong if each not in done.wrong]
        done.pulled += len(told.fresh)
        done.notes += [each for each in notes_of(told) if each not in done.notes]
        crew, digest, put_back = told.membership, False, put_back or told.was_put_back
        adopt(job, told)
        if told.is_all:
            break
    if key and put_back:
        push_again(server, job, crew)
    while key and (pushed := push(server, job.engine, crew, key)):
        mark_pushed(job, crew, pushed)
        done.pushed += sum(len(hashes) for hashes, _ in pushed)
    job.change(*job_part.keeping_doubts(map(str, done.wrong), anew=is_whole))
    if done.wrong:
        _keep_digest(job, _DOUBTED)
    elif job.crew and (done.pushed or job.crew.digest is None):  # own pushes are read too: they may be lost there later
        done.pulled += _add_up(server, job)
    return done


def _add_up(server: Server, job: JobFile) -> int:
    """Write down how the database adds up all lines that were read by now, to see at the next time what was changed."""
    more = 0
    while crew := job.crew:
        news = server.news(crew.pulled, digest=True)
        if not news.pushes:
            _keep_digest(job, news.digest)
            break
        told = _checked(job.engine, crew, news)  # own pushes, and whatever came meanwhile
        adopt(job, told)
        more += len(told.fresh)
        if told.wrong:
            _keep_digest(job, _DOUBTED)
            break
    return more


def _keep_digest(job: JobFile, digest: str | None) -> None:
    if job.crew:
        told = replace(job.crew, digest=digest)
        job.change(job_part.keeping_membership(told))
        job.belong_to(told)


def push_again(server: Server, job: JobFile, crew: Membership) -> None:
    """Have own lines pushed again that a database which was filled anew does not have."""
    with job.engine.connect() as connection:
        own = list(connection.execute(select(JOURNAL.c.hash).where(JOURNAL.c.member == crew.member)).scalars())
    for first in range(0, len(own), AT_ONCE):
        part = own[first : first + AT_ONCE]
        there = server.known(part)
        if lost := [each for each in part if each not in there]:
            job.change(*job_part.has_pushed(lost, None, None))


def notes_of(told: Pulled) -> list[str]:
    """Say what is odd and no fault."""
    notes = []
    off_s = told.clock_off.total_seconds()
    if abs(off_s) > _CLOCKS_S:
        which = "behind" if off_s > 0 else phrase("ahead of")
        notes.append(
            phrase(
                "This laptop's clock is {span} {which} the database's: set it, the record has its times.",
                span=_span(abs(off_s)),
                which=which,
            )
        )
    own = [each for each in told.fresh if each.member == told.membership.member]
    if own:
        lines = f"{len(own)} lines" if len(own) > 1 else phrase("1 line")
        notes.append(
            phrase(
                "The database had {lines} of {member} that this file had not. An older copy of it was "
                "put back, or two laptops use the name.",
                lines=lines,
                member=display_text(told.membership.member, 40),
            )
        )
    return notes


def _span(seconds: float) -> str:
    if seconds < 7200:
        return f"{seconds / 60:.0f} minutes"
    return f"{seconds / 3600:.0f} hours" if seconds < 172_800 else f"{seconds / 86_400:.0f} days"
