"""Naming a job on the command line: its file, or the database of a crew."""

import contextlib
from pathlib import Path
from typing import Annotated

import typer

from askport.cli import opened_jobs, saying
from askport.core.crew.in_hand import ALONE, Others, others_of
from askport.core.errors import AskPortError
from askport.edges.crew.reaching import is_url

WRONG: dict[Path, list[str]] = {}
"""What of a crew's database was not believed, by the copies of it."""


def job_at(text: str) -> Path:
    """Return the job file that is meant; of a crew's database, a copy that was brought up to date just now.

    Raises:
        AskPortError: the database is not reached, or has no crew.
    """
    if not is_url(text):
        return Path(text)
    from askport.edges.crew.replica import replica_of

    path, wrong = replica_of(text)
    WRONG[path] = wrong
    for each in wrong:
        saying.say(f"! {each}")
    if path not in opened_jobs.REPLICAS:
        opened_jobs.REPLICAS[path] = text
        opened_jobs.OPENED.callback(_bring_back, path, text)
    return path


def in_hand(job: Path) -> Others:
    """Return what members have in hand, where the job was named by the crew's database; a file does not know it."""
    url = opened_jobs.REPLICAS.get(job)
    if url is None:
        return ALONE
    from askport.edges.crew.server import Server

    with contextlib.closing(Server(url)) as server:
        hand = server.in_hand()
    return others_of({each.what: each.member for each in hand.claims}, hand.blocks, "", frozenset())


def _bring_back(path: Path, url: str) -> None:
    from askport.edges.crew.replica import bring_back

    with contextlib.suppress(KeyError):
        opened_jobs.REPLICAS.pop(path)
    try:
        bring_back(path, url)
    except AskPortError as error:
        saying.say(
            "{message} What was written waits, and goes with the next command on this crew.", message=error.message
        )


Job = Annotated[Path, typer.Argument(parser=job_at, metavar="JOB|URL", help="The job file, or a crew's database.")]
JobOption = Annotated[
    Path, typer.Option("--job", parser=job_at, metavar="JOB|URL", help="The job file, or a crew's database.")
]
