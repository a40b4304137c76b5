"""Every document of the handover, by its file's name."""

import json
from collections.abc import Callable, Sequence

from askport.core.plan.address_map import Known, map_rows, to_have
from askport.core.plan.site_plan import Plan
from askport.core.register.visits import Row
from askport.reports import drawings, handover_pages, labels, reservations
from askport.reports.plan_document import workbook
from askport.reports.register_document import register_csv, register_json, register_rows
from askport.reports.sketch import Sketch

Documents = dict[str, Callable[[], bytes]]
_WHAT_FOR = {
    "register": "every device as found and as left: for a spreadsheet, or for another program",
    "handover": "for the customer: cover with fingerprint, register, a page for each device",
    "labels": "to print on sheets or on a roll; the code holds tag, address and MAC address",
    "lanes": "how each device came back after its power cut",
    "pace": "devices a day, minutes for each step, slips caught",
    "map": "who has which address of the subnet",
    "hosts": "names and addresses for a computer's hosts file",
    "zone": "names and addresses for the site's name server",
    "reservations": "for the site's address server: it gives these addresses to nobody else",
    "cable": "the two addresses of a device, bit over bit",
}


def what_for(name: str) -> str:
    """Say what a document is for, by its file's name."""
    return next((words for start, words in _WHAT_FOR.items() if name.startswith(start)), "")


def documents(rows: Sequence[Row], plan: Plan, fingerprint: str, conflicts: Sequence[str] = ()) -> Documents:
    """Return what makes each document of a job; the same journal gives the same bytes.

    Args:
        rows: the register.
        plan: the site's plan, under the job's name.
        fingerprint: of the journal.
        conflicts: what joined journals say differently and nobody has settled.
    """
    addresses = ((device.address, device.tag) for device in plan.devices if device.address)
    planned = to_have((*addresses, *((row.left, row.tag) for row in rows if row.left)))
    known = Known(planned=planned, states={row.tag: row.state for row in rows})
    made: Documents = {
        "register.csv": lambda: register_csv(rows, plan).encode(),
        "register.xlsx": lambda: workbook([("register", register_rows(rows, plan))]),
        "register.json": lambda: (json.dumps(register_json(rows), indent=2, ensure_ascii=False) + "\n").encode(),
        "handover.pdf": lambda: handover_pages.handover_pdf(plan, rows, fingerprint, conflicts),
        "labels.pdf": lambda: labels.sheet_pdf(rows, plan),
        "labels-roll.pdf": lambda: labels.roll_pdf(rows, plan),
        "hosts": lambda: reservations.hosts_text(rows).encode(),
        "zone": lambda: reservations.zone_text(rows).encode(),
        "reservations-dhcpd.conf": lambda: reservations.dhcpd_text(rows).encode(),
        "reservations-kea.json": lambda: reservations.kea_text(rows, plan).encode(),
        "reservations-dnsmasq.conf": lambda: reservations.dnsmasq_text(rows).encode(),
    }
    drawn = {"lanes": lambda: drawings.lanes_sketch(rows), "pace": lambda: drawings.pace_sketch(rows)}
    for site in plan.sites:
        title = f"map-{str(site.network).replace('/', '-')}"
        drawn[title] = lambda site=site: drawings.map_sketch(site, map_rows(site, known))  # type: ignore[misc]
    for title, draw in drawn.items():
        made |= _both(title, draw)
    return made


def on_request(rows: Sequence[Row]) -> Documents:
    """Return documents that are made only where they are named: the two addresses of each device as a drawing."""
    made: Documents = {}
    for row in rows:
        name = "".join(each if each.isalnum() or each in "-_" else "_" for each in row.tag) or row.mac.hex()
        made |= _both(f"cable-{name}", lambda row=row: drawings.cable_sketch(row))  # type: ignore[misc]
    return made


def _both(title: str, draw: Callable[[], Sketch]) -> Documents:
    return {f"{title}.svg": lambda: draw().svg(), f"{title}.pdf": lambda: draw().pdf()}
