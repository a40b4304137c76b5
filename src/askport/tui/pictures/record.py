"""Record: as found against as left."""

from askport.core.addresses import mask_of_prefix
from askport.core.narrate import basis_words, proof_words
from askport.core.register.as_left import Basis
from askport.core.session import Session
from askport.core.steps import Phase
from askport.tui.ink import CONFLICT, DIM, STRONG, THEIRS, Ink, beside, blank, heading, wrapped

_FOUND = 20
_LEFT = 50


def record_lines(session: Session, width: int, now: float) -> list[Ink]:
    """Draw what is written down."""
    chosen, target = session.device.chosen, session.device.target
    if chosen is None or target is None:
        return wrapped("Nothing to record yet.", width, DIM)
    best = chosen.best if not chosen.request else None
    head = (
        Ink().put(session.device.work.tag, STRONG).to(_FOUND).put("as found", STRONG).to(_LEFT).put("as left", STRONG)
    )
    lines = [head.put(" ").to(width, "┈", DIM), blank()]
    mask = str(mask_of_prefix(best.prefix)) if best and best.prefix is not None else "not known"
    left = session.device.as_left
    left_mask = str(mask_of_prefix(left.prefix.value)) if left.prefix.value is not None else None
    rows: list[tuple[str, str, object, Basis | None]] = [
        ("address", str(best.address) if best else "none", left.address.value, left.address.basis),
        ("mask", mask if best else "none", left_mask, left.prefix.basis),
        ("gateway", str(best.gateway or "not known") if best else "none", left.gateway.value, left.gateway.basis),
        ("DNS", "not known" if best else "none", " ".join(map(str, left.dns.value or ())), left.dns.basis),
    ]
    for name, found, value, basis in rows:
        ink = Ink().to(2).put(name, DIM).to(_FOUND).put(found)
        shown = basis not in (None, Basis.TOLD)
        said = f"{(value or 'none') if basis else ''}  {basis_words(basis)}".strip()
        lines += beside(ink, _LEFT, said, width, f"{STRONG} {THEIRS}" if shown else DIM)
    maker = session.cable.around.maker(chosen.mac) or "maker unknown"
    lines.append(Ink().to(2).put("MAC address", DIM).to(_FOUND).put(f"{chosen.mac}, {maker}"))
    lines += [blank(), heading("Proven", width)]
    for proof in session.device.all_proofs:
        if proof.name in session.device.left_out:
            continue
        mark, style = ("✓", THEIRS) if proof.passed else ("–", DIM) if proof.not_made else ("✗", CONFLICT)
        ink = Ink().to(2).put(f"{mark} ", style).put(proof.expected)
        if max(_LEFT, ink.width + 1) + len(proof.measured) <= width:
            lines.append(ink.to(_LEFT).put(proof.measured, DIM))
        else:
            lines += [ink, *wrapped(proof.measured, width, DIM, 4)]
    for name in session.device.left_out:
        lines.append(Ink().to(2).put("– ", CONFLICT).put(f"left out: {proof_words(name)}", CONFLICT))
    if session.phase is Phase.RECORDED:
        lines += [blank(), *wrapped("Recorded. The laptop has its own settings back.", width, STRONG)]
    return lines
