"""``askport register``: what a job has recorded."""

import json as jsons
import sys
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

if TYPE_CHECKING:
    from askport.core.register.fold import Row

from askport.cli.files import write_file
from askport.cli.talk import put_json
from askport.core.errors import BadInput, Refused
from askport.core.plan.work import MAX_TAG
from askport.core.text import display_text
from askport.core.words import listed

app = typer.Typer(help="Read what a job has recorded.", no_args_is_help=False)
Job = Annotated[Path, typer.Argument(help="The job file.")]


def _rows(job: Path) -> "list[Row]":
    from askport.core.register.fold import fold
    from askport.edges.jobfile import JobFile

    return fold(JobFile(job, create=False).lines)


@app.command("list")
def list_(job: Job, json: Annotated[bool, typer.Option("--json", help="Print one JSON document.")] = False) -> None:
    """List the devices of a job, as found and as left."""
    from askport.reports.register import register_json

    rows = _rows(job)
    if json:
        put_json(register_json(rows))
        return
    for row in rows:
        left = row.last.as_left.words() if row.left else "not set"
        tag = display_text(row.tag, MAX_TAG) or "(no tag)"
        but = f" ({listed(row.open_points)} not shown)" if row.is_proven and row.open_points else ""
        print(f"{tag}  {row.mac}  {row.first.as_found} -> {left}  {row.state}{but}")


@app.command()
def export(
    job: Job,
    csv: Annotated[bool, typer.Option("--csv", help="As CSV.")] = False,
    json: Annotated[bool, typer.Option("--json", help="As JSON.")] = False,
    out: Annotated[Path | None, typer.Option("--out", help="Into this file instead of standard output.")] = None,
) -> None:
    """Export the register of a job."""
    if csv == json:
        raise BadInput("Say how to export the register: --csv or --json.")
    from askport.reports.register import register_csv, register_json

    rows = _rows(job)
    if out is None:
        if csv:
            sys.stdout.write(register_csv(rows))
        else:
            put_json(register_json(rows))
        return
    text = register_csv(rows) if csv else jsons.dumps(register_json(rows), indent=2, ensure_ascii=False) + "\n"
    write_file(out, text.encode())


@app.command()
def frames(
    job: Job,
    tag: Annotated[str, typer.Argument(help="The device's tag.")],
    out: Annotated[Path, typer.Option("--out", help="The pcapng file to write.")],
) -> None:
    """Write the frames that a device's as-found values rest on into a capture file."""
    from askport.core.register.fold import fold
    from askport.edges.jobfile import JobFile

    opened = JobFile(job, create=False)
    row = next((each for each in fold(opened.lines) if each.tag == tag), None)
    if row is None:
        raise BadInput(f"'{display_text(tag, 40)}' is no tag in '{job}': 'askport register list' shows them.")
    capture = opened.frames(row.first.unit)
    if capture is None:
        raise Refused(f"No frames were kept of {display_text(row.tag, MAX_TAG)}: it was set without the screen.")
    write_file(out, capture)
