"""Set: the planned values with their checks, the ways that fit, and what is to be typed."""

from askport.core.plan.sentence import EXAMPLE
from askport.core.session import Session
from askport.core.steps import Phase
from askport.core.ways.answering import Answering
from askport.core.ways.by_hand import ByHand
from askport.tui.ink import CONFLICT, DIM, OURS, STRONG, THEIRS, Ink, beside, blank, heading, line, wrapped

_WAY_NAMES = {Answering.name: "answer its request", ByHand.name: "by hand"}
_VALUE = 20
_CHECKS = 44


def set_lines(session: Session, width: int, now: float) -> list[Ink]:
    """Draw the plan, the ways and what has happened."""
    target = session.target
    if target is None:
        return wrapped(
            f"Nothing is planned for this device. Press e and type what it is to become, say {EXAMPLE}", width
        )
    typing = session.phase is Phase.SETTING and session.way_name == ByHand.name
    title = "Type this into the device" if typing else f"What {session.work.tag} is to become"
    lines = [heading(title, width), blank()]
    found = session.whereabouts
    for name, value in target.typed():
        ink = Ink().to(2).put(name, DIM).to(_VALUE).put(value, f"{STRONG} {THEIRS}")
        if name == "IP address":
            ink.to(_CHECKS).put(f"now {found}" if found else "now none: it asks for one", DIM)
        lines.append(ink)
        if typing:
            lines.append(blank())
    lines += [*([] if typing else [blank()]), heading("Checked", width)]
    for check in session.checks():
        mark, style = ("✓", "") if check.passed else ("✗", CONFLICT)
        lines += beside(
            Ink().to(2).put(f"{mark} ", style).put(check.about, style or DIM), 16, check.sentence, width, style
        )
    ways = session.ways()
    if not typing or len(ways) > 1:
        lines += [blank(), heading("Ways that fit this device, best first", width)]
        for name, reason in ways:
            chosen = name == session.way_name
            ink = Ink().to(2).put("▸ " if chosen else "  ", STRONG).put(_WAY_NAMES[name], STRONG if chosen else "")
            lines += beside(ink, 26, reason, width, "" if chosen else DIM)
    if session.way:
        lines += [blank(), heading("What has happened", width)]
        for step in session.way.steps[-6:]:
            ago = f"{step.at - session.started_at:6.1f} s  "
            lines += beside(Ink().to(2).put(ago, DIM), 0, step.text, width)
        if not session.way.steps:
            lines.append(line("Watching the wire for its move.", OURS, 2))
    return lines
