"""``askport report``: every document of the handover."""

import json
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from askport.cli.files import write_file
from askport.core.errors import BadInput, MachineRefused
from askport.core.words import listed

if TYPE_CHECKING:
    from askport.core.register.entries import Line

Documents = dict[str, Callable[[], bytes]]


def report(
    job: Annotated[Path, typer.Argument(help="The job file.")],
    out: Annotated[Path, typer.Option("--out", help="The directory to write to.")],
    only: Annotated[list[str] | None, typer.Option("--only", metavar="NAME", help="Only this document.")] = None,
) -> None:
    """Write the handover of a job: register, paper, labels, drawings, reservations."""
    from askport.edges.jobfile import JobFile

    for path, size in write_reports(JobFile(job, create=False).lines, job.stem, out, only or []):
        print(f"{path}  {size:,} bytes")


def write_reports(lines: "list[Line]", name: str, out: Path, only: list[str]) -> list[tuple[Path, int]]:
    """Write documents into a directory, and return where each is and how large.

    Raises:
        BadInput: a document of that name there is none.
        MachineRefused: the directory cannot be made or written.
    """
    documents = _documents(lines, name)
    for each in only:
        if each not in documents:
            raise BadInput(f"There is no document '{each}': there are {listed(documents)}.")
    try:
        out.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise MachineRefused(f"'{out}' cannot be made: {error.strerror}.") from None
    written = []
    for title, make in documents.items():
        if not only or title in only:
            data = make()
            write_file(out / title, data)
            written.append((out / title, len(data)))
    return written


def _documents(lines: "list[Line]", name: str) -> Documents:
    from askport.core.plan.address_map import Known, map_rows
    from askport.core.plan.folding import plan_of
    from askport.core.register.fold import fold
    from askport.reports import drawings, handover, reservations
    from askport.reports.plan import workbook
    from askport.reports.register import register_csv, register_json, register_rows

    rows, plan = fold(lines), plan_of((line.entry for line in lines), name)
    fingerprint = lines[-1].hash if lines else ""
    planned: dict[object, tuple[str, ...]] = {}
    for device in plan.devices:
        if device.address:
            planned[device.address] = (*planned.get(device.address, ()), device.tag)
    for row in rows:
        if row.left and row.tag not in planned.get(row.left, ()):
            planned[row.left] = (*planned.get(row.left, ()), row.tag)
    known = Known(planned=planned, states={row.tag: row.state for row in rows})  # type: ignore[arg-type]
    documents: Documents = {
        "register.csv": lambda: register_csv(rows).encode(),
        "register.xlsx": lambda: workbook([("register", register_rows(rows))]),
        "register.json": lambda: (json.dumps(register_json(rows), indent=2, ensure_ascii=False) + "\n").encode(),
        "handover.pdf": lambda: handover.handover_pdf(name, rows, fingerprint),
        "labels.pdf": lambda: handover.labels_pdf(rows),
        "lanes.svg": lambda: drawings.lanes_svg(rows),
        "pace.svg": lambda: drawings.pace_svg(rows),
        "hosts": lambda: reservations.hosts_text(rows).encode(),
        "zone": lambda: reservations.zone_text(rows).encode(),
        "reservations-dhcpd.conf": lambda: reservations.dhcpd_text(rows).encode(),
        "reservations-kea.json": lambda: reservations.kea_text(rows).encode(),
        "reservations-dnsmasq.conf": lambda: reservations.dnsmasq_text(rows).encode(),
    }
    for site in plan.sites:
        title = f"map-{str(site.network).replace('/', '-')}.svg"
        documents[title] = lambda site=site: drawings.map_svg(site, map_rows(site, known))  # type: ignore[misc]
    return documents
