"""``askport plan``: the site plan of a job, in and out."""

from datetime import UTC, datetime
from ipaddress import IPv4Address
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from askport.cli import opened_jobs, saying
from askport.cli.job_argument import Job, JobOption, in_hand
from askport.core.errors import BadInput
from askport.core.phrases import listed, phrase, phrase_of
from askport.core.text import display_text
from askport.edges.files import write_file

if TYPE_CHECKING:
    from askport.core.plan.importing import Imported
    from askport.core.plan.site_plan import Plan
    from askport.edges.jobfile import JobFile

app = typer.Typer(help="The site plan of a job: import, check, export.", no_args_is_help=False)


def _open(job: Path, *, create: bool) -> "tuple[JobFile, Plan]":
    opened = opened_jobs.open_job(job, writes=create)
    return opened, opened.register.plan(job.stem)


def _left(opened: "JobFile") -> list[IPv4Address]:
    return [address for address, _, _ in opened.register.left()]


@app.command("import")
def import_(
    file: Annotated[Path, typer.Argument(help="A CSV, XLSX or ODS file.")],
    job: JobOption,
    map_: Annotated[
        list[str] | None, typer.Option("--map", metavar="COLUMN=FIELD", help="What a column holds; - for nothing.")
    ] = None,
    skip_bad: Annotated[bool, typer.Option("--skip-bad", help="Take the good rows though some are bad.")] = False,
    remove_missing: Annotated[
        bool, typer.Option("--remove-missing", help="Take out devices that the file does not have.")
    ] = False,
    new_subnet: Annotated[
        bool, typer.Option("--new-subnet", help="Let rows add subnets to those that are planned.")
    ] = False,
    dry_run: Annotated[bool, typer.Option("--dry-run", help="Show what would change, and change nothing.")] = False,
) -> None:
    """Import a plan from CSV, XLSX or ODS.

    What changes is shown. A bad row is named, and nothing is imported without --skip-bad.

    Example: askport plan import devices.xlsx --job site.askport --dry-run
    """
    from askport.core.plan.changes import changes
    from askport.core.plan.checks import check_plan
    from askport.core.plan.folding import planned_after
    from askport.core.plan.importing import keep_others
    from askport.core.plan.row_checks import move_bad_rows
    from askport.core.plan.site_plan import Plan

    tables = _read(file, _mapping(map_ or []))
    plan = opened_jobs.open_job(job).register.plan(job.stem) if job.exists() else Plan(name=job.stem)
    keep_others(plan, [table for _, table in tables])
    move_bad_rows(plan, [table for _, table in tables], new_subnet=new_subnet)
    bad = [(name, row) for name, table in tables for row in table.bad]
    for name, row in bad:
        saying.say(
            "{file}, sheet '{name}', line {line}: {sentence}" if len(tables) > 1 else "{file}, line {line}: {sentence}",
            file=display_text(str(file), 120),
            name=display_text(name, 40),
            line=row.line,
            sentence=row.sentence,
        )
    if bad and not skip_bad:
        rows = phrase_of(len(bad), "one row is bad", "{count} rows are bad")
        raise BadInput(
            "Nothing was imported: {rows}. Correct the file, or take the good ones with --skip-bad.", rows=rows
        )
    opened = None if dry_run else opened_jobs.open_job(job, writes=True)
    found = changes(plan, [table for _, table in tables], removes=remove_missing)
    for change in found:
        print(change.sentence)
    entries = [change.entry for change in found if change.entry]
    if not dry_run and opened:
        opened.append_all(entries, datetime.now(UTC))
    after = planned_after(plan, entries)
    for finding in check_plan(after):
        saying.say(f"{'?' if finding.is_hint else '!'} {finding.sentence}")
    count = listed([
        phrase_of(len(after.devices), "{count} device", "{count} devices"),
        phrase_of(len(after.subnets), "{count} subnet", "{count} subnets"),
    ])  # fmt: skip
    print(
        phrase("Nothing was written: {count} would be planned.", count=count)
        if dry_run
        else phrase("{count} planned in {job}.", count=count, job=job)
    )


def _mapping(pairs: list[str]) -> dict[str, str]:
    mapped = {}
    for pair in pairs:
        column, sign, field = pair.rpartition("=")
        if not sign or not column.strip():
            raise BadInput("--map '{pair}' names no column: write --map COLUMN=FIELD.", pair=display_text(pair, 60))
        mapped[column.strip()] = field.strip()
    return mapped


def _read(file: Path, mapped: dict[str, str]) -> "list[tuple[str, Imported]]":
    """Read every table of a file that is one of the plan, and say as what."""
    from askport.core.plan.importing import import_rows
    from askport.edges.tables import read_tables
    from askport.reports.cells import as_meant

    found, refusal = [], None
    for table in read_tables(file):
        rows = [[as_meant(each) for each in row] for row in table.rows]
        if not any(each.strip() for row in rows for each in row):
            continue
        try:
            imported = import_rows(rows, mapped)
        except BadInput as error:
            refusal = refusal or error
            continue
        taken = [
            phrase("'{head}' as {field}", head=display_text(head, 40), field=field)
            for head, field in imported.columns
            if field
        ]
        carried = [f"'{display_text(head, 40)}'" for head, field in imported.columns if head and not field]
        read = "Read as {read_as}: {taken}; carried along: {carried}." if carried else "Read as {read_as}: {taken}."
        saying.say(read, read_as=table.read_as, taken=listed(taken), carried=listed(carried))
        found.append((table.name, imported))
    if not found:
        raise refusal or BadInput("'{file}' is empty: there is no plan in it.", file=display_text(str(file), 120))
    return found


@app.command()
def show(job: Job, json: saying.JsonOption = False) -> None:
    """Show the plan: subnets, and devices in working order.

    With how far each is.

    Example: askport plan show site.askport
    """
    from askport.reports.plan_document import plan_json

    opened, plan = _open(job, create=False)
    document = plan_json(plan, opened.register.states())
    if json:
        saying.put_json(document)
        return
    for subnet in document["subnets"]:
        pools = "; ".join(" to ".join(each) for each in subnet["pools"]) or phrase("none known")
        gateway, dns = subnet["gateway"] or "none", ", ".join(subnet["dns"]) or "none"
        said = "{subnet}  gateway {gateway}, DNS {dns}, pool {pools}, VLAN {vlan}"
        said = said if subnet["vlan"] else "{subnet}  gateway {gateway}, DNS {dns}, pool {pools}"
        print(phrase(said, subnet=subnet["network"], gateway=gateway, dns=dns, pools=pools, vlan=subnet["vlan"]))
    for device in document["devices"]:
        at = (
            f"{device['address']}/{device['prefix']}"
            if device["address"]
            else device["within"] or phrase("on the spot")
        )
        about = ", ".join(each for each in (device["kind"], device["place"]) if each)
        print(f"{device['tag']}  {at}  {device['state']}{f'  {about}' if about else ''}")


@app.command()
def check(job: Job, json: saying.JsonOption = False) -> None:
    """Check the plan.

    Exit status 1: something is wrong with it.

    Example: askport plan check site.askport
    """
    from askport.core.plan.checks import check_plan

    _, plan = _open(job, create=False)
    found = check_plan(plan)
    if json:
        rows = [{"code": each.code, "tags": each.tags, "hint": each.is_hint, "text": each.sentence} for each in found]
        saying.put_json({"schema": "askport.plan-check/1", "findings": rows})
    else:
        for each in found:
            print(f"{'?' if each.is_hint else '!'} {each.sentence}")
        if not found:
            print(phrase("The plan is sound: {count} devices.", count=len(plan.devices)))
    if any(not each.is_hint for each in found):
        raise typer.Exit(saying.Status.NO)


@app.command("next")
def next_(job: Job, json: saying.JsonOption = False) -> None:
    """Show which device is next.

    Exit status 1: every device is recorded, or with another member.

    Example: askport plan next site.askport
    """
    from askport.core.plan.site_plan import remaining
    from askport.edges.crew.job_part import block_of
    from askport.reports.plan_document import plan_json

    opened, plan = _open(job, create=False)
    others = in_hand(job)
    ahead = remaining(plan, opened.register.recorded_tags(), _left(opened), block_of(opened))
    item = next((each for each in ahead if others.holder_of(each.tag) is None), None)
    if json:
        device = next(
            (each for each in plan_json(plan, opened.register.states())["devices"] if item and each["tag"] == item.tag),
            None,
        )
        saying.put_json({"schema": "askport.plan-next/1", "device": device})
    elif item:
        target = f"{item.target.interface}" if item.target else phrase("its address is decided on the spot")
        print(f"{item.tag}  {target}{f'  {item.description}' if item.description else ''}")
    else:
        everyone = (
            "Every planned device is recorded, or being done." if others.units else "Every planned device is recorded."
        )
        print(phrase(everyone))
    if item is None:
        raise typer.Exit(saying.Status.NO)


@app.command()
def subnet(
    job: Job,
    network: Annotated[str, typer.Argument(help="The subnet, such as 10.84.16.0/22.")],
    gateway: Annotated[str, typer.Option(help="Its gateway.")] = "",
    dns: Annotated[list[str] | None, typer.Option(help="Its DNS servers.")] = None,
    pool: Annotated[list[str] | None, typer.Option(metavar="FIRST-LAST", help="What its address server gives.")] = None,
    reserved: Annotated[list[str] | None, typer.Option(metavar="FIRST-LAST", help="What is kept for others.")] = None,
    vlan: Annotated[str, typer.Option(help="Its VLAN.")] = "",
) -> None:
    """Add a subnet to the plan, or change one.

    Example: askport plan subnet site.askport 10.84.16.0/22 --gateway 10.84.19.254
    """
    from askport.core.plan.changes import changes
    from askport.core.plan.importing import import_rows

    heads = ["network", "gateway", "dns", "pool", "reserved", "vlan"]
    cells = [network, gateway, " ".join(dns or []), ",".join(pool or []), ",".join(reserved or []), vlan]
    imported = import_rows([heads, cells])
    if imported.bad:
        raise BadInput(imported.bad[0].sentence)
    opened, plan = _open(job, create=True)
    found = changes(plan, [imported])
    opened.append_all([each.entry for each in found if each.entry], datetime.now(UTC))
    for each in found:
        print(each.sentence)


@app.command()
def export(job: Job, out: Annotated[Path, typer.Option("--out", help="The CSV or XLSX file to write.")]) -> None:
    """Write the plan as a table that can be imported again.

    Example: askport plan export site.askport --out plan.xlsx
    """
    from askport.reports.plan_document import csv_text, device_rows, subnet_rows, workbook

    _, plan = _open(job, create=False)
    if out.suffix.lower() == ".xlsx":
        write_file(out, workbook([("devices", device_rows(plan)), ("subnets", subnet_rows(plan))]))
    elif out.suffix.lower() == ".csv":
        write_file(out, csv_text(device_rows(plan)).encode())
        write_file(out.with_suffix(".subnets.csv"), csv_text(subnet_rows(plan)).encode())
    else:
        raise BadInput("'{out}' is neither CSV nor XLSX: give it .csv or .xlsx.", out=display_text(str(out), 120))


@app.command()
def request(job: Job, out: Annotated[Path, typer.Option("--out", help="The XLSX or PDF file to write.")]) -> None:
    """Write the sheet that the IT department fills in.

    Filled in, it is imported like any plan.

    Example: askport plan request site.askport --out request.xlsx
    """
    from askport.reports.plan_document import request_sheets, workbook

    _, plan = _open(job, create=not job.exists())
    sheets, asked = request_sheets(plan)
    if out.suffix.lower() == ".xlsx":
        write_file(out, workbook(sheets, asked))
    elif out.suffix.lower() == ".pdf":
        from askport.reports.paper import request_pdf

        write_file(out, request_pdf(plan.name, sheets, asked))
    else:
        raise BadInput("'{out}' is neither XLSX nor PDF: give it .xlsx or .pdf.", out=display_text(str(out), 120))
    print(phrase("{count} devices, {count_2} points: {out}", count=len(plan.devices), count_2=len(asked) - 1, out=out))
