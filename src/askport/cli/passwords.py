"""Passwords: asked for on the terminal or read from a file, never an argument."""

import sys
from getpass import getpass
from pathlib import Path
from typing import Annotated

import typer

from askport.core.errors import BadInput
from askport.core.phrases import phrase
from askport.core.text import display_text
from askport.edges.files import read_text

PasswordOption = Annotated[
    str | None,
    typer.Option("--password-from", metavar="FILE", help="Its password's file; - for standard input."),
]


def read_password(source: str | None, *, wanted: bool) -> str:
    """Return the first line of a file, or of standard input for ``-``.

    Where none is named and one is ``wanted``, it is asked for on the terminal; without a terminal there is none.

    Raises:
        BadInput: there is no such file, or it is empty.
        MachineRefused: it cannot be read.
    """
    if source is None:
        return getpass(phrase("Its password:") + " ") if wanted and sys.stdin.isatty() else ""
    shown = display_text(source, 120)
    text = sys.stdin.readline() if source == "-" else read_text(Path(source), phrase("to read the password from"))
    lines = text.splitlines()
    if not lines or not lines[0]:
        raise BadInput("'{shown}' holds no password: its first line is empty.", shown=shown)
    return lines[0]
