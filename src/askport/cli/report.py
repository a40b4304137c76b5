"""``askport report``: every document of the handover."""

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from askport.cli import job_argument, opened_jobs, saying
from askport.core import errors
from askport.core.phrases import listed, phrase
from askport.edges.files import write_all

if TYPE_CHECKING:
    from askport.edges.jobfile import JobFile


def report(
    job: job_argument.Job,
    out: Annotated[Path, typer.Option("--out", help="The directory to write to.")],
    only: Annotated[list[str] | None, typer.Option("--only", metavar="NAME", help="Only this document.")] = None,
) -> None:
    """Write the handover: register, paper, labels, drawings.

    Exit status 1: something in the crew's database is not believed.

    Example: askport report site.askport --out handover/
    """
    from askport.reports.documents import what_for

    for path, size in write_reports(opened_jobs.open_job(job), job.stem, out, only or []):
        print(phrase("{path}  {size:,} bytes  {what_for}", path=path, size=size, what_for=what_for(path.name)))
    if job_argument.WRONG.get(job):
        raise typer.Exit(saying.Status.NO)


def write_reports(job: "JobFile", name: str, out: Path, only: list[str]) -> list[tuple[Path, int]]:
    """Write documents into a directory, and return where each is and how large.

    Raises:
        BadInput: a document of that name there is none.
        MachineRefused: the directory cannot be made or written.
    """
    from askport.core.register.about import about_of
    from askport.edges.crew.job_part import crew_words
    from askport.reports.documents import Papers, documents

    job = job.as_it_stands()
    register = job.register
    papers = Papers(job.checked(), register.plan(name), job.fingerprint, register.open_conflicts(), crew_words(job),
                    about_of(line.entry for line in job.lines))  # fmt: skip
    made, more = documents(papers), documents(papers, on_request=True)
    for each in only:
        if each not in made | more:
            raise errors.BadInput(
                "There is no document '{each}': there are {made}, and cable-TAG.svg of each device.",
                each=each,
                made=listed(made),
            )
    return write_all(out, {title: make for title, make in (made | more).items() if title in (only or made)})
