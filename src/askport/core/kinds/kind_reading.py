"""Reading a kind file: every mistake is one sentence with file, line and remedy."""

import re
import tomllib
from collections.abc import Iterable, Iterator, Sequence
from difflib import get_close_matches
from typing import Any

from pydantic import BaseModel, ValidationError

from askport.core.errors import BadInput
from askport.core.kinds import model, placeholders
from askport.core.phrases import phrase
from askport.core.text import display_text

_MAX_MISTAKES = 20
_WAYS: dict[str, type[BaseModel]] = {
    "console": model.ConsoleWay, "page": model.PageWay, "ping": model.PingWay, "hand": model.HandWay,
    "snmp": model.SnmpWay,
}  # fmt: skip


def read_kind(text: str, name: str) -> model.Kind:
    """Read a kind file; ``name`` is what it is called in sentences.

    Raises:
        BadInput: it has mistakes; the message has a sentence for each, one a line.
    """
    try:
        raw = tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        where = re.search(r"\(at line (\d+), column \d+\)", str(error))
        line = where[1] if where else str(text.count("\n") + 1)
        what = re.sub(r" \(at .*\)", "", str(error)).rstrip(".")
        raise BadInput(
            "{name}, line {line}: it is no TOML there ({what}): {toml_remedy}.",
            name=name,
            line=line,
            what=what[:1].lower() + what[1:],
            toml_remedy=_toml_remedy(text, int(line)),
        ) from None
    except (ValueError, RecursionError):  # Python's own limits, of which the parser says nothing
        lines = text.splitlines()
        line = next((str(at) for at, each in enumerate(lines, 1) if re.search(r"\d{300}|[\[{]{300}", each)), "1")
        raise BadInput(
            "{name}, line {line}: a number or a nested list there is too long: shorten it.", name=name, line=line
        ) from None
    try:
        kind = model.Kind.model_validate(raw)
    except ValidationError as error:
        lines = [_sentence(each, raw, text, name) for each in error.errors()[:_MAX_MISTAKES]]
        raise BadInput("\n".join(dict.fromkeys(lines))) from None
    if mistakes := [
        phrase("{name}, line {line_of}: {what}.", name=name, line_of=_line_of(text, path), what=what)
        for path, what in _unfilled(kind)
    ]:
        raise BadInput("\n".join(mistakes[:_MAX_MISTAKES]))
    return kind


def _toml_remedy(text: str, line: int) -> str:
    written = text.splitlines()[line - 1] if line <= text.count("\n") + 1 and text.splitlines() else ""
    if re.search(r"=\s*[A-Za-z][^\"'\[{]*$", written) and not re.search(r"=\s*(true|false)\s*$", written):
        return phrase("put text in quotation marks")
    if "\\" in written and '"' in written:
        return phrase("write a regular expression in single quotation marks, where a backslash is a backslash")
    return phrase("see that brackets and quotation marks are closed, and that each key stands once")


def _sentence(error: Any, raw: Any, text: str, name: str) -> str:
    path: list[str | int] = [part for part in error["loc"] if part not in _WAYS]
    line = _line_of(text, path)
    key = str(path[-1]) if path else ""
    where = phrase("{name}, line {line}", name=name, line=line)
    match error["type"]:
        case "missing":
            return phrase(
                "{where}: {table_of} has no {key}: add {key} = {example}.",
                where=where,
                table_of=_table_of(path[:-1]),
                key=key,
                example=_example(key),
            )
        case "extra_forbidden":
            known = _keys_beside(path, raw)
            close = get_close_matches(key, known, n=1)
            remedy = (
                phrase("{close} was probably meant", close=close[0])
                if close
                else phrase("{table_of} has {listed}", table_of=_table_of(path[:-1]), listed=_listed(known))
            )
            return phrase("{where}: {key} is not known: {remedy}.", where=where, key=key, remedy=remedy)
        case "union_tag_invalid" | "union_tag_not_found":
            given = str(error.get("ctx", {}).get("tag", ""))
            remedy = _meant(given, _WAYS, phrase("a way is by {listed}", listed=_listed(list(_WAYS))))
            what = (
                phrase('by = "{given}" is no way', given=display_text(given, 30))
                if given
                else phrase("a way says by what it goes")
            )
            return f"{where}: {what}: {remedy}."
        case "literal_error":
            choices = re.findall(r"'([^']+)'", error["ctx"]["expected"])
            quoted = _listed([_shown(each) for each in choices])
            remedy = _meant(str(error["input"]), choices, phrase("write {listed}", listed=quoted))
            return phrase(
                "{where}: {key} = {shown} is not known: {remedy}.",
                where=where,
                key=key,
                shown=_shown(error["input"]),
                remedy=remedy,
            )
        case "value_error":
            reason = str(error["ctx"]["error"])
            said = f"{key} = {_shown(error['input'])}: " if isinstance(error["input"], str) else ""
            return f"{where}: {said}{reason}."
    kind = {
        "tuple_type": phrase("a list in square brackets"),
        "string_type": phrase("text in quotation marks"),
        "dict_type": phrase("a table"),
    }
    wanted = kind.get(error["type"], "")
    if "int" in error["type"] or "float" in error["type"] or error["type"].startswith(("greater", "less")):
        wanted = _number(error)
    wanted = wanted or (phrase("a table") if "model" in error["type"] else error["msg"][:1].lower() + error["msg"][1:])
    return phrase(
        "{where}: {key} = {shown} does not fit: write {wanted}.",
        where=where,
        key=key,
        shown=_shown(error["input"]),
        wanted=wanted,
    )


def _meant(given: str, known: Iterable[str], otherwise: str) -> str:
    close = get_close_matches(given, list(known), n=1)
    return phrase('"{close}" was probably meant', close=close[0]) if close else otherwise


def _number(error: Any) -> str:
    ctx = error.get("ctx", {})
    if "ge" in ctx or "gt" in ctx:
        return phrase("a number from {least}", least=ctx.get("ge", ctx.get("gt")))
    return (
        phrase("a number up to {most}", most=ctx["le"]) if "le" in ctx else phrase("a number without quotation marks")
    )


def _shown(value: object) -> str:
    shown = display_text(str(value), 40)
    return f'"{shown}"' if isinstance(value, str) else shown


def _listed(words: Sequence[str]) -> str:
    return words[0] if len(words) == 1 else phrase("{first} or {last}", first=", ".join(words[:-1]), last=words[-1])


def _example(key: str) -> str:
    examples = {"schema": f'"{model.SCHEMA}"', "payload": "127", "expect": '"> "', "send": '"ip {address} {mask}"'}
    return examples.get(key, '"telnet"' if key == "over" else '"..."')


def _table_of(path: Sequence[str | int]) -> str:
    names = [str(each) for each in path if isinstance(each, str)]
    if not names:
        return phrase("the file")
    return phrase("this {names}", names=names[-1]) if isinstance(path[-1], int) else names[-1]


_TABLES: dict[str, type[BaseModel]] = {
    "recognise": model.Recognise,
    "delivered": model.DeliveredWith,
    "needs": model.Needs,
}


def _keys_beside(path: Sequence[str | int], raw: Any) -> list[str]:
    """Return the keys that may stand where an unknown one does."""
    kind: type[BaseModel] = model.Kind
    at = raw
    for part in path[:-1]:
        if isinstance(part, int):
            at = at[part]
            if isinstance(at, dict) and at.get("by") in _WAYS:
                kind = _WAYS[at["by"]]
            continue
        at = at[part]
        kind = _TABLES.get(part, kind)
        if part in ("set", "read", "keep", "login", "restart"):
            kind = model.PageStep if kind is model.PageWay else model.Line
    return [field.alias or name for name, field in kind.model_fields.items()]


def _line_of(text: str, path: Sequence[str | int]) -> int:
    """Return the line on which a key stands, or that of the table which it is missing in."""
    lines = text.splitlines() or [""]
    at, end = 0, len(lines)
    parts = list(path)
    if parts and parts[0] == "way" and len(parts) > 1 and isinstance(parts[1], int):
        starts = [number for number, line in enumerate(lines) if re.match(r"\s*\[\[\s*way\s*\]\]", line)]
        if parts[1] < len(starts):
            at = starts[parts[1]]
            end = next(
                (n for n in range(at + 1, len(lines)) if re.match(r"\s*\[", lines[n]) and _is_table(lines[n])), end
            )
        parts = parts[2:]
    elif len(parts) > 1 and isinstance(parts[0], str):
        at = next((n for n, line in enumerate(lines) if re.match(rf"\s*\[\s*{re.escape(parts[0])}\s*\]", line)), 0)
        end = next((n for n in range(at + 1, len(lines)) if _is_table(lines[n])), end)
        parts = parts[1:]
    elif not parts or isinstance(parts[0], str):
        end = next((n for n, line in enumerate(lines) if _is_table(line)), end) if parts and parts[0] != "way" else end
    if len(path) == 1:
        table = (n for n, each in enumerate(lines) if re.match(rf"\s*\[\[?\s*{re.escape(str(path[0]))}\s*\]", each))
        at, end = next(((n, n + 1) for n in table), (at, end))
    for part in parts:
        if isinstance(part, int):
            entries = [n for n in range(at, end) if "{" in lines[n].split("#")[0]]
            at = entries[part] if part < len(entries) else at
            continue
        found = (n for n in range(at, end) if re.search(rf"(^|[\s,{{]){re.escape(part)}\s*=", lines[n]))
        at = next(found, at)
    return at + 1


def _is_table(line: str) -> bool:
    return bool(re.match(r"\s*\[\[?\s*[\w.\"-]+\s*\]\]?\s*(#.*)?$", line))


def _unfilled(kind: model.Kind) -> Iterator[tuple[list[str | int], str]]:
    """Yield each placeholder that nothing gives a value for, with where it stands."""
    for place, way in enumerate(kind.way):
        found: set[str] = set()
        for part in ("login", "read", "set", "keep", "restart"):
            for number, step in enumerate(getattr(way, part, ())):
                path: list[str | int] = ["way", place, part, number]
                sent = [step.send] if isinstance(step, model.Line) else step.texts
                for text in sent:
                    if what := placeholders.unknown(text, frozenset(found)):
                        yield path, what
                if step.find:
                    found |= set(re.compile(step.find).groupindex)
