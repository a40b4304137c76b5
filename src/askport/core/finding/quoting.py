"""A sentence opened to its frame: which bytes say so."""

from dataclasses import dataclass

from askport.core.finding.clues import Clue
from askport.core.formats.frame_fields import Field, fields_of
from askport.core.phrases import phrase
from askport.core.wire import Heard


@dataclass(frozen=True, slots=True)
class Marked:
    """A field, and whether the sentence rests on it."""

    field: Field
    says_so: bool


def bytes_behind(heard: Heard, clue: Clue) -> list[Marked]:
    """Return the fields of a frame, those that say what the clue tells marked.

    Text and addresses inside a message that has no fields of its own here are marked where they stand.
    """
    values = {str(each) for each in (clue.address, clue.about) if each}
    marked: list[Marked] = []
    for field in fields_of(heard.data):
        inside = _inside(heard.data, field, clue)
        named = field.name in clue.kind.by_what_they_are
        holds = field.value in values or any(field.value.endswith(f": {value}") for value in values)
        texts = bool(clue.text) and clue.text in field.value
        marked.append(Marked(field, named or holds or texts))
        if inside and not (named or holds or texts):
            marked[-1] = Marked(field, False)
            marked.append(Marked(inside, True))
    return marked


def _inside(data: bytes, field: Field, clue: Clue) -> Field | None:
    """Return where a long field holds the clue's address or text."""
    if field.length <= 16:
        return None
    raw = data[field.offset : field.end]
    needles = [(each.packed, str(each)) for each in (clue.address, clue.about) if each]
    needles += [(str(each).encode(), str(each)) for each in (clue.address, clue.about) if each]
    if clue.text:
        needles.append((clue.text.encode(), clue.text))
    for needle, value in needles:
        place = raw.find(needle)
        if place >= 0:
            return Field(field.offset + place, len(needle), phrase("in the {name} message", name=field.name), value)
    return None
