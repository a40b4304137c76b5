"""Set: the planned values with their checks, the ways that fit, and what is to be typed."""

from askport.core.kinds.typing_in import typed
from askport.core.plan.sentence import EXAMPLE
from askport.core.session import Session
from askport.core.steps import Phase
from askport.tui.ink import CONFLICT, DIM, OURS, STRONG, THEIRS, Ink, beside, blank, heading, line, wrapped

_VALUE = 20
_CHECKS = 44


def set_lines(session: Session, width: int, now: float) -> list[Ink]:
    """Draw the plan, the ways and what has happened."""
    target = session.device.target
    if target is None:
        return wrapped(
            f"Nothing is planned for this device. Press e and type what it is to become, say {EXAMPLE}", width
        )
    way = session.visit.way
    typing = session.phase is Phase.SETTING and way is not None and way.by_technician
    title = "Type this into the device" if typing else f"What {session.device.work.tag} is to become"
    lines = [heading(title, width), blank()]
    found = session.device.whereabouts
    for name, value in typed(target, session.device.kind):
        ink = Ink().to(2).put(name, DIM).to(_VALUE).put(value, f"{STRONG} {THEIRS}")
        if name == "IP address":
            asks = session.device.chosen is not None and session.device.chosen.request is not None
            ink.to(_CHECKS).put(f"now {found}" if found else f"now none{': it asks for one' if asks else ''}", DIM)
        lines.append(ink)
        if typing:
            lines.append(blank())
    said, _ = session.stages.setting.lines(now) if way and not session.device.way else ([], "")
    if said:
        lines += [blank(), heading("What it will be told", width)]
        lines += [ink for each in said for ink in wrapped(each, width, STRONG, 2)]
    if session.device.way:
        lines += [*([] if typing else [blank()]), heading("What has happened", width)]
        for step in session.device.way.steps[-6:]:
            ago = f"{step.at - session.cable.began_at:6.1f} s  "
            lines += beside(Ink().to(2).put(ago, DIM), 0, step.text, width)
        if not session.device.way.steps:
            lines.append(line("Watching the wire for its move.", OURS, 2))
    ways = session.visit.ways()
    if not typing or len(ways) > 1:
        lines += [blank(), heading("Ways that fit this device, best first", width)]
        for entry, reason in ways:
            chosen = entry is way
            ink = Ink().to(2).put("▸ " if chosen else "  ", STRONG).put(entry.title, STRONG if chosen else "")
            lines += beside(ink, 26, reason, width, "" if chosen else DIM)
    lines += [*([] if typing and not session.device.way else [blank()]), heading("Checked", width)]
    for check in session.visit.checks():
        mark, style = ("✓", "") if check.passed else ("✗", CONFLICT)
        lines += beside(
            Ink().to(2).put(f"{mark} ", style).put(check.about, style or DIM), 16, check.sentence, width, style
        )
    if fit := session.device.fit:
        lines += [blank(), heading("Its kind", width)]
        lines += wrapped(f"{fit.kind.words}, {fit.reason}. {fit.kind.notes}".rstrip(), width, indent=2)
    return lines
