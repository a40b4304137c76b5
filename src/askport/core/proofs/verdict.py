"""What proofs add up to: the one rule for the command line, the screen, the crate and the register."""

from collections.abc import Collection, Iterable
from dataclasses import dataclass
from typing import Protocol

from askport.core.phrases import phrase


@dataclass(frozen=True, slots=True, kw_only=True)
class Outcome:
    """A proof's outcome, for the journal, the screen and JSON."""

    name: str
    expected: str
    measured: str
    passed: bool | None
    """None where the proof could not be made."""
    because: str


class Judged(Protocol):
    """What has the name of a proof, and how it ended."""

    @property
    def name(self) -> str:
        """Which proof it is."""

    @property
    def passed(self) -> bool | None:
        """None where it could not be made."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Verdict:
    """The names of the proofs, by how they ended."""

    passed: tuple[str, ...]
    failed: tuple[str, ...]
    not_made: tuple[str, ...]

    @property
    def nothing_failed(self) -> bool:
        """Whether all that could be made have passed, and at least one could."""
        return bool(self.passed) and not self.failed

    def is_pass(self, asked: Collection[str]) -> bool:
        """Whether nothing failed, and nothing that was asked for by name is missing."""
        return self.nothing_failed and not self.missing(asked)

    def missing(self, asked: Collection[str]) -> tuple[str, ...]:
        """Return what was asked for by name and was not made."""
        return tuple(each for each in asked if each not in self.passed and each not in self.failed)

    @property
    def words(self) -> str:
        """Say how many passed or failed, and how many are missing: none of them is among those that passed."""
        if self.failed:
            return phrase("{count} failed", count=len(self.failed))
        values = {"passed": len(self.passed), "missing": len(self.not_made)}
        return phrase("{passed} passed, {missing} not made" if self.not_made else "{passed} passed", **values)


def verdict_of(outcomes: Iterable[Judged]) -> Verdict:
    """Return what outcomes add up to; a proof that is named twice counts as it ended last, and a failure stays."""
    last: dict[str, bool | None] = {}
    for each in outcomes:
        last[each.name] = False if last.get(each.name) is False else each.passed
    by = {how: tuple(name for name, passed in last.items() if passed is how) for how in (True, False, None)}
    return Verdict(passed=by[True], failed=by[False], not_made=by[None])
