"""Where a device lands when a slip of the fingers, or of its memory, takes it elsewhere than planned."""

from collections.abc import Iterator
from ipaddress import IPv4Address

from askport.core.addresses import host_fault_of, rewritings
from askport.core.phrases import phrase

_STEPS = (1, -1, 2, -2, 10, -10, 100, -100)
"""One key beside the right one, or the neighbour's line of the plan."""


def landings(
    meant: IPv4Address, was: IPv4Address | None = None, delivered: IPv4Address | None = None
) -> list[IPv4Address]:
    """Return the addresses where a device may be that is not where it is meant to be, the likeliest first.

    Args:
        was: where it was before; somebody may have changed the last number only.
        delivered: where it falls back to.
    """
    found = dict.fromkeys(each for each in (delivered, was) if each)
    found |= dict.fromkeys(each for each in (*rewritings(meant), *_slips(meant, was)) if each != meant)
    return [each for each in found if not host_fault_of(each)]


def digit_by_digit(meant: IPv4Address, landed: IPv4Address) -> list[tuple[str, str, bool]]:
    """Return two addresses one under the other: of each place the two characters, and whether they are the same."""
    rows: list[tuple[str, str, bool]] = []
    for mine, theirs in zip(str(meant).split("."), str(landed).split("."), strict=True):
        wide = max(len(mine), len(theirs))
        if rows:
            rows.append((".", ".", True))
        rows += [(a, b, a == b) for a, b in zip(mine.rjust(wide), theirs.rjust(wide), strict=True)]
    return rows


def aligned(meant: IPv4Address, landed: IPv4Address) -> list[str]:
    """Return the two as lines of text, with a mark under each digit that differs."""
    rows = digit_by_digit(meant, landed)
    planned = "".join(mine for mine, _, _ in rows)
    there = "".join(theirs for _, theirs, _ in rows)
    marks = "".join(" " if same else "^" for _, _, same in rows)
    lines = [
        phrase("planned   {planned}", planned=planned),
        phrase("it is at  {there}", there=there),
        f"          {marks}",
    ]
    return [each.rstrip() for each in lines]


def _slips(meant: IPv4Address, was: IPv4Address | None) -> Iterator[IPv4Address]:
    octets = list(meant.packed)
    if was:  # only some of its numbers were changed
        for kept in (3, 2, 1):
            yield IPv4Address(was.packed[:kept] + meant.packed[kept:])
    for place in (3, 2):
        for step in _STEPS:
            if 0 <= octets[place] + step <= 255:
                yield IPv4Address(bytes((*octets[:place], octets[place] + step, *octets[place + 1 :])))
        for number in _one_key_less_or_twice(octets[place]):
            yield IPv4Address(bytes((*octets[:place], number, *octets[place + 1 :])))


def _one_key_less_or_twice(number: int) -> Iterator[int]:
    text = str(number)
    for place, digit in enumerate(text):
        for other in (text[:place] + text[place + 1 :], text[:place] + digit + text[place:]):
            if other and int(other) <= 255:
                yield int(other)
