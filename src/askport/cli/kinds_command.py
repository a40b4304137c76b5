"""``askport kinds list``, ``show``, ``check``, ``draft`` and ``schema``."""

import json as jsons
from pathlib import Path
from typing import Annotated

import typer

from askport.cli import job_argument, opened_jobs
from askport.cli.saying import JsonOption, Status, put_json, say
from askport.core.phrases import phrase
from askport.core.text import display_text

app = typer.Typer(help="Kind files: what is known of devices of one type.", no_args_is_help=False)


@app.command("list")
def list_(
    job: Annotated[Path | None, typer.Option("--job", help="A job, whose folder may hold kinds too.")] = None,
    json: JsonOption = False,
) -> None:
    """List the known kinds, and where each comes from.

    Example: askport kinds list
    """
    from askport.edges.kind_files import known_kinds

    found, wrong = known_kinds(job)
    if json:
        kinds = [
            {
                "name": each.kind.name,
                "maker": each.kind.maker,
                "ways": [way.by for way in each.kind.way],
                "from": str(each.path) if each.path else each.where,
            }
            for each in found
        ]
        put_json({"schema": "askport.kinds/1", "kinds": kinds, "wrong": wrong})
    else:
        for each in found:
            ways = ", ".join(way.by for way in each.kind.way) or phrase("no way")
            print(f"{display_text(each.kind.words, 140)}: {ways} ({each.path or each.where})")
    for sentence in wrong:
        say("askport: {sentence}", sentence=sentence)


@app.command()
def show(name: Annotated[str, typer.Argument(help="A kind's name, or a file.")], json: JsonOption = False) -> None:
    """Show one kind.

    Example: askport kinds show "blower drive"
    """
    from askport.core.kinds.model import SnmpWay
    from askport.edges.kind_files import kind_named

    kind = kind_named(name).kind
    if json:
        put_json(kind.model_dump(mode="json", by_alias=True, exclude_defaults=True))
        return
    print(display_text(kind.words, 140))
    delivered = kind.delivered.address or (
        phrase("asks by {asks}", asks=kind.delivered.asks) if kind.delivered.asks else phrase("not known")
    )
    print("    " + phrase("delivered: {delivered}", delivered=delivered))
    if kind.needs.boot_s:
        print("    " + phrase("longest start: {boot_s:g} s", boot_s=kind.needs.boot_s))
    if kind.notes:
        print(f"    {display_text(kind.notes, 400)}")
    for way in kind.way:
        lasts = {"yes": "lasts", "no": phrase("gone at a power cycle"), "after keep": phrase("lasts once it is saved")}
        told = phrase("its agent says whether it lasts") if isinstance(way, SnmpWay) else lasts.get(way.permanent or "")
        print("    " + phrase("by {by}: {told}", by=way.by, told=told or "whether it lasts is not known"))


@app.command()
def check(files: Annotated[list[Path], typer.Argument(help="Kind files.")]) -> None:
    """Check kind files: each mistake in one sentence.

    With file, line and remedy. Exit status 2: there is one.

    Example: askport kinds check drive.toml
    """
    from askport.core.errors import AskPortError
    from askport.edges.kind_files import load_kind

    status = Status.DONE
    for file in files:
        try:
            kind = load_kind(file)
        except AskPortError as error:
            say(error.message)
            status = max(status, Status(error.exit_status))
        else:
            print(f"{file}: {display_text(kind.words, 140)}, {len(kind.way)} way{'' if len(kind.way) == 1 else 's'}.")
    if status:
        raise typer.Exit(status)


@app.command("draft")
def draft_(
    job: job_argument.Job,
    tag: Annotated[str, typer.Argument(help="A unit that was set by hand through Ask Port's door.")],
    out: Annotated[Path, typer.Option(metavar="FILE.toml", help="The kind file to write.")],
    name: Annotated[str, typer.Option(help="What the kind is called.")] = "",
) -> None:
    """Make a kind file from a unit that was set by hand.

    Of what was kept in the job.

    Example: askport kinds draft site.askport OX-01 --out oxygen.kind.toml
    """
    from askport.cli.register_device import device_of
    from askport.cli.teaching import draft_from
    from askport.core.register.entries import Taught

    opened = opened_jobs.open_job(job)
    row = device_of(opened, tag)
    kept = [line for line in opened.lines if isinstance(line.entry, Taught) and line.entry.mac in row.macs]
    draft_from(kept, row, out, name or out.name.removesuffix(".toml").removesuffix(".kind").replace("-", " "))


@app.command()
def schema() -> None:
    """Print the JSON Schema of kind files.

    For editors.

    Example: askport kinds schema
    """
    from askport.core.kinds.model import Kind

    print(jsons.dumps(Kind.model_json_schema(by_alias=True), indent=2))
