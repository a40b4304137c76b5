"""Record: as found against as left."""

from askport.core.addresses import mask_of_prefix
from askport.core.narrate import proof_words
from askport.core.session import Session
from askport.core.steps import Phase
from askport.tui.ink import CONFLICT, DIM, STRONG, THEIRS, Ink, beside, blank, heading, wrapped

_FOUND = 20
_LEFT = 50


def record_lines(session: Session, width: int, now: float) -> list[Ink]:
    """Draw what is written down."""
    chosen, target = session.chosen, session.target
    if chosen is None or target is None:
        return wrapped("Nothing to record yet.", width, DIM)
    best = chosen.best if not chosen.asking else None
    head = Ink().put(session.work.tag, STRONG).to(_FOUND).put("as found", STRONG).to(_LEFT).put("as left", STRONG)
    lines = [head.put(" ").to(width, "┈", DIM), blank()]
    mask = str(mask_of_prefix(best.prefix)) if best and best.prefix is not None else "not known"
    rows = [
        ("address", str(best.address) if best else "none", str(target.interface.ip)),
        ("mask", mask if best else "none", str(mask_of_prefix(target.interface.network.prefixlen))),
        ("gateway", str(best.gateway or "not known") if best else "none", str(target.gateway or "none")),
        ("DNS", "not known" if best else "none", " ".join(str(each) for each in target.dns) or "none"),
        ("MAC address", str(chosen.mac), str(chosen.mac)),
        ("maker", session.maker(chosen.mac) or "unknown", ""),
    ]
    for name, found, left in rows:
        ink = Ink().to(2).put(name, DIM).to(_FOUND).put(found)
        lines += beside(ink, _LEFT, left, width, f"{STRONG} {THEIRS}")
    lines += [blank(), heading("Proven", width)]
    proofs = [*session.proofs, *([session.power_cycle] if session.power_cycle else [])]
    for proof in proofs:
        if proof.name in session.left_out:
            continue
        mark, style = ("✓", THEIRS) if proof.passed else ("✗", CONFLICT)
        ink = Ink().to(2).put(f"{mark} ", style).put(proof.expected)
        if max(_LEFT, ink.width + 1) + len(proof.measured) <= width:
            lines.append(ink.to(_LEFT).put(proof.measured, DIM))
        else:
            lines += [ink, *wrapped(proof.measured, width, DIM, 4)]
    for name in session.left_out:
        lines.append(Ink().to(2).put("– ", CONFLICT).put(f"left out: {proof_words(name)}", CONFLICT))
    if session.phase is Phase.RECORDED:
        lines += [blank(), *wrapped("Recorded. The laptop has its own settings back.", width, STRONG)]
    return lines
