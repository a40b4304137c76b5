"""What comes from a crew's database is believed line by line: each must follow, and each push must be sealed."""

from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass
from datetime import datetime

from askport.core.crew.seals import Seal, is_sealed
from askport.core.phrases import phrase
from askport.core.register import chain, entries
from askport.core.text import display_text

LONGEST_BODY = 16_000_000
"""Characters of one entry. What passed between a browser and a page is the longest there is."""


@dataclass(frozen=True, slots=True)
class StrandLine:
    """One line as it is in the database."""

    hash: str
    member: str
    place: int
    before: str
    """The hash of the line before it on its strand; an empty text for a first one."""
    at: str
    body: str
    push: int = 0

    @property
    def name(self) -> str:
        """What it is called in a sentence."""
        return phrase("line {place} of {member}", place=self.place, member=display_text(self.member, 40))


@dataclass(frozen=True, slots=True)
class Wrong:
    """A push that is not believed, and why: the first bad line, or its seal."""

    member: str
    because: str

    def __str__(self) -> str:
        return self.because


def fault_of(line: StrandLine, place_of: Callable[[str], int | None]) -> str:
    """Say why a line cannot be the one that its member wrote, or nothing.

    Args:
        place_of: returns the place of a known line by its hash, or None.
    """
    if len(line.body) > LONGEST_BODY:
        return phrase("{name} is longer than any line that Ask Port writes.", name=line.name)
    if line.hash != chain.chain_hash(line.before, line.place, line.at, line.body):
        return phrase("{name} has another hash than its text: it was changed in the database.", name=line.name)
    before = 0 if not line.before else place_of(line.before)
    if before is None:
        return phrase("{name} cannot be verified: the entry before it is missing.", name=line.name)
    if line.place != before + 1:
        return phrase(
            "{name} cannot be verified: the entry before it is its line {before}.", name=line.name, before=before
        )
    try:
        entries.entry_of(line.body)
    except ValueError:
        return phrase("{name} is no entry that this Ask Port can read: update it, or see what it is.", name=line.name)
    try:
        at = datetime.fromisoformat(line.at)
    except ValueError:
        at = None
    if at is None or at.tzinfo is None or at.isoformat() != line.at:
        return phrase(
            "{name} has a time that Ask Port does not write.", name=line.name
        )  # its bytes would not be found again in a file
    return ""


def check_push(
    seal: Seal, lines: Iterable[StrandLine], keys: Mapping[str, str], *, crew: str,
    place_of: Callable[[str], int | None],
) -> Wrong | None:  # fmt: skip
    """Return why one push is not believed, or None where it is: all lines follow, and its member sealed the last.

    Args:
        lines: of the push, in their order.
        keys: the members' public keys, as this laptop knows them.
        place_of: returns the place of a line that is known already, by its hash.
    """
    member = display_text(seal.member, 40)
    key = keys.get(seal.member)
    if key is None:
        return Wrong(seal.member, phrase("{member} is no member of this crew, and pushed lines.", member=member))
    here: dict[str, int] = {}
    last = None
    for line in lines:
        if line.member != seal.member:
            return Wrong(seal.member, phrase("{name} came with a push of {member}.", name=line.name, member=member))
        if last is not None and line.before != last:
            return Wrong(seal.member, phrase("{name} does not follow the line before it in its push.", name=line.name))
        last = line.hash
        if fault := fault_of(line, lambda each: here.get(each) or place_of(each)):
            return Wrong(seal.member, fault)
        here[line.hash] = line.place
    known = here.get(seal.head) or place_of(seal.head)
    if known != seal.place:
        return Wrong(
            seal.member,
            phrase(
                "The last line that {member} sealed, its line {place}, is missing.", member=member, place=seal.place
            ),
        )
    if not is_sealed(seal, key, crew=crew):
        return Wrong(
            seal.member,
            phrase(
                "{member} has not sealed its line {place}: the signature is not by its key.",
                member=member,
                place=seal.place,
            ),
        )
    if last is not None and last != seal.head:
        return Wrong(seal.member, phrase("{member} has not sealed the last line of what it pushed.", member=member))
    return None
