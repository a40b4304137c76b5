"""Record: as found against as left."""

from askport.core.addresses import mask_of_prefix
from askport.core.phrases import phrase, together
from askport.core.proofs.verdict import verdict_of
from askport.core.register.as_left import Basis
from askport.core.register.found_words import FoundWords, found_words
from askport.core.visit import narrate, steps
from askport.core.visit.session import Session
from askport.tui.ink import CONFLICT, DIM, STRONG, THEIRS, Ink, beside, blank, heading, wrapped

_FOUND, _LEFT = 20, 50
_FOUND_NARROW, _LEFT_NARROW = 14, 36
_NARROW = 84
"""Columns: below this the values stand closer."""


def record_lines(session: Session, width: int, now: float) -> list[Ink]:
    """Draw what is written down."""
    chosen, target = session.device.chosen, session.device.target
    if chosen is None or target is None:
        return wrapped(phrase("Nothing to record yet."), width, DIM)
    found_at, left_at = (_FOUND, _LEFT) if width >= _NARROW else (_FOUND_NARROW, _LEFT_NARROW)
    best = chosen.best if not chosen.request else None
    head = Ink().put(session.device.work.tag[: found_at - 1], STRONG).to(found_at).put(phrase("as found"), STRONG)
    head.to(left_at).put(phrase("as left"), STRONG)
    lines = [head.put(" ").to(width, "┈", DIM), blank()]
    says = session.device.says
    found = found_words(best.prefix, best.gateway, says) if best else FoundWords(*[phrase("none")] * 3)
    left = session.device.as_left
    left_mask = str(mask_of_prefix(left.prefix.value)) if left.prefix.value is not None else None
    rows: list[tuple[str, str, object, Basis | None]] = [
        (phrase("address"), str(best.address) if best else phrase("none"), left.address.value, left.address.basis),
        (phrase("mask"), found.mask, left_mask, left.prefix.basis),
        (phrase("gateway"), found.gateway, left.gateway.value, left.gateway.basis),
        ("DNS", found.dns, " ".join(map(str, left.dns.value or ())), left.dns.basis),
    ]
    for name, was, value, basis in rows:
        ink = Ink().to(2).put(name, DIM).to(found_at).put(was)
        shown = basis not in (None, Basis.TOLD)
        said = f"{(value or phrase('none')) if basis else ''}  {narrate.basis_words(basis)}".strip()
        lines += beside(ink, left_at, said, width, f"{STRONG} {THEIRS}" if shown else DIM)
    maker = session.cable.around.maker(chosen.mac) or phrase("maker unknown")
    lines.append(Ink().to(2).put("MAC", DIM).to(found_at).put(f"{chosen.mac}, {maker}"))
    lines += [blank(), heading(phrase("Proven"), width)]
    for proof in session.device.all_proofs:
        if proof.name in session.device.left_out:
            continue
        mark, style = ("✓", THEIRS) if proof.passed else ("–", DIM) if proof.not_made else ("✗", CONFLICT)
        ink = Ink().to(2).put(f"{mark} ", style).put(proof.expected)
        if max(_LEFT, ink.width + 1) + len(proof.measured) <= width:
            lines.append(ink.to(_LEFT).put(proof.measured, DIM))
        else:
            lines += [ink, *wrapped(proof.measured, width, DIM, 4)]
    if again := session.device.again:
        verdict = verdict_of(again)
        mark, style = ("✓", THEIRS) if verdict.nothing_failed else ("✗", CONFLICT)
        lines.append(
            Ink()
            .to(2)
            .put(f"{mark} ", style)
            .put(phrase("after the power cycle once more: {words}", words=verdict.words))
        )
    for name in session.device.left_out:
        lines.append(
            Ink().to(2).put("– ", CONFLICT).put(phrase("left out: {name}", name=narrate.proof_words(name)), CONFLICT)
        )
    if session.phase is steps.Phase.RECORDED:
        back = "" if session.cable.laptop.is_beside else phrase("The laptop has its own settings back.")
        lines += [blank(), *wrapped(together(phrase("Recorded."), back), width, STRONG)]
    return lines
