"""How commands speak: one JSON document or sentences on standard output, everything else on standard error."""

import contextlib
import json
import sys
from enum import IntEnum
from typing import Annotated, Any

import typer

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


def put_json(document: dict[str, Any]) -> None:
    """Print the one JSON document of a command."""
    json.dump(document, sys.stdout, indent=2, ensure_ascii=False)
    sys.stdout.write("\n")
    sys.stdout.flush()


def say(sentence: str) -> None:
    """Tell people what happens, without disturbing the data; where nobody reads any more, nothing is said."""
    with contextlib.suppress(OSError):
        print(sentence, file=sys.stderr, flush=True)
