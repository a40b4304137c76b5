"""Set: the planned values against the present ones with their checks, the ways that fit, and what is to be typed."""

from askport.core import addresses, errors
from askport.core.kinds.typing_in import typed
from askport.core.phrases import listed, phrase, together
from askport.core.plan import editing, sentence
from askport.core.plan.target import Target, TargetCheck
from askport.core.visit.session import Session
from askport.core.visit.steps import Phase
from askport.core.ways.way import Way
from askport.tui.ink import CONFLICT, DIM, OURS, STRONG, THEIRS, Ink, beside, blank, heading, line, wrapped
from askport.tui.pictures.landing import landing_lines

_VALUE = 20
_NOW = 44
_STEPS = 6
_WAY = 26


def set_lines(session: Session, width: int, now: float, edit: editing.TargetEdit | None = None) -> list[Ink]:
    """Draw the plan, the ways and what has happened; ``edit`` is the plan while it is typed."""
    device, target = session.device, session.device.target
    if edit:
        return _edited(session, edit, width)
    if target is None:
        text = phrase("Nothing is planned for this device. Press e to enter its new settings")
        if suggested := session.visit.suggested():
            lines = wrapped(phrase("{text}, beginning with these values.", text=text), width)
            return [*lines, blank(), *_edited(session, editing.TargetEdit(suggested), width, typed=False)]
        return wrapped(phrase("{text}, say {EXAMPLE}", text=text, EXAMPLE=sentence.EXAMPLE), width)
    way = session.visit.way
    typing = session.phase is Phase.SETTING and way is not None and way.by_technician
    put_back = phrase("Settings of {tag} as found, to be restored", tag=device.work.tag)
    title = put_back if device.restores else phrase("New settings for {tag}", tag=device.work.tag)
    lines = [heading(phrase("Type this into the device") if typing else title, width), blank()]
    present = _present(session)
    for name, value in typed(target, device.kind):
        ink = Ink().to(2).put(name, DIM).to(_VALUE).put(value, f"{STRONG} {THEIRS}")
        if name in present:
            ink.to(_NOW).put(phrase("now {present}", present=present[name]), DIM)
        lines.append(ink)
        if typing and width >= _NOW + 30:
            lines.append(blank())
    for head, cell in (device.work.planned.columns if device.work.planned else {}).items():
        lines.append(Ink().to(2).put(head, DIM).to(_VALUE).put(cell, DIM))
    if device.not_read:
        lines += [blank(), *wrapped(device.not_read, width, CONFLICT if device.says else DIM, 2)]
    said, _ = session.stages.setting.lines(now) if way and not device.way else ([], "")
    if said:
        lines += [blank(), heading(phrase("What will be sent"), width)]
        lines += [ink for each in said for ink in wrapped(each, width, STRONG, 2)]
    if not device.way and (left := session.stages.setting.untold(now)):
        text = phrase("This way does not set: {left}. The record will show it as unknown.", left=listed(left))
        lines += wrapped(text, width, DIM, 2)
    if device.way:
        lines += [blank(), heading(phrase("What has happened"), width), *_happened(session, device.way, width)]
    lines += _ways(session, width)
    if device.fits:
        several = len(device.fits) > 1
        what = (
            phrase("Matching kinds, best match first")
            if several
            else phrase("Its kind")
            if device.fit
            else phrase("What it may be")
        )
        lines += [blank(), heading(what, width)]
        for fit in device.fits:
            notes = fit.kind.notes if fit is device.fit else ""
            lines += wrapped(f"{fit.kind.words}, {fit.reason}. {notes}".rstrip(), width, indent=2)
    # what fails is said in the next line too; what passes may be scrolled to
    return [*lines, blank(), heading(phrase("Checked"), width), *_checked(session.visit.checks(), width)]


def _present(session: Session) -> dict[str, str]:
    """Return what the device has now, by the names of the values, as far as it is known."""
    device = session.device
    there, says = device.whereabouts, device.says
    if there is None:
        asks = device.chosen is not None and device.chosen.request is not None
        return {phrase("IP address"): phrase("none (asks by DHCP)") if asks else phrase("none shown")}
    present = {phrase("IP address"): str(there)}
    best = device.chosen.best if device.chosen and not device.landed_at and there not in addresses.LINK_LOCAL else None
    if best and best.prefix is not None:
        present[phrase("Subnet mask")] = str(addresses.mask_of_prefix(best.prefix))
    if best and best.gateway:
        present[phrase("Default gateway")] = str(best.gateway)
    if says is None or device.landed_at:
        return present
    if says.prefix is not None:
        present.setdefault(
            phrase("Subnet mask"), phrase("{prefix} (read back)", prefix=addresses.mask_of_prefix(says.prefix))
        )
    if "gateway" in says.said:
        present.setdefault(
            phrase("Default gateway"), phrase("{gateway} (read back)", gateway=says.gateway or phrase("none"))
        )
    if "dns" in says.said:
        for place in (1, 2, 3):
            server = says.dns[place - 1] if len(says.dns) >= place else phrase("none")
            present[editing.ROWS[2 + place]] = phrase("{server} (read back)", server=server)
    return present


def _happened(session: Session, way: Way, width: int) -> list[Ink]:
    lines: list[Ink] = []
    for step in way.steps[-_STEPS:]:
        ago = f"{step.at - session.cable.began_at:6.1f} s  "
        lines += beside(Ink().to(2).put(ago, DIM), 0, step.text, width)
    if not way.steps:
        lines.append(line(phrase("Waiting for the device to appear at its new address."), OURS, 2))
    landed, meant = way.moved_to, way.target.interface.ip
    if landed and landed not in addresses.LINK_LOCAL and not way.done:
        lines += [blank(), *landing_lines(meant, landed)]
    return lines


def _ways(session: Session, width: int) -> list[Ink]:
    ways, chosen = session.visit.ways(), session.visit.way
    lines = [blank(), heading(phrase("Ways for this device, best first"), width)]
    for each in ways:
        is_chosen = each.entry is chosen
        ink = Ink().to(2).put("▸ " if is_chosen else "  ", STRONG).put(each.entry.title, STRONG if is_chosen else "")
        needs = phrase("It needs {lacks}.", lacks=each.lacks) if each.lacks else ""
        offers = (
            phrase("It may be a {offers}, which is not certain: press w to use that.", offers=each.offers)
            if each.offers
            else ""
        )
        lines += beside(
            ink, _WAY, together(each.reason, needs, offers), width, "" if is_chosen and each.usable else DIM
        )
    return lines


def _checked(checks: list[TargetCheck], width: int) -> list[Ink]:
    lines: list[Ink] = []
    for check in checks:
        mark, style = ("✓", "") if check.passed else ("✗", CONFLICT)
        ink = Ink().to(2).put(f"{mark} ", style).put(phrase(check.about), style or DIM)
        lines += beside(ink, 16, check.sentence, width, style)
    return lines


def _edited(session: Session, edit: editing.TargetEdit, width: int, *, typed: bool = True) -> list[Ink]:
    """Draw the values while they are typed, the number at hand turned round, and what is wrong with them."""
    lines = [heading(phrase("Planned settings of {tag}", tag=session.device.work.tag), width), blank()]
    present = _present(session)
    present |= {
        phrase("Prefix"): present.get(phrase("Subnet mask"), phrase("not known")),
        phrase("Gateway"): present.get(phrase("Default gateway"), phrase("not known")),
    }
    for row, (name, numbers) in enumerate(zip(editing.ROWS, edit.rows, strict=True)):
        at = typed and row == edit.row
        ink = Ink().to(2).put("▸ " if at else "  ", STRONG).put(name, STRONG if at else DIM).to(_VALUE)
        if not any(numbers) and not at:
            lines.append(ink.put(phrase("none"), DIM))
            continue
        for place, number in enumerate(numbers):
            here = at and place == edit.place
            ink.put("." if place else "", DIM)
            ink.put(
                number or ("_" if here else "·"),
                f"{STRONG} reverse {THEIRS}" if here else f"{STRONG} {THEIRS}",
            )
        lines.append(ink.to(_NOW).put(phrase("now {present}", present=present[name]), DIM) if name in present else ink)
    try:
        target: Target | None = edit.target()
    except errors.BadInput as error:
        return [*lines, blank(), *wrapped(error.message, width, CONFLICT, 2)]
    checks = session.visit.checks(target)
    return [*lines, blank(), heading(phrase("Checked"), width), *_checked(checks, width)]
