"""``askport register verify|merge``: whether a record still stands, and two of them as one."""

from datetime import UTC, datetime
from pathlib import Path
from typing import Annotated

import typer

from askport.cli import opened_jobs, saying
from askport.cli.job_argument import WRONG, Job, job_at
from askport.core.errors import BadInput, Refused
from askport.core.phrases import phrase
from askport.core.text import display_text

_SHORTEST_FINGERPRINT = 16


def verify(
    job: Job,
    against: Annotated[
        str, typer.Option(metavar="FINGERPRINT", help="Whether what was handed over with this still stands.")
    ] = "",
) -> None:
    """Check that nothing was changed outside Ask Port.

    Prints the fingerprint. Exit status 1: something was changed.

    Example: askport register verify site.askport --against "b31fe6b8 69427dfb"
    """

    wanted = "".join(against.lower().split())
    if against and (len(wanted) < _SHORTEST_FINGERPRINT or set(wanted) - set("0123456789abcdef")):
        least = phrase("at least its first {shortest_fingerprint} digits", shortest_fingerprint=_SHORTEST_FINGERPRINT)
        raise BadInput(
            "'{against}' is not a fingerprint: type it as the handover prints it, {least}.",
            against=display_text(against, 80),
            least=least,
        )
    if not job.exists():
        raise BadInput("There is no job file '{job}'.", job=job)
    try:
        opened = opened_jobs.open_job(job).as_it_stands()
        opened.checked()
    except BadInput as error:
        raise Refused(error.message) from None
    if wrong := WRONG.get(job):
        raise Refused(wrong[0])
    entries = f"{opened.count} entries" if opened.count != 1 else phrase("1 entry")
    whole = phrase(
        "Nothing was changed: {entries}, fingerprint {fingerprint}.",
        entries=entries,
        fingerprint=opened.fingerprint or "none",
    )
    if not against:
        print(whole)
        return
    stands = opened.stands(wanted)
    if stands is None:  # a chain that was made anew fits itself, and says nothing of what was handed over
        raise Refused(
            "What was handed over with that fingerprint is not in this record: it is another job, or a changed one."
        )
    print(whole)
    handed_over, after, first = stands
    came = (
        phrase("{after} came after it, the first at {when}", after=after, when=first.isoformat())
        if first
        else phrase("nothing came after it")
    )
    print(
        phrase(
            "What was handed over is unchanged: {handed_over} entries, and {came}.", handed_over=handed_over, came=came
        )
    )


def merge(
    job: Job,
    other: Annotated[Path, typer.Argument(parser=job_at, metavar="JOB|URL", help="The other job of the same site.")],
    into: Annotated[Path, typer.Option("--into", help="The new job file.")],
) -> None:
    """Merge the jobs of two technicians into a new one.

    Exit status 1: they say something differently; each is named.

    Example: askport register merge mine.askport hers.askport --into site.askport
    """
    from askport.core.register.joining import join

    if into.exists():
        raise BadInput("'{into}' exists already: give a new file.", into=into)
    files = [opened_jobs.open_job(each).as_it_stands() for each in (job, other)]
    now = datetime.now(UTC)
    lines, joined = join([each.lines for each in files], now)
    captures = [
        file.capture(visit.frames) for file in files for row in file.checked() for visit in row.visits if visit.frames
    ]
    made = opened_jobs.open_job(into, writes=True)
    made.adopt(lines, captures)
    made.append(joined, now)
    print(phrase("{count} entries in {into}.", count=made.count, into=into))
    for each in joined.conflicts:
        print(f"! {each}")
    if joined.conflicts:
        saying.say("'askport register settle {into}' lists them, and takes how each is settled.", into=into)
        raise typer.Exit(saying.Status.NO)
