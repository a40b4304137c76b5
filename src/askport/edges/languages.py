"""The languages that phrases are said in: catalogues of gettext, lists by Babel, and one that shows what is none."""

import gettext
import re
from collections.abc import Mapping, Sequence
from pathlib import Path

from askport.core.phrases import ENGLISH, Language

_CATALOGUES = Path(__file__).parent.parent / "locale"
_PSEUDO = "xx"
_ASKED_BY = ("LANGUAGE", "LC_ALL", "LC_MESSAGES", "LANG")
"""Variables of the environment that name a language, the first that is set counts (gettext(3))."""
_MARKED = str.maketrans("aeiouAEIOU", "áéíóúÁÉÍÓÚ")


class Translated(Language):
    """A language with a catalogue. What it has not is said in English."""

    def __init__(self, name: str, catalogues: Path = _CATALOGUES) -> None:
        """Open it; FileNotFoundError where there is none."""
        self._name, self._texts = name, gettext.translation("askport", catalogues, [name])

    def said(self, template: str) -> str:
        return self._texts.gettext(template) if template else template

    def counted(self, one: str, many: str, count: int) -> str:
        return self._texts.ngettext(one, many, count)

    def listed(self, things: Sequence[str]) -> str:
        from babel.lists import format_list

        return format_list(things, locale=self._name)


class Pseudo(Language):
    """A language that nobody speaks: each text marked at both ends, accented, and longer by a third.

    On a screen in it, what has no marks never was a phrase, and what has one mark only was cut.
    """

    def said(self, template: str) -> str:
        parts = re.split(r"(\{[^}]*\})", template)
        if not any(each.isalpha() for part in parts[::2] for each in part):
            return template
        accented = "".join(part if part.startswith("{") else part.translate(_MARKED) for part in parts)
        return f"⟦{accented}{'·' * (len(template) // 3)}⟧" if template else template

    def counted(self, one: str, many: str, count: int) -> str:
        return self.said(one if count == 1 else many)

    def listed(self, things: Sequence[str]) -> str:
        return " ánd ".join(things)


def chosen(environment: Mapping[str, str]) -> Language:
    """Return the language that somebody's environment asks for, English where there is no catalogue of it."""
    wanted = next((environment[each] for each in _ASKED_BY if environment.get(each)), "")
    for each in wanted.split(":"):
        name = re.split(r"[.@]", each)[0]
        if name == _PSEUDO:
            return Pseudo()
        if name[:2] in ("", "C", "en") or name == "POSIX":
            return ENGLISH
        for known in (name, name[:2]):
            if gettext.find("askport", _CATALOGUES, [known]):
                return Translated(known)
    return ENGLISH
