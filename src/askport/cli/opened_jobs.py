"""The job files that a command has opened: its end lets them go, whatever the end was."""

from contextlib import ExitStack, closing
from pathlib import Path
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from askport.edges.jobfile import JobFile

OPENED = ExitStack()
"""Closed when the command ends."""


def open_job(path: Path, *, writes: bool = False) -> "JobFile":
    """Open a job file until the command ends; to write, it is made where there is none.

    Raises:
        BadInput: there is no such file, or it is not a job of Ask Port, or it was changed by something else.
        MachineRefused: it cannot be opened or written, or another run of Ask Port has it.
    """
    from askport.edges.jobfile import JobFile  # what stores it is loaded only where it is needed

    return OPENED.enter_context(closing(JobFile(path, create=writes)))
