"""The job files that a command has opened: its end lets them go, whatever the end was."""

from contextlib import ExitStack, closing
from pathlib import Path
from typing import TYPE_CHECKING

from askport.cli.saying import say

if TYPE_CHECKING:
    from askport.edges.jobfile import JobFile

OPENED = ExitStack()
"""Closed when the command ends."""
REPLICAS: dict[Path, str] = {}
"""Copies of crews' databases that the command named, each with its URL."""


def open_job(path: Path, *, writes: bool = False, meets: bool = True) -> "JobFile":
    """Open a job file until the command ends; to write, it is made where there is none.

    What a command writes goes to the job's crew at its end, where it has one that is reached.

    Raises:
        BadInput: there is no such file, or it is not a job of Ask Port, or it was changed by something else.
        MachineRefused: it cannot be opened or written, or another run of Ask Port has it.
    """
    from askport.edges.jobfile import JobFile  # what stores it is loaded only where it is needed

    job = OPENED.enter_context(closing(JobFile(path, create=writes)))
    if writes and (url := REPLICAS.get(path)):
        from askport.edges.crew.replica import have_written

        have_written(job, url)
    elif writes and meets and job.crew:
        OPENED.callback(_meet, job)
    return job


def _meet(job: "JobFile") -> None:
    """Bring the job and its crew together; a database that is not reached is no fault of the command."""
    from askport.edges.crew.meeting import meet_at_end

    if said := meet_at_end(job):
        say(said)
