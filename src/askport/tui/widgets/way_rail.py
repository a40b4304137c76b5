"""The way down the left: the six steps with their results, and the devices of the round."""

from textual.events import Click
from textual.message import Message

from askport.core.phrases import phrase
from askport.core.visit import narrate, steps
from askport.core.visit.session import Session
from askport.edges.job_run import JobRun
from askport.tui.ink import CONFLICT, DIM, STRONG, THEIRS, Ink, blank, line
from askport.tui.widgets.sheet import Sheet

_GLYPHS = {"done": "●", "now": "◆", "ahead": "○"}


class WayRail(Sheet):
    """Shows the way; a click on a step looks at it."""

    class Looked(Message):
        """Somebody wants to look at a step."""

        def __init__(self, step: steps.Step) -> None:
            super().__init__()
            self.step = step

    def on_click(self, event: Click) -> None:
        """Look at the step under the pointer; each takes two lines."""
        place = event.y // 2
        if place < len(steps.Step):
            self.post_message(self.Looked(list(steps.Step)[place]))


def way_lines(session: Session, looking_at: steps.Step | None, width: int) -> list[Ink]:
    """Draw the steps as stops on a line."""
    lines = []
    for place, step in enumerate(narrate.step_lines(session), 1):
        style = {"done": "", "now": f"{STRONG} {THEIRS}", "ahead": DIM}[step.state]
        ink = Ink().put(f" {_GLYPHS[step.state]} ", style).put(phrase(step.step), f"{STRONG} {style}".strip())
        if looking_at is step.step:
            ink.put(f"  ◂ {phrase('viewing')}", DIM)
        lines.append(ink.to(width - 3).put(place, DIM))
        rail = "│" if place < len(steps.Step) else " "
        lines.append(Ink().put(f" {rail} ", DIM).put(_cut(step.result, width - 4), "" if step.state == "now" else DIM))
    return lines


def _cut(text: str, room: int) -> str:
    return text if len(text) <= room else f"{text[: room - 1]}…"


def way_strip(session: Session, looking_at: steps.Step | None, width: int, *, names_all: bool = True) -> Ink:
    """Draw the steps on one line, for a small terminal; where not all names have room, the present one's."""
    ink = Ink().put(" ")
    for place, step in enumerate(narrate.step_lines(session), 1):
        style = {"done": "", "now": f"{STRONG} {THEIRS}", "ahead": DIM}[step.state]
        ink.put("──" if place > 1 else "", DIM).put(f"{_GLYPHS[step.state]} {place} ", style)
        ink.put(phrase(step.step) if names_all or step.state == "now" else "", style)
        ink.put(" ◂" if looking_at is step.step else " ", DIM)
    return ink if ink.width <= width or not names_all else way_strip(session, looking_at, width, names_all=False)


def crate_lines(run: JobRun, width: int, room: int, like: str = "") -> list[Ink]:
    """Draw the devices of the round, the one at hand marked; within a crate, like which unit they go."""
    if not run.work:
        return []
    states = run.job.register.states()
    crate = f" {phrase('Crate, same as {like}', like=like)}"
    crate = crate if len(crate) <= width else f" {phrase('Crate, like {like}', like=like)}"[:width]
    lines = [blank(), line(crate if like else f" {phrase('Job list')}", STRONG)]
    tags = [item.tag for item in run.work]
    at_hand = run.session.device.listed_as
    here = tags.index(at_hand) if at_hand in tags else len(tags)
    first, last = shown_of(len(tags), here, room)
    counts = room >= 3
    if first and counts:
        lines.append(line(f"   … {phrase('{count} above', count=first)}", DIM))
    for item in run.work[first:last]:
        state = states.get(item.tag, "")
        if state not in ("proven", "unproven"):
            state = "current" if item.tag == at_hand else ""
        state = state or run.others().holder_of(item.tag) or ""
        style = CONFLICT if state == "unproven" else "" if state == "current" else DIM
        ink = Ink().put(" ▸ " if state == "current" else " ✓ " if state == "proven" else "   ", style)
        lines.append(ink.put(item.tag, STRONG if state == "current" else style).to(12).put(phrase(state), style))
    if last < len(tags) and counts:
        lines.append(line(f"   … {phrase('{count} more', count=len(tags) - last)}", DIM))
    return lines


def shown_of(count: int, here: int, room: int) -> tuple[int, int]:
    """Return from which to which are shown around the one at hand; a line is left for how many are not."""
    if count <= room:
        return 0, count
    if room < 3:
        first = min(here, count - room)
        return first, first + room
    if here < room - 1:
        return 0, room - 1
    if here > count - room:
        return count - room + 1, count
    between = max(1, room - 2)
    first = here - between // 2
    return first, first + between
