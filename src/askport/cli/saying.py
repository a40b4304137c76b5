"""How commands speak: one JSON document or sentences on standard output, everything else on standard error."""

import codecs
import contextlib
import io
import json
import sys
from enum import IntEnum
from typing import Annotated, Any

import typer

from askport.core.phrases import coded, phrase
from askport.core.plain_signs import encodable, plain

JsonOption = Annotated[bool, typer.Option("--json", help="Print one JSON document.")]


class Status(IntEnum):
    """Exit statuses (contract)."""

    DONE = 0
    """Done, found, or proven."""
    NO = 1
    """The work ran and the answer is no."""
    USAGE = 2
    """Wrong usage or bad input."""
    MACHINE = 3
    """The machine would not let it."""
    INTERRUPTED = 130
    """Ended by the user or a signal, after everything borrowed was given back."""


def print_plain() -> None:
    """Print our signs as others that look like them, where the terminal's locale has not all of them."""
    for stream in (sys.stdout, sys.stderr):
        if isinstance(stream, io.TextIOWrapper) and encodable(stream.encoding):
            codecs.register_error("askport", _plain)
            stream.reconfigure(errors="askport")


def _plain(error: UnicodeError) -> tuple[str, int]:
    if not isinstance(error, UnicodeEncodeError):
        raise error
    has = encodable(error.encoding) or str.isascii
    return plain(error.object[error.start : error.end], has), error.end


def put_json(document: dict[str, Any]) -> None:
    """Print the one JSON document of a command, in which a code stands beside each sentence."""
    json.dump(coded(document), sys.stdout, indent=2, ensure_ascii=encodable(sys.stdout.encoding or "") is not None)
    sys.stdout.write("\n")
    sys.stdout.flush()


def say(sentence: str, /, **values: object) -> None:
    """Tell people what happens, without disturbing the data; where nobody reads any more, nothing is said."""
    with contextlib.suppress(OSError):
        print(phrase(sentence, **values), file=sys.stderr, flush=True)


def was_pulled(question: str) -> bool:
    """Ask for what only hands can know, as the screen does: Enter says yes. Whatever else, and nobody there, is no."""
    if not sys.stdin.isatty():
        return False
    say("{question} Press Enter if so; type n and press Enter if not.", question=question)
    answer = sys.stdin.readline()
    return answer != "" and answer.strip().casefold() in ("", "y", "yes")  # the end of the input confirms nothing
