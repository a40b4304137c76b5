"""A lesson as a kind file that can be read, corrected and shared."""

import tomllib
from dataclasses import replace
from ipaddress import IPv4Interface
from typing import Any

import tomli_w

from askport.core.errors import BadInput, Refused
from askport.core.kinds.kind_reading import read_kind
from askport.core.lessons import console_lesson, page_lesson
from askport.core.lessons.marks import Marks


def draft(
    lesson: page_lesson.PageLesson, *, name: str, marks: Marks, secure: bool, port: int, after_restart: bool,
    learned: str, delivered: IPv4Interface | None = None, lasted: bool = False,
) -> str:  # fmt: skip
    """Return a kind file.

    Args:
        marks: of the unit that it was learned from; what its page was called comes to them.
        secure: whether the page is secured (HTTPS).
        port: where the page is.
        after_restart: whether the unit used its new settings only after a restart.
        learned: from which unit and when, as the file says it.
        delivered: where the unit was found as it was delivered, or None where that is not known.
        lasted: whether its settings were seen to survive a power cycle.

    Raises:
        Refused: what was learned makes no sound kind file.
    """
    way: dict[str, Any] = {"by": "page", "scheme": "https" if secure else "http"}
    if port != (443 if secure else 80):
        way["port"] = port
    way["takes_effect"] = "after restart" if after_restart else "at once"
    if lesson.by_header:
        way["log_in_by"] = "header"
    way |= {"permanent": "yes"} if lasted else {}
    way |= {"login": lesson.login} if lesson.login else {}
    way |= {"read": lesson.read} if lesson.read else {}
    way["set"] = lesson.set
    marks = replace(marks, texts=[lesson.title] if lesson.title else marks.texts)
    document = _headed(name, learned, lesson.words, marks, delivered)
    document |= {"needs": {"octets": "padded"}} if lesson.pads_octets else {}
    return _checked({**document, "way": [way]})


def _headed(name: str, learned: str, words: str, marks: Marks, delivered: IPv4Interface | None) -> dict[str, Any]:
    document: dict[str, Any] = {"schema": "askport.kind/1", "name": name, "notes": f"{learned}: {words}."}
    recognise = marks.recognise()
    document |= {"recognise": recognise} if recognise else {}
    return document | ({"delivered": {"address": str(delivered)}} if delivered else {})


def _checked(document: dict[str, Any]) -> str:
    """Return a kind file, once its own check has nothing against it.

    Raises:
        Refused: it has.
    """
    text = tomli_w.dumps(document)
    try:
        read_kind(text, "what was learned")
    except BadInput as error:
        raise Refused("What passed makes no sound kind, and nothing is kept: {fault}", fault=error.message) from None
    return text


def draft_console(
    lesson: console_lesson.ConsoleLesson, way: dict[str, Any], *, name: str, marks: Marks, learned: str,
    delivered: IPv4Interface | None = None, lasted: bool = False,
) -> str:  # fmt: skip
    """Return a kind file of a console.

    Args:
        way: how it is reached: ``over``, and its port or baud rate.
        learned: from which unit and when, as the file says it.
        delivered: where the unit was found as it was delivered, or None where that is not known.
        lasted: whether its settings were seen to survive a power cycle.
    """
    made = {**way, "takes_effect": "after restart" if lesson.restart else "at once"}
    made |= {"permanent": "after keep"} if lesson.keep else {"permanent": "yes"} if lesson.saves or lasted else {}
    parts = {"login": lesson.login, "set": lesson.set, "keep": lesson.keep, "restart": lesson.restart}
    made |= {key: lines for key, lines in parts.items() if lines}
    return _checked({**_headed(name, learned, lesson.words, marks, delivered), "way": [made]})


def add_keep(text: str, lesson: console_lesson.ConsoleLesson) -> str:
    """Return a kind file with the lines that have a device keep what it has, learned in a session of its own.

    Raises:
        ValueError: the file has no console.
    """
    document = tomllib.loads(text)
    way = next(each for each in document["way"] if each["by"] == "console")
    way |= {"permanent": "after keep", "keep": lesson.keep}
    return tomli_w.dumps(document)
