"""``askport register``: what a job has recorded."""

import json as jsons
import sys
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

if TYPE_CHECKING:
    from askport.core.register.fold import Row

from askport.cli.talk import Status, put_json, say
from askport.core.errors import BadInput, Refused
from askport.core.plan.work import MAX_TAG
from askport.core.text import display_text
from askport.core.words import listed
from askport.edges.files import write_file

app = typer.Typer(help="Read what a job has recorded.", no_args_is_help=False)
_SHORTEST_FINGERPRINT = 16
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
    salvage: Annotated[bool, typer.Option("--salvage", help="Of a damaged job, whatever can be read.")] = False,
) -> None:
    """Export the register of a job."""
    if csv == json:
        raise BadInput("Say how to export the register: --csv or --json.")
    from askport.reports.register import register_csv, register_json

    rows = _salvaged(job) if salvage else _rows(job)
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


def _salvaged(job: Path) -> "list[Row]":
    from askport.core.register.fold import fold
    from askport.edges.jobfile import salvage

    lines, lost = salvage(job)
    for each in lost:
        say(each)
    return fold(lines)


@app.command()
def verify(
    job: Job,
    against: Annotated[
        str, typer.Option(metavar="FINGERPRINT", help="Whether what was handed over with this still stands.")
    ] = "",
) -> None:
    """Check that nothing of a job was changed outside Ask Port; exit status 1 where something was."""
    from askport.edges.jobfile import JobFile

    wanted = "".join(against.lower().split())
    if against and (len(wanted) < _SHORTEST_FINGERPRINT or set(wanted) - set("0123456789abcdef")):
        least = f"at least its first {_SHORTEST_FINGERPRINT} digits"
        raise BadInput(f"'{display_text(against, 80)}' is no fingerprint: type it as the handover prints it, {least}.")
    if not job.exists():
        raise BadInput(f"There is no job file '{job}'.")
    try:
        lines = JobFile(job, create=False).lines
    except BadInput as error:
        raise Refused(error.message) from None
    entries = f"{len(lines)} entries" if len(lines) != 1 else "1 entry"
    print(f"Nothing was changed: {entries}, fingerprint {lines[-1].hash if lines else 'none'}.")
    if not against:
        return
    place = next((number for number, line in enumerate(lines, 1) if line.hash.startswith(wanted)), None)
    if place is None:
        raise Refused(
            "What was handed over with that fingerprint is not in this record: it is another job, or a changed one."
        )
    after = len(lines) - place
    came = f"{after} came after it, the first at {lines[place].at.isoformat()}" if after else "nothing came after it"
    print(f"What was handed over still stands: {place} entries, and {came}.")


@app.command()
def merge(
    job: Job,
    other: Annotated[Path, typer.Argument(help="The other job file of the same site.")],
    into: Annotated[Path, typer.Option("--into", help="The new job file.")],
) -> None:
    """Join the jobs of two technicians; what they say differently is named, with exit status 1."""
    from askport.core.register.entries import Kept
    from askport.core.register.joining import join
    from askport.edges.jobfile import JobFile

    if into.exists():
        raise BadInput(f"'{into}' exists already: name a new file.")
    files = [JobFile(each, create=False) for each in (job, other)]
    joined = join([each.lines for each in files])
    frames = {}
    for file, units in zip(files, joined.units, strict=True):
        for unit, number in units.items():
            if capture := file.frames(unit):
                frames[number] = capture
    kept = {entry.unit for entry, _ in joined.entries if isinstance(entry, Kept)}
    made = JobFile(into, create=True)
    made.adopt(joined.entries, {unit: capture for unit, capture in frames.items() if unit in kept})
    made.close()
    print(f"{len(joined.entries)} entries in {into}.")
    for each in joined.conflicts:
        print(f"! {each}")
    if joined.conflicts:
        raise typer.Exit(Status.NO)
