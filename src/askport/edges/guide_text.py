"""The guide, as it is in every package: by situation what to do."""

from collections.abc import Iterable
from dataclasses import dataclass
from functools import cache
from importlib.resources import files

_HEAD = "## "


@dataclass(frozen=True, slots=True)
class Part:
    """What to do in one situation."""

    heading: str
    text: str
    """In Markdown, without its heading."""


@cache
def parts() -> tuple[Part, ...]:
    """Return the parts of the guide, in its order."""
    whole = files("askport").joinpath("guide.md").read_text(encoding="utf-8")
    found = []
    for piece in f"\n{whole}".split(f"\n{_HEAD}")[1:]:
        heading, _, text = piece.partition("\n")
        found.append(Part(heading.strip(), text.strip()))
    return tuple(found)


def fitting_parts(words: Iterable[str]) -> list[Part]:
    """Return the parts whose headings have all the words, or else those whose texts have them; case does not count."""
    wanted = [each.casefold() for each in words]
    by_heading = [each for each in parts() if all(word in each.heading.casefold() for word in wanted)]
    whole = [(each, f"{each.heading} {each.text}".casefold()) for each in parts()]
    return by_heading or [each for each, text in whole if all(word in text for word in wanted)]
