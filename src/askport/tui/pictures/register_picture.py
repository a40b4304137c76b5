"""The register as cells of a table, and one device with all that is known of it."""

from collections.abc import Collection, Iterable

from askport.core.addresses import mask_of_prefix
from askport.core.crew.seals import as_member
from askport.core.phrases import phrase
from askport.core.plan.planned_device import PlannedDevice
from askport.core.plan.working_order import WorkItem
from askport.core.register import as_left, searching
from askport.core.register.found_words import NOT_KNOWN, found_words, ipv6_words
from askport.core.register.visits import ProofRow, Row
from askport.core.visit.narrate import basis_words, proof_words
from askport.core.ways.table import entry_of
from askport.tui.ink import CONFLICT, DIM, STRONG, THEIRS, Ink, beside, blank, flow, heading, wrapped

_NAME, _FOUND, _LEFT = 16, 18, 48
STATE_STYLES = {"proven": f"{STRONG} {THEIRS}", "unproven": CONFLICT}
HEADS = (
    phrase("tag"),
    phrase("state"),
    phrase("as left"),
    phrase("as found"),
    phrase("device"),
    phrase("maker"),
    phrase("MAC address"),
    phrase("recorded"),
)


def cells_of(device: searching.Brief) -> tuple[str, ...]:
    """Return the cells of one device."""
    at = device.recorded_at.astimezone() if device.recorded_at else None
    about = ", ".join(filter(None, (device.kind, device.place)))
    when = f"{at:%Y-%m-%d %H:%M}" if at else ""
    tag, left = device.tag or phrase("no tag"), device.as_left or phrase("not set")
    return tag, phrase(device.state), left, device.as_found, about, device.maker, device.mac, when


def left_lines(items: Iterable[WorkItem], width: int, most: int = 2) -> list[Ink]:
    """Draw what of the work list is still to do, on a few lines."""
    pieces = [
        Ink().put(item.tag, STRONG).put(f" {item.target.interface}" if item.target else "", DIM) for item in items
    ]
    if not pieces:
        return []
    shown = min(len(pieces), most * width // 6)  # no piece is shorter
    while len(lines := flow(pieces[:shown], width, 2)) > most:
        shown -= 1
    left = len(pieces) - shown
    more = [Ink().to(2).put(phrase("and {left} more", left=left), DIM)] if left else []
    return [heading(phrase("Still to do: {count}", count=len(pieces)), width), *lines, *more]


def device_lines(row: Row, planned: PlannedDevice | None, width: int, strangers: Collection[str] = ()) -> list[Ink]:
    """Draw one device: as found and as left side by side, its proofs, its power cycle, its visits."""
    first, last, left = row.first, row.last, row.last.as_left
    found = found_words(first.found_prefix, first.found_gateway, first.found_said)
    head = Ink().put("", STRONG).to(_FOUND).put(phrase("as found"), STRONG).to(_LEFT).put(phrase("as left"), STRONG)
    lines = [head.put(" ").to(width, "┈", DIM)]
    mask = str(mask_of_prefix(left.prefix.value)) if left.prefix.value is not None else ""
    values: tuple[tuple[str, object, object, as_left.Basis | None], ...] = (
        (phrase("address"), str(first.found_address or first.as_found), left.address.value, left.address.basis),
        (phrase("mask"), found.mask, mask, left.prefix.basis),
        (phrase("gateway"), found.gateway, left.gateway.value, left.gateway.basis),
        ("DNS", found.dns, " ".join(map(str, left.dns.value or ())), left.dns.basis),
    )
    for name, was, now, basis in values:
        ink = Ink().to(2).put(name, DIM).to(_FOUND).put(was, DIM if was == NOT_KNOWN else "")
        shown = basis not in (None, as_left.Basis.TOLD)
        text = f"{now or phrase('none')}  {basis_words(basis)}" if basis else phrase("not known")
        lines += beside(ink, _LEFT, text, width, f"{STRONG} {THEIRS}" if shown else DIM)
    if first.found_ipv6 or last.left_ipv6:
        lines += beside(Ink().to(2).put("IPv6", DIM), _FOUND, ipv6_words(first.found_ipv6, last.left_ipv6), width)
    about = {phrase("kind"): planned.kind, phrase("place"): planned.place, **planned.columns} if planned else {}
    if any(about.values()):
        lines += [blank(), heading(phrase("From the plan"), width)]
        lines += [Ink().to(2).put(name, DIM).to(_FOUND).put(text) for name, text in about.items() if text]
    lines += [blank(), heading(phrase("Proofs"), width)]
    for proof in last.proofs.values():
        mark, style = {True: ("✓", THEIRS), False: ("✗", CONFLICT), None: ("–", DIM)}[proof.passed]
        lines += beside(Ink().to(2).put(f"{mark} ", style).put(_named(proof)), 38, proof.because, width, DIM)
    lines += [
        Ink().to(2).put(f"– {phrase('{check}: skipped', check=proof_words(name))}", CONFLICT) for name in last.left_out
    ]
    if not last.proofs:
        lines.append(Ink().to(2).put(phrase("None yet."), DIM))
    if cut := last.cut:
        told = ", ".join(phrase("{name} after {at:.1f} s", name=name, at=at) for name, at in cut.moments)
        lines += [
            blank(),
            heading(phrase("After the power cycle"), width),
            *wrapped(told or phrase("Nothing was heard."), width, indent=2),
        ]
    if row.open_points:
        points = ", ".join(map(proof_words, row.open_points))
        lines += [blank(), heading(phrase("Open"), width), *wrapped(points, width, CONFLICT, 2)]
    if row.identities:
        lines += [blank(), heading(phrase("Identifies itself as"), width)]
        lines += [line for each in row.identities for line in wrapped(each.sentence, width, indent=2)]
    lines += [blank(), heading(phrase("Visits"), width), *_visits(row, width, strangers)]
    if len(row.macs) > 1:
        macs = ", ".join(map(str, row.macs))
        lines += [
            blank(),
            heading(phrase("One device with several MAC addresses"), width),
            *wrapped(macs, width, indent=2),
        ]
    if row.notes:
        lines += [blank(), heading(phrase("Notes"), width)]
    for note in row.notes:
        when, photo = (
            f"{note.at.astimezone():%Y-%m-%d %H:%M}",
            "  " + phrase("photo {photo}", photo=note.photo) if note.photo else "",
        )
        lines += beside(Ink().to(2).put(when, DIM), _FOUND + 2, f"{note.text}{photo}", width)
    return lines


def _named(proof: ProofRow) -> str:
    return f"{proof_words(proof.name)}, {proof.verdict}" if proof.after_cut else proof_words(proof.name)


def _visits(row: Row, width: int, strangers: Collection[str]) -> list[Ink]:
    lines: list[Ink] = []
    for each in row.visits:
        way = entry_of(each.way)
        came = [phrase("found {as_found}", as_found=each.as_found)]
        if each.result:
            came.append(phrase("set {done}: {result}", done=way.done if way else each.way, result=phrase(each.result)))
        if each.as_left.address.basis:
            came.append(phrase("left {as_left}", as_left=each.as_left.words()))
        came.append(phrase(each.state))
        if each.member:
            came.append(phrase("by {member}", member=as_member(each.member, strangers)))
        when = f"{each.found_at.astimezone():%Y-%m-%d %H:%M}"
        lines += beside(Ink().to(2).put(when, DIM), _FOUND + 2, ", ".join(came), width)
    return lines
