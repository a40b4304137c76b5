"""What people read: whole sentences with named values, said in the language of whoever reads them.

A phrase is text from the moment it is made, so whatever shows it needs to know nothing of this. It keeps its template
and its values as well, to be said again in another language: a handover is written in that of the customer.
"""

import re
from collections.abc import Iterable, Mapping, Sequence
from enum import IntEnum, StrEnum
from typing import Any, Protocol


class Language(Protocol):
    """Says templates in one language. English needs none: the templates are English."""

    def said(self, template: str) -> str:
        """Return the template in this language, with the same names in braces."""

    def counted(self, one: str, many: str, count: int) -> str:
        """Return the template that fits a number of things, as the language has plural forms."""

    def listed(self, things: Sequence[str]) -> str:
        """Return things as a sentence lists them."""


class English(Language):
    """The language that the templates are written in."""

    def said(self, template: str) -> str:
        return template

    def counted(self, one: str, many: str, count: int) -> str:
        return one if count == 1 else many

    def listed(self, things: Sequence[str]) -> str:
        *before, last = things or [""]
        return f"{', '.join(before)} and {last}" if before else last


ENGLISH = English()
_spoken: Language = ENGLISH


def speak(language: Language) -> None:
    """Say in this language what is said from now on: before other modules are loaded, whose tables have phrases."""
    global _spoken
    _spoken = language


class Phrase(str):
    """A text in the language that was spoken as it was made, with the template and the values that it was made of."""

    __slots__ = ("many", "template", "values")
    template: str
    values: Mapping[str, object]
    many: str
    """The template for several things, where it depends on ``count``."""

    def __new__(
        cls, template: str, values: Mapping[str, object] | None = None, many: str = "", language: Language | None = None
    ) -> "Phrase":
        """Say it; ``values`` may be phrases themselves, and lists of them."""
        language, values = language or _spoken, values or {}
        try:
            phrase = super().__new__(cls, _filled(template, values, many, language))
        except (LookupError, ValueError):
            if language is ENGLISH:
                raise
            phrase = super().__new__(cls, _filled(template, values, many, ENGLISH))  # a translation with other names
        phrase.template, phrase.values, phrase.many = template, values, many
        return phrase

    def in_language(self, language: Language) -> "Phrase":
        """Return it in another language, its values too."""
        return Phrase(self.template, self.values, self.many, language)


def _filled(template: str, values: Mapping[str, object], many: str, language: Language) -> str:
    """Return a template of a language with its values in it."""
    said = language.counted(template, many, int(str(values.get("count")))) if many else language.said(template)
    return said.format(**{name: _shown(each, language) for name, each in values.items()}) if values else said


def _shown(value: object, language: Language) -> object:
    """Return a value as it stands in a sentence of a language."""
    if isinstance(value, Phrase):
        return value.in_language(language)
    if isinstance(value, StrEnum):
        return language.said(value.value)
    if isinstance(value, list | tuple):
        return language.listed([str(_shown(each, language)) for each in value])
    return value


def phrase(template: str, /, **values: object) -> str:
    """Return a sentence, or a label, with its named values.

    The template is written where this is called: from there ``make texts`` takes it into the catalogue. What has no
    values is taken as it is, braces and all.
    """
    return template if isinstance(template, Phrase) and not values else Phrase(str(template), values)


def phrase_of(count: int, one: str, many: str, /, **values: object) -> str:
    """Return the one of two sentences that fits a number, which both may name as ``{count}``."""
    return Phrase(one, {"count": count, **values}, many)


def listed(things: Iterable[object]) -> str:
    """Return things as a sentence lists them: ``a``, ``a and b``, ``a, b and c``."""
    return Phrase("{things}", {"things": [each if isinstance(each, str) else str(each) for each in things]})


def together(*sentences: str) -> str:
    """Return whole sentences one behind another; empty ones are left out."""
    said = {f"sentence{place}": each for place, each in enumerate(filter(None, sentences))}
    return Phrase(" ".join(f"{{{name}}}" for name in said), said) if len(said) > 1 else next(iter(said.values()), "")


def begun(clause: str) -> str:
    """Return a clause that stands within other sentences too as the beginning of one."""
    return clause[:1].upper() + clause[1:]


_CODE_WORDS = 8
"""How many words of a template make its code."""


def code_of(text: str) -> str:
    """Return the words by which programs know a text: those of its template, without values; none for none.

    Where a template is worded anew, its code is to stay: it is given to the new one in ``KEPT_CODES``.
    """
    template = text.template if isinstance(text, Phrase) else re.sub(r"\S*\d\S*|[“'].*?[”']", "", text)
    if isinstance(text, Phrase) and not re.search(r"[^\W\d_]", re.sub(r"\{[^}]*\}", "", template)):
        return next((code for each in text.values.values() if isinstance(each, str) and (code := code_of(each))), "")
    words = re.findall(r"[a-z]+", re.sub(r"\{[^}]*\}", " ", template).lower())
    return KEPT_CODES.get(template, "-".join(words[:_CODE_WORDS]))


KEPT_CODES: dict[str, str] = {}
"""Codes of templates that were worded otherwise in an earlier version."""

_SENTENCES = ("because", "text")
"""Keys of sentences for people: a code for programs stands beside each."""


def coded(part: Any) -> Any:
    """Return a JSON document in English, with the code of each sentence beside it."""
    if isinstance(part, list | tuple):
        return [coded(each) for each in part]
    if not isinstance(part, dict):
        return part.in_language(ENGLISH) if isinstance(part, Phrase) else part
    whole: dict[str, Any] = {}
    for key, each in part.items():
        whole[key] = coded(each)
        if key in _SENTENCES and "code" not in part and each is not None:
            whole["code"] = code_of(each) if isinstance(each, str) else [code_of(one) for one in each]
    return whole


_PLACE = re.compile(r"\{([a-z][a-z0-9_]*)(:,?(\.\d)?[a-z%]?)?\}")
"""What a template that was stored may have in braces: a name, and how a number is written."""


def stored(text: str) -> str | dict[str, object]:
    """Return a text as it is kept: a phrase with its template and its values, so that any language can say it later."""
    if not isinstance(text, Phrase):
        return text
    values = {name: _kept(each) for name, each in text.values.items()}
    kept: dict[str, object] = {"said": text.template, "with": values}
    if text.many:
        kept["many"] = text.many
    english = text.in_language(ENGLISH)
    return kept if read_stored(kept, ENGLISH) == english else english + ""


def _kept(value: object) -> object:
    if isinstance(value, StrEnum):
        return value.value
    if isinstance(value, str):
        return stored(value)
    if isinstance(value, list | tuple):
        return [_kept(each) for each in value]
    return value if isinstance(value, int | float) and not isinstance(value, IntEnum) else str(value)


def read_stored(kept: object, language: Language | None = None) -> str:
    """Return a text that was kept.

    Files come from others: a template may name values and say how a number is written, and nothing else.

    Raises:
        ValueError: it is no text, or its template asks for more.
    """
    if isinstance(kept, str):
        return kept
    if not isinstance(kept, dict) or not isinstance(kept.get("with"), dict):
        raise ValueError("no text")
    values = {str(name): _read_value(each, language) for name, each in kept["with"].items()}
    for template in (kept.get("said"), kept.get("many", "")):
        if not isinstance(template, str) or (
            values and re.search(r"[{}]", _PLACE.sub("", template.replace("{{", "").replace("}}", "")))
        ):
            raise ValueError("no template")
    try:
        return Phrase(kept["said"], values, kept.get("many", ""), language)
    except (LookupError, TypeError, ValueError):
        raise ValueError("its values do not fit its template") from None


def _read_value(kept: object, language: Language | None) -> object:
    if isinstance(kept, list):
        return [_read_value(each, language) for each in kept]
    return kept if isinstance(kept, int | float) else read_stored(kept, language)
