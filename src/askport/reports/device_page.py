"""One device of the register as plain text."""

from collections.abc import Collection, Iterator

from askport.core import addresses, text
from askport.core.crew.seals import as_member
from askport.core.phrases import phrase
from askport.core.plan.planned_device import PlannedDevice
from askport.core.register import found_words, visits
from askport.core.visit.narrate import basis_words, proof_words
from askport.reports.cells import iso

_MARKS = {True: "passed", False: "FAILED", None: phrase("not made")}


def device_text(row: visits.Row, planned: PlannedDevice | None, strangers: Collection[str] = ()) -> str:
    """Return what is known of a device, a line for each."""
    return "\n".join(text.display_text(line, 400) for line in _lines(row, planned, strangers))


def _lines(row: visits.Row, planned: PlannedDevice | None, strangers: Collection[str]) -> Iterator[str]:
    first, last, left = row.first, row.last, row.last.as_left
    yield f"{row.tag or '(no tag)'}  {', '.join(map(str, row.macs))}  {row.maker or 'maker unknown'}  {row.state}"
    if planned:
        about = {"kind": planned.kind, "place": planned.place, **planned.columns}
        yield from (f"  {name}  {value}" for name, value in about.items() if value)
    yield "  " + phrase("as found  {as_found}  {iso}", as_found=first.as_found, iso=iso(first.found_at))
    yield from ("  " + phrase("known by  {sentence}", sentence=each.sentence) for each in row.identities)
    mask = addresses.mask_of_prefix(left.prefix.value) if left.prefix.value is not None else None
    for name, shown, basis in (
        ("address", left.address.value, left.address.basis),
        ("mask", mask, left.prefix.basis),
        ("gateway", left.gateway.value, left.gateway.basis),
        ("DNS", " ".join(map(str, left.dns.value or ())), left.dns.basis),
    ):
        if basis:
            yield "  " + phrase(
                "as left  {name} {shown}  {basis_words}",
                name=name,
                shown=shown or phrase("none"),
                basis_words=basis_words(basis),
            )
    if first.found_ipv6 or last.left_ipv6:
        yield f"  IPv6  {found_words.ipv6_words(first.found_ipv6, last.left_ipv6)}"
    yield from (f"  {_MARKS[each.passed]}  {proof_words(each.name)}: {each.because}" for each in last.proofs.values())
    yield from ("  " + phrase("left out  {name}", name=proof_words(name)) for name in last.left_out)
    for visit in row.visits:
        yield "  " + phrase(
            "visit  {iso}  found {as_found}, {state}, by {member}"
            if visit.member
            else "visit  {iso}  found {as_found}, {state}",
            iso=iso(visit.found_at),
            as_found=visit.as_found,
            state=visit.state,
            member=as_member(visit.member, strangers) if visit.member else "",
        )
    for note in row.notes:
        said = "note  {iso}  {text}  photo {photo}" if note.photo else "note  {iso}  {text}"
        yield "  " + phrase(said, iso=iso(note.at), text=note.text, photo=note.photo)
