"""The journal: entries as lines, each tied by its hash to the one before it on its strand.

A strand is what one technician wrote into one file, one line after the other; its lines are counted. Joined files have
several, and a line that was made of two strands says in which lines they ended. A line is known by its hash, which
covers all that came before it on its strand: so the same line in two files is one, and what was handed over with the
hash of its last line can be found again in whatever the file became.
"""

from collections.abc import Collection, Iterable, Mapping
from datetime import datetime
from functools import cached_property
from hashlib import sha256
from heapq import heapify, heappop, heappush

from pydantic import AwareDatetime, BaseModel, ConfigDict

from askport.core.register.entries import Entry, Joined, entry_of


class Line(BaseModel):
    """One line of the journal: an entry with its time and its place."""

    model_config = ConfigDict(frozen=True, extra="forbid", defer_build=True)

    number: int
    """Its place in the file."""
    place: int
    """Its place on its strand."""
    after: str | None = None
    """The hash of the line before it on its strand, an empty text where it is the first; None where that is the line
    before it in the file."""
    at: AwareDatetime
    body: str
    """The entry as JSON, exactly as its hash was taken."""
    hash: str
    member: str | None = None
    """Which member of a crew wrote it; None where its crew does not have it yet, or there is none. It is no part of the
    hash: seals vouch for it."""
    pushed: AwareDatetime | None = None
    """When its crew's database had it, by the clock of that."""

    @cached_property
    def entry(self) -> Entry:
        """The entry itself, read once."""
        return entry_of(self.body)


def next_line(entry: Entry, at: AwareDatetime, last: Line | None, own: Line | None) -> Line:
    """Return an entry as the next line of a file.

    Args:
        own: the last line of the strand that it goes on with; in the file of a crew that may be an earlier one.
    """
    number = last.number + 1 if last else 1
    place, previous = (own.place + 1, own.hash) if own else (1, "")
    after = None if previous == (last.hash if last else "") else previous
    body = entry.model_dump_json()
    hash_ = chain_hash(previous, place, at.isoformat(), body)
    line = Line.model_construct(
        number=number, place=place, after=after, at=at, body=body, hash=hash_, member=None, pushed=None
    )
    line.__dict__["entry"] = entry  # as if it had been read already
    return line


def chain_hash(previous: str, place: int, at: str, body: str) -> str:
    """Return the hash that ties a line to all lines before it: SHA-256 over theirs and its own text."""
    return sha256("\n".join((previous, str(place), at, body)).encode()).hexdigest()


def believable(line: Line) -> datetime:
    """Return when a line was written, as far as its own clock can be believed: not after others had it."""
    return min(line.at, line.pushed) if line.pushed else line.at


def _moment(line: Line) -> tuple[datetime, int, str]:
    return believable(line), line.place, line.hash


def in_line(lines: Iterable[Line], behind: Mapping[str, Collection[str]]) -> list[Line]:
    """Return lines in an order that is the same in every file: each behind others, and by their times otherwise.

    Args:
        lines: in any order.
        behind: by the hash of each line, the hashes of those behind which it comes.
    """
    every = {line.hash: line for line in lines}
    before: dict[str, list[str]] = {}
    waits = dict.fromkeys(every, 0)
    for hash_ in every:
        for other in set(behind[hash_]) & every.keys():
            before.setdefault(other, []).append(hash_)
            waits[hash_] += 1
    ready = [_moment(every[hash_]) for hash_, count in waits.items() if not count]
    heapify(ready)
    ordered: dict[str, Line] = {}
    while len(ordered) < len(every):
        if not ready:  # lines that name each other, which no program of ours writes
            ready.append(min(_moment(line) for hash_, line in every.items() if hash_ not in ordered))
        hash_ = heappop(ready)[-1]
        if hash_ in ordered:
            continue
        ordered[hash_] = every[hash_]
        for after in before.get(hash_, ()):
            waits[after] -= 1
            if not waits[after]:
                heappush(ready, _moment(every[after]))
    return list(ordered.values())


class Chain:
    """Checks lines in the order of their file."""

    def __init__(self, last: Line | None = None, referred: Collection[str] = ()) -> None:
        """Prepare to check.

        Args:
            referred: hashes of lines that others than those right behind them come after.
        """
        self._number, self._place, self._hash = (last.number, last.place, last.hash) if last else (0, 0, "")
        self._places = {"": 0}
        self._referred = set(referred)
        self._loose: set[str] = set()
        self._is_whole = last is None

    def fits(self, number: int, place: int, after: str | None, at: str, body: str, hash_: str) -> bool:
        """Whether the next line is the one that was written there."""
        if after is None:
            previous, before = self._hash, self._place
        else:
            if self._hash and self._hash not in self._referred:
                self._loose.add(self._hash)
            known = self._places.get(after)
            if known is None and self._is_whole:
                return False
            previous, before = after, place - 1 if known is None else known
        fits = number == self._number + 1 and place == before + 1 and hash_ == chain_hash(previous, place, at, body)
        self._number, self._place, self._hash = number, place, hash_
        if hash_ in self._referred:
            self._places[hash_] = place
        if '"kind":"joined"' in body:
            joined = entry_of(body)
            self._loose -= set(joined.heads) if isinstance(joined, Joined) else set()
        return fits

    def ends_together(self, heads: Collection[str] = ()) -> bool:
        """Whether every strand leads to the last line, or ends where a member of a crew has sealed it."""
        return not self._loose - set(heads) or not self._is_whole


def order(lines: Iterable[Line]) -> list[Line]:
    """Return lines of several files as the lines of one: each once, by their times, none before its predecessor."""
    known: dict[str, Line] = {}
    predecessor: dict[str, str] = {}
    previous = ""
    for line in lines:
        if line.number == 1:
            previous = ""
        predecessor[line.hash] = previous if line.after is None else line.after
        known[line.hash] = line
        previous = line.hash
    behind = {hash_: {predecessor[hash_], *line.entry.upon} for hash_, line in known.items()}
    numbered = []
    last = ""
    for number, line in enumerate(in_line(known.values(), behind), 1):
        before = predecessor[line.hash]
        numbered.append(line.model_copy(update={"number": number, "after": None if before == last else before}))
        last = line.hash
    return numbered
