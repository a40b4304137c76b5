"""The journal: entries as lines, each tied by its hash to the one before it on its strand.

A strand is what one technician wrote into one file, one line after the other; its lines are counted. Joined files have
several, and a line that was made of two strands says in which lines they ended. A line is known by its hash, which
covers all that came before it on its strand: so the same line in two files is one, and what was handed over with the
hash of its last line can be found again in whatever the file became.
"""

from collections.abc import Collection, Iterable
from functools import cached_property
from hashlib import sha256

from pydantic import AwareDatetime, BaseModel, ConfigDict

from askport.core.register.entries import Entry, Found, Joined, entry_of


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

    @cached_property
    def entry(self) -> Entry:
        """The entry itself, read once."""
        return entry_of(self.body)


def next_line(entry: Entry, at: AwareDatetime, last: Line | None, own: Line | None) -> Line:
    """Return an entry as the next line of a file.

    Args:
        entry: what it says.
        at: when.
        last: the last line of the file.
        own: the last line of the strand that it goes on with; in the file of a crew that may be an earlier one.
    """
    number = last.number + 1 if last else 1
    place, previous = (own.place + 1, own.hash) if own else (1, "")
    after = None if previous == (last.hash if last else "") else previous
    body = entry.model_dump_json()
    hash_ = chain_hash(previous, place, at.isoformat(), body)
    line = Line.model_construct(number=number, place=place, after=after, at=at, body=body, hash=hash_, member=None)
    line.__dict__["entry"] = entry  # as if it had been read already
    return line


def chain_hash(previous: str, place: int, at: str, body: str) -> str:
    """Return the hash that ties a line to all lines before it: SHA-256 over theirs and its own text."""
    return sha256("\n".join((previous, str(place), at, body)).encode()).hexdigest()


def _moment(line: Line) -> tuple[AwareDatetime, int, str]:
    return line.at, line.place, line.hash


def in_time(lines: Iterable[Line]) -> list[Line]:
    """Return lines of several members in the order of time, which is the same in every file.

    Laptops' clocks differ. What somebody says of a device comes behind its being found all the same, whatever the clock
    of whoever found it said: it would be said of nothing.
    """
    ordered = sorted(lines, key=_moment)
    found: dict[bytes, AwareDatetime] = {}
    for line in ordered:
        if isinstance(line.entry, Found):
            found.setdefault(line.entry.mac, line.at)

    def behind_its_device(line: Line) -> tuple[AwareDatetime, bool, AwareDatetime, int, str]:
        mac = getattr(line.entry, "mac", None)
        first = found.get(mac) if mac else None
        waits = first is not None and line.at < first
        return (first if waits and first else line.at), waits, *_moment(line)

    return sorted(ordered, key=behind_its_device)


class Chain:
    """Checks lines in the order of their file."""

    def __init__(self, last: Line | None = None, referred: Collection[str] = ()) -> None:
        """Prepare to check.

        Args:
            last: the line before the first that is checked.
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
        if body.startswith('{"kind":"joined"'):
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
    ordered: list[Line] = []
    placed = {""}
    waiting: dict[str, list[Line]] = {}
    for line in sorted(known.values(), key=_moment):
        ready = [line]
        while ready:
            one = ready.pop()
            if predecessor[one.hash] not in placed:
                waiting.setdefault(predecessor[one.hash], []).append(one)
                continue
            ordered.append(one)
            placed.add(one.hash)
            ready += reversed(waiting.pop(one.hash, []))
    numbered = []
    last = ""
    for number, line in enumerate(ordered, 1):
        before = predecessor[line.hash]
        numbered.append(line.model_copy(update={"number": number, "after": None if before == last else before}))
        last = line.hash
    return numbered
