"""The handover on paper: cover, register, a page for each device with notes and both addresses."""

from collections.abc import Callable, Mapping, Sequence
from datetime import datetime
from functools import partial
from typing import Any

from askport.core.addresses import mask_of_prefix
from askport.core.crew.seals import CrewWords
from askport.core.phrases import phrase
from askport.core.plan.planned_device import PlannedDevice
from askport.core.plan.site_plan import Plan
from askport.core.register.about import HEADS
from askport.core.register.found_words import found_words
from askport.core.register.visits import Row
from askport.core.visit.narrate import basis_words, proof_words
from askport.core.ways.table import entry_of
from askport.reports.cells import LANGUAGE, local
from askport.reports.drawings import cable_sketch
from askport.reports.open_points import OpenPoints, counted, not_started, open_points, proven_words
from askport.reports.paper import document, printable, styles, table
from askport.reports.planned import planned_values, planned_words

_When = Callable[[datetime | None], str]
"""Writes a moment as people do."""


def handover_pdf(
    plan: Plan, rows: Sequence[Row], fingerprint: str, conflicts: Sequence[str] = (), crew: CrewWords | None = None,
    about: Mapping[str, str] | None = None, *, every: bool = False,
) -> bytes:  # fmt: skip
    """Return the whole handover: a page each for the devices that somebody has to look at, a row for the others.

    Args:
        fingerprint: of the journal's chain, by which it is known later whether it still stands.
        conflicts: what joined records say differently and nobody has settled.
        crew: who wrote the record, where several did.
        about: what was told of the job, by the names in ``about.HEADS``.
        every: whether each device has a page.
    """
    from reportlab.platypus import KeepTogether, PageBreak, Paragraph, Spacer

    set_in = styles()
    told = about or {}
    site, counts, to_come = told.get("site", plan.name), counted(rows), not_started(rows, plan)
    when = partial(local, language=told.get("language", LANGUAGE))
    last = max((row.last.recorded_at for row in rows if row.last.recorded_at), default=None)
    story: list[Any] = [
        Paragraph(printable(phrase("Handover: {site}", site=site)), set_in["title"]),
        Paragraph(f"{proven_words(*counts, not_started=len(to_come))}.", set_in["body"]),
        Paragraph(phrase("Last device recorded: {when}.", when=when(last) or phrase('nothing')), set_in["body"]),
        *_told(told, set_in),
        Paragraph(
            phrase("Fingerprint of the record: {bold}", bold=f"<b>{printable(grouped(fingerprint))}</b>"),
            set_in["body"],
        ),
        Paragraph(phrase("To check later that this record is unchanged:"), set_in["body"]),
        Paragraph("askport register verify JOB --against FINGERPRINT", set_in["body"]),
        *_crew(crew, set_in),
        *_open(open_points(rows, plan, conflicts), set_in),
        Spacer(1, 8),
        Paragraph(phrase("Register"), set_in["section"]),
        table(
            [
                ["Tag", phrase("Where and what"), phrase("MAC address"), phrase("As found"), phrase("As left"),
                 "Gateway", "State"],
                *(
                    [row.tag, _place(plan.by_tag.get(row.tag)), row.mac, row.first.as_found,
                     row.last.as_left.words() if row.left else phrase("not set"), row.last.as_left.gateway.value or "",
                     row.state]
                    for row in rows
                ),
                *(
                    [each.tag, _place(each), each.mac or "", "",
                     phrase("planned: {address}", address=each.address or phrase("open")), "", phrase("not started")]
                    for each in to_come
                ),
            ],
            [50, 84, 80, 78, 94, 62, 62],
        ),
    ]  # fmt: skip
    alike = [] if every else [row for row in rows if row.is_proven and not (row.open_points or row.otherwise)]
    if alike:
        story += [Paragraph(phrase("Proven, with nothing left open"), set_in["section"]), _in_rows(alike, when)]
        story.append(
            Paragraph(phrase("'askport report JOB --only handover-full.pdf' has a page for each."), set_in["body"])
        )
    for row in rows:
        if row not in alike:
            story += [PageBreak(), KeepTogether(_device(row, plan.by_tag.get(row.tag), set_in, when))]
    return document(phrase("Handover: {site}", site=site), story, paper=told.get("paper", "A4"))


def _told(told: Mapping[str, str], set_in: dict[str, Any]) -> list[Any]:
    """Return what was told of the job, and lines to sign on."""
    from reportlab.platypus import Paragraph, Spacer

    rows = [[head, told.get(name, "")] for name, head in HEADS.items()]
    rows += [[phrase("Handed over at, on"), ""], ["Signature", ""], [phrase("Received by, signature"), ""]]
    return [Paragraph(phrase("This job"), set_in["section"]), table([["", ""], *rows], [130, 380]), Spacer(1, 4)]


def _place(planned: PlannedDevice | None) -> str:
    return ", ".join(planned_values(planned).values())


def _in_rows(rows: Sequence[Row], when: _When) -> Any:
    """Return a row for each device of which there is nothing more to say: its evidence, and how it came back."""
    lines: list[list[object]] = [
        ["Tag", "Set", "Address", "Mask", "Gateway", phrase("Back after power cycle"), "Recorded"]
    ]
    for row in rows:
        left, way, cut = row.last.as_left, entry_of(row.last.way), row.last.cut
        bases = [basis_words(each.basis) for each in (left.address, left.prefix, left.gateway)]
        back = f"{max((at for _, at in cut.moments), default=0.0):.0f} s" if cut else phrase("power not cut")
        lines.append([row.tag, way.done if way else "", *bases, back, when(row.last.recorded_at)])
    return table(lines, [58, 78, 62, 62, 62, 98, 92])


def _crew(crew: CrewWords | None, set_in: dict[str, Any]) -> list[Any]:
    """Return who wrote the record, and by which keys that is known."""
    from reportlab.platypus import Paragraph

    if crew is None:
        return []
    return [
        Paragraph(printable(phrase("Technicians: {site}", site=crew.site)), set_in["section"]),
        Paragraph(
            phrase(
                "Fingerprint of the crew's complete record: {bold}",
                bold=f"<b>{printable(grouped(crew.fingerprint))}</b>",
            ),
            set_in["body"],
        ),
        table([["member", phrase("fingerprint of its key")], *(list(each) for each in crew.members)], [150, 260]),
    ]


def _open(found: Sequence[OpenPoints], set_in: dict[str, Any]) -> list[Any]:
    """Return what is open, the worst first, before the register that it is about."""
    from reportlab.platypus import Paragraph

    story: list[Any] = [Paragraph(phrase("Open points"), set_in["section"])]
    for points in found:
        story.append(Paragraph(f"<b>{printable(points.heading)}: {points.count}</b>", set_in["body"]))
        story += [Paragraph(printable(each), set_in["body"]) for each in points.lines]
    return story if found else [*story, Paragraph(phrase("None."), set_in["body"])]


def grouped(fingerprint: str) -> str:
    """Return a fingerprint in groups that people can compare."""
    return " ".join(fingerprint[place : place + 8] for place in range(0, len(fingerprint), 8))


def _device(row: Row, planned: PlannedDevice | None, set_in: dict[str, Any], when: _When) -> list[Any]:
    from reportlab.platypus import Paragraph, Spacer

    first, last, left = row.first, row.last, row.last.as_left
    found = found_words(first.found_prefix, first.found_gateway, first.found_said)
    way = entry_of(last.way)
    mask = str(mask_of_prefix(left.prefix.value)) if left.prefix.value is not None else phrase("not known")
    values: list[list[object]] = [
        ["", phrase("as found"), phrase("as left"), "evidence"],
        ["address", first.found_address or first.as_found, left.address.value or "", basis_words(left.address.basis)],
        ["mask", found.mask, mask, basis_words(left.prefix.basis)],
        ["gateway", found.gateway, left.gateway.value or (phrase("none") if left.gateway.basis else
         phrase("not known")), basis_words(left.gateway.basis)],
        ["DNS", found.dns, " ".join(map(str, left.dns.value or ())) or (phrase("none") if left.dns.basis else
         phrase("not known")), basis_words(left.dns.basis)],
    ]  # fmt: skip
    story: list[Any] = [
        Paragraph(printable(row.tag or phrase("without a tag")), set_in["title"]),
        Paragraph(printable(f"{row.mac}, {row.maker or 'maker unknown'}, {row.state}"), set_in["body"]),
        *([Paragraph(printable(told), set_in["body"])] if (told := planned_words(planned)) else []),
        Paragraph(phrase("As found and as left"), set_in["section"]),
        table(values, [70, 145, 145, 145]),
    ]
    proofs = [["", "proof", "expected", "measured", "reason"]]
    proofs += [
        [each.verdict, proof_words(each.name), each.expected, each.measured, each.because]
        for each in last.proofs.values()
    ]
    proofs += [["skipped", proof_words(name), "", "", ""] for name in last.left_out]
    story += [Paragraph(phrase("Proofs"), set_in["section"]), table(proofs, [50, 84, 108, 103, 160])]
    if any(each.after_cut for each in last.proofs.values()):
        story += [
            Spacer(1, 4),
            Paragraph(phrase("Two verdicts: before the power cycle, and after it."), set_in["body"]),
        ]
    about = [
        phrase("Set {done}.", done=way.done) if way else phrase("Not set."),
        phrase("Recorded {when}.", when=when(last.recorded_at) or "not yet"),
    ]
    if cut := last.cut:
        told = ", ".join(phrase("{name} after {at:.1f} s", name=name, at=at) for name, at in cut.moments)
        about.append(phrase("After the power cycle: {told}.", told=told or "nothing was heard"))
    if last.slips:
        times = phrase("once") if last.slips == 1 else f"{last.slips} times"
        about.append(phrase("A typing error was found and corrected {times} during set-up.", times=times))
    about += [phrase("Identified by {sentence}.", sentence=each.sentence) for each in row.identities]
    if len(row.visits) > 1:
        about.append(phrase("{count} visits, the first {when}.", count=len(row.visits), when=when(first.found_at)))
    if row.open_points:
        about.append(phrase("Open: {checks}.", checks=", ".join(map(proof_words, row.open_points))))
    remarks = [
        Paragraph(
            printable(f"{when(each.at)}: {each.text}{f', photo {each.photo}' if each.photo else ''}"), set_in["body"]
        )
        for each in row.notes
    ]
    if remarks:
        story += [Paragraph(phrase("Notes"), set_in["section"]), *remarks]
    return [*story, Spacer(1, 8), Paragraph(printable(" ".join(about)), set_in["body"]), cable_sketch(row).on_page(460)]
