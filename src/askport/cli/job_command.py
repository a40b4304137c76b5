"""``askport job show|set``: what a job is called for the customer."""

from datetime import UTC, datetime
from typing import Annotated

import typer

from askport.cli import job_argument, opened_jobs, saying
from askport.core.errors import BadInput
from askport.core.text import display_text

app = typer.Typer(help="What stands on the handover's cover: site, customer, order.")


@app.command()
def show(job: job_argument.Job, json: saying.JsonOption = False) -> None:
    """Show what stands on the handover's cover.

    Example: askport job show site.askport
    """
    from askport.core.register.about import HEADS, PAPERS, SET, about_of
    from askport.reports.cells import LANGUAGE

    told = about_of(line.entry for line in opened_jobs.open_job(job).lines)
    if json:
        saying.put_json({"schema": "askport.job/1", **{name: told.get(name) for name in (*HEADS, *SET)}})
        return
    for name, head in HEADS.items():
        print(f"{head:<16} {told.get(name, 'not told')}")
    print(f"{'Language':<16} {told.get('language', LANGUAGE)}")
    print(f"{'Paper':<16} {told.get('paper', PAPERS[0])}")


@app.command("set")
def set_(
    job: job_argument.Job,
    site: Annotated[str | None, typer.Option(help="What the site is called.")] = None,
    customer: Annotated[str | None, typer.Option(help="For whom it is done.")] = None,
    order: Annotated[str | None, typer.Option(help="The customer's order number.")] = None,
    company: Annotated[str | None, typer.Option(help="Who does it.")] = None,
    technician: Annotated[str | None, typer.Option(help="Who signs for it.")] = None,
    language: Annotated[
        str | None, typer.Option(help="How dates and times are written: en-GB, as at first, en-US, de, fr ...")
    ] = None,
    paper: Annotated[str | None, typer.Option(help="The paper of its documents: A4, as at first, or Letter.")] = None,
) -> None:
    """Set what stands on the handover's cover.

    An empty text takes a value back.

    Example: askport job set site.askport --site "Hatchery" --order 4711/26
    """
    from askport.core.register.about import PAPERS, told_line
    from askport.core.register.entries import About
    from askport.reports.cells import known_language

    given = {"site": site, "customer": customer, "order": order, "company": company, "technician": technician}
    told = {name: told_line(name, text) for name, text in given.items() if text is not None}
    if language is not None:
        told["language"] = known_language(language) if language else ""
    if paper is not None:
        known = {each.casefold(): each for each in PAPERS}
        if paper.casefold() not in known:
            raise BadInput(
                "--paper: '{paper}' is none of {papers}.", paper=display_text(paper, 30), papers=" and ".join(PAPERS)
            )
        told["paper"] = known[paper.casefold()]
    if not told:
        raise BadInput(
            "Nothing to set: give --site, --customer, --order, --company, --technician, --language or --paper."
        )
    if not job.exists():
        raise BadInput("There is no job file '{job}'.", job=display_text(str(job), 120))
    opened_jobs.open_job(job, writes=True).append_all([About.model_validate(told)], datetime.now(UTC))
    show(job)
