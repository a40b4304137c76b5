"""``askport register``: what a job has recorded."""

import json as jsons
import sys
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

if TYPE_CHECKING:
    from askport.core.register.visits import Row
    from askport.edges.jobfile import JobFile

from askport.cli import opened_jobs, register_changes, register_checks, saying
from askport.cli.job_argument import Job
from askport.cli.register_device import Tag, device_of
from askport.core.errors import BadInput, Refused
from askport.core.phrases import listed, phrase
from askport.core.plan.working_order import MAX_TAG
from askport.core.text import display_text
from askport.core.visit.narrate import proof_words
from askport.edges.files import write_file

app = typer.Typer(help="What a job has recorded: read, correct, verify, merge.", no_args_is_help=False)
for command in (
    register_changes.note, register_changes.tag, register_changes.reopen, register_changes.same,
    register_changes.settle, register_checks.verify, register_checks.merge,
):  # fmt: skip
    app.command()(command)
Sort = Annotated[str, typer.Option("--sort", help="By found, tag, address, state, place, kind or day.")]


def _rows(job: "JobFile", text: str, sort: str) -> "list[Row]":
    from askport.core.register.searching import order_named, wanted

    looked_for = wanted(text, order_named(sort))
    return [job.register.row(each.id) for each in job.register.find(looked_for)]


def _print(rows: "list[Row]", *, json: bool) -> None:
    from askport.reports.register_document import register_json

    if json:
        saying.put_json(register_json(rows))
        return
    for row in rows:
        left = row.last.as_left.words() if row.left else phrase("not set")
        tag = display_text(row.tag, MAX_TAG) or phrase("(no tag)")
        missing = listed(map(proof_words, row.open_points))
        but = phrase("({missing} not shown)", missing=missing) if row.is_proven and row.open_points else ""
        print(f"{tag}  {row.mac}  {row.first.as_found} -> {left}  {row.state} {but}".rstrip())


@app.command("list")
def list_(job: Job, json: saying.JsonOption = False, sort: Sort = "found") -> None:
    """List the devices of a job, as found and as left.

    Example: askport register list site.askport --sort address
    """
    _print(_rows(opened_jobs.open_job(job), "", sort), json=json)


@app.command()
def find(
    job: Job,
    text: Annotated[list[str], typer.Argument(help="Words, or values by name: state:proven place:north day:today.")],
    json: saying.JsonOption = False,
    sort: Sort = "found",
) -> None:
    """List the devices in which every word is found.

    Exit status 1: there is none.

    Example: askport register find site.askport state:unproven place:north
    """
    rows = _rows(opened_jobs.open_job(job), " ".join(text), sort)
    _print(rows, json=json)
    if not rows:
        raise typer.Exit(saying.Status.NO)


@app.command()
def show(job: Job, tag: Tag, json: saying.JsonOption = False) -> None:
    """Show everything about one device.

    Example: askport register show site.askport BL-01
    """
    from askport.reports.device_page import device_text
    from askport.reports.register_document import device_json

    opened = opened_jobs.open_job(job)
    row = device_of(opened, tag)
    if json:
        saying.put_json({"schema": "askport.device/1", **device_json(row)})
    else:
        strangers = {each.name for each in opened.register.strangers()}
        print(device_text(row, opened.register.planned(row.tag), strangers))


@app.command()
def export(
    job: Job,
    csv: Annotated[bool, typer.Option("--csv", help="As CSV.")] = False,
    json: Annotated[bool, typer.Option("--json", help="As JSON.")] = False,
    out: Annotated[Path | None, typer.Option("--out", help="Into this file instead of standard output.")] = None,
    salvage: Annotated[bool, typer.Option("--salvage", help="Of a damaged job, whatever can be read.")] = False,
) -> None:
    """Export the register as CSV or JSON.

    With --salvage, whatever can be read of a damaged file.

    Example: askport register export site.askport --csv --out register.csv
    """
    if csv == json:
        raise BadInput("Say how to export the register: --csv or --json.")
    from askport.reports.register_document import register_csv, register_json

    rows = _salvaged(job) if salvage else opened_jobs.open_job(job).as_it_stands().checked()
    if out is None:
        if csv:
            sys.stdout.write(register_csv(rows))
        else:
            saying.put_json(register_json(rows))
        return
    text = register_csv(rows) if csv else jsons.dumps(register_json(rows), indent=2, ensure_ascii=False) + "\n"
    write_file(out, text.encode())


@app.command()
def frames(job: Job, tag: Tag, out: Annotated[Path, typer.Option("--out", help="The pcapng file to write.")]) -> None:
    """Write the frames behind a device's values to a file.

    Example: askport register frames site.askport BL-02 --out bl-02.pcapng
    """
    opened = opened_jobs.open_job(job)
    row = device_of(opened, tag)
    if row.first.frames is None:
        raise Refused(
            "No frames were kept of {tag}: it was set without the screen.", tag=display_text(row.tag, MAX_TAG)
        )
    write_file(out, opened.capture(row.first.frames))


def _salvaged(job: Path) -> "list[Row]":
    from askport.core.register.fold import fold
    from askport.edges.salvage import salvage

    lines, lost = salvage(job)
    for each in lost:
        saying.say(each)
    return fold(lines)
