"""Every document of the handover: to have one more, write its module and one line in ``FAMILIES``."""

import json
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property

from askport.core.crew.seals import CrewWords
from askport.core.phrases import coded, phrase
from askport.core.plan import address_map, site_plan
from askport.core.register.visits import Row
from askport.reports import drawings, handover_pages, labels, reservations
from askport.reports.cells import LANGUAGE
from askport.reports.plan_document import workbook
from askport.reports.register_document import register_csv, register_for_people, register_json
from askport.reports.sketch import Sketch

Documents = dict[str, Callable[[], bytes]]
"""What makes each document, by its file's name."""
Named = Iterator[tuple[str, Callable[[], bytes]]]


@dataclass(frozen=True)
class Papers:
    """What documents are made of; the same journal gives the same bytes."""

    rows: Sequence[Row]
    """The register."""
    plan: site_plan.Plan
    """The site's plan, under the job's name."""
    fingerprint: str
    """Of the journal."""
    conflicts: Sequence[str] = ()
    """What joined journals say differently and nobody has settled."""
    crew: CrewWords | None = None
    """Who wrote it, where several did."""
    about: Mapping[str, str] = field(default_factory=dict)
    """What was told of the job."""

    @property
    def language(self) -> str:
        """In which dates are written."""
        return self.about.get("language", LANGUAGE)

    @cached_property
    def known(self) -> address_map.KnownAddresses:
        """Who is to have which address, and how far each is."""
        addresses = ((device.address, device.tag) for device in self.plan.devices if device.address)
        planned = address_map.to_have((*addresses, *((row.left, row.tag) for row in self.rows if row.left)))
        return address_map.KnownAddresses(planned=planned, states={row.tag: row.state for row in self.rows})


@dataclass(frozen=True, slots=True)
class Family:
    """Documents that are for one thing."""

    name: str
    """What their files' names begin with."""
    what_for: str
    make: Callable[[Papers], Named]
    on_request: bool = False
    """Whether they are made only where they are named."""


def _register(papers: Papers) -> Named:
    rows, plan = papers.rows, papers.plan
    yield "register.csv", lambda: register_csv(rows, plan).encode()
    yield "register.xlsx", lambda: workbook([("register", register_for_people(rows, plan, papers.language))])
    yield (
        "register.json",
        lambda: (json.dumps(coded(register_json(rows)), indent=2, ensure_ascii=False) + "\n").encode(),
    )


def _handover(papers: Papers) -> Named:
    yield "handover.pdf", lambda: _handover_pdf(papers)


def _whole_handover(papers: Papers) -> Named:
    yield "handover-full.pdf", lambda: _handover_pdf(papers, every=True)


def _handover_pdf(papers: Papers, *, every: bool = False) -> bytes:
    plan, rows, crew, about = papers.plan, papers.rows, papers.crew, papers.about
    return handover_pages.handover_pdf(plan, rows, papers.fingerprint, papers.conflicts, crew, about, every=every)


def _labels(papers: Papers) -> Named:
    yield "labels.pdf", lambda: labels.sheet_pdf(papers.rows, papers.plan)
    yield "labels-roll.pdf", lambda: labels.roll_pdf(papers.rows, papers.plan)


def _hosts(papers: Papers) -> Named:
    yield "hosts", lambda: reservations.hosts_text(papers.rows).encode()


def _zone(papers: Papers) -> Named:
    yield "zone", lambda: reservations.zone_text(papers.rows).encode()


def _reservations(papers: Papers) -> Named:
    yield "reservations-dhcpd.conf", lambda: reservations.dhcpd_text(papers.rows).encode()
    yield "reservations-kea.json", lambda: reservations.kea_text(papers.rows, papers.plan).encode()
    yield "reservations-dnsmasq.conf", lambda: reservations.dnsmasq_text(papers.rows).encode()


def _lanes(papers: Papers) -> Named:
    yield from _both("lanes", lambda: drawings.lanes_sketch(papers.rows))


def _pace(papers: Papers) -> Named:
    yield from _both("pace", lambda: drawings.pace_sketch(papers.rows))


def _maps(papers: Papers) -> Named:
    for site in papers.plan.sites:
        title = f"map-{str(site.network).replace('/', '-')}"
        yield from _both(title, lambda site=site: drawings.map_sketch(site, address_map.map_rows(site, papers.known)))  # type: ignore[misc]


def _cables(papers: Papers) -> Named:
    for row in papers.rows:
        name = "".join(each if each.isalnum() or each in "-_" else "_" for each in row.tag) or row.mac.hex()
        yield from _both(f"cable-{name}", lambda row=row: drawings.cable_sketch(row))  # type: ignore[misc]


def _both(title: str, draw: Callable[[], Sketch]) -> Named:
    yield f"{title}.svg", lambda: draw().svg()
    yield f"{title}.pdf", lambda: draw().pdf()


FAMILIES = [
    Family("register", phrase("all devices, as found and as left (for a spreadsheet or another program)"), _register),
    Family("handover-full", phrase("the handover with a page for each device"), _whole_handover, on_request=True),
    Family(
        "handover", phrase("for the customer: cover with fingerprint, register, a page for each open device"), _handover
    ),
    Family("labels", phrase("to print on sheets or on a roll; the code holds tag, address and MAC address"), _labels),
    Family("hosts", phrase("names and addresses for a computer's hosts file"), _hosts),
    Family("zone", phrase("names and addresses for the site's name server"), _zone),
    Family("reservations", phrase("DHCP reservations, ready to load into the site's DHCP server"), _reservations),
    Family("lanes", phrase("how each device came back after its power cycle"), _lanes),
    Family("pace", phrase("progress: devices per day, time per step, typing errors corrected"), _pace),
    Family("map", phrase("address map of each subnet"), _maps),
    Family("cable", phrase("the two addresses of a device, bit over bit"), _cables, on_request=True),
]


def what_for(name: str) -> str:
    """Say what a document is for, by its file's name."""
    return next((each.what_for for each in FAMILIES if name.startswith(each.name)), "")


def documents(papers: Papers, *, on_request: bool = False) -> Documents:
    """Return what makes each document of a job, or each that is made only where it is named."""
    return {name: make for each in FAMILIES if each.on_request is on_request for name, make in each.make(papers)}
