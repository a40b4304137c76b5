"""What stands around the step's picture: the title, what has just happened, what to do next, and practice hands."""

from askport.bench.practice import Practice
from askport.core.finding.hazards import wire_hazards
from askport.core.phrases import listed, phrase
from askport.core.reach.laptop import NEWS
from askport.core.text import span_words
from askport.core.visit.session import Session
from askport.core.visit.stages.stage import Next
from askport.core.visit.steps import Step
from askport.core.wire import Counts
from askport.tui.ink import CONFLICT, DIM, OURS, STRONG, THEIRS, Ink, beside, blank, broken, warning, wrapped
from askport.tui.workplace import Workplace

_MATTER_LATER = frozenset({"address-server", "several-devices", "duplicate-address"})
"""What is dangerous about a wire after the device was found, too."""


def title_line(workplace: Workplace, now: float, width: int, like: str = "") -> Ink:
    """Draw the job, the device at hand, in a crate what it is like, and what is borrowed since when."""
    run = workplace.run
    item, laptop = run.session.device.work, run.session.cable.laptop
    ink = Ink().put(f"  {workplace.title}", STRONG)
    ink.put(" · ", DIM).put(item.tag, STRONG)
    borrowed = ""
    if laptop.borrowed and laptop.borrowed_at is not None:
        since = span_words(now - laptop.borrowed_at)
        borrowed = "   " + phrase(
            "borrowed {borrowed} {where} for {since}",
            borrowed=listed(laptop.borrowed),
            where=laptop.where,
            since=since,
        )
    if ink.width + 1 + len(item.description) + len(borrowed) <= width:
        ink.put(f" {item.description}")
    if like:
        ink.put("  " + phrase("▐ crate, like {like} ▌", like=like), f"{STRONG} {OURS}")
    if ink.width + len(borrowed) > width:
        borrowed = "   " + phrase("{count} borrowed", count=len(laptop.borrowed))
    ink.put(borrowed, OURS)
    if run.crew and ink.width + 3 + len(words := run.crew.state.words) <= width - 24:
        ink.put(f"   {words}", CONFLICT if run.crew.state.wrong else DIM)
    clock = f"{run.wire.wall(now).astimezone():%H:%M:%S}  "
    fitting = (each for each in (f"{workplace.place}   {clock}", clock) if ink.width + 2 + len(each) <= width)
    right = next(fitting, "")  # what is borrowed matters more
    return ink.to(width - len(right)).put(right, DIM)


def news_lines(session: Session, counts: Counts, step: Step, width: int) -> list[Ink]:
    """Draw what is dangerous about laptop and wire where it matters; finding shows it itself, reaching the laptop's."""
    is_early = step in (Step.PLUG, Step.FIND)
    laptop = [] if is_early or step is Step.REACH else session.cable.laptop.hazards
    news = [each.text for each in laptop if step is not Step.RECORD or each.code in NEWS]
    tag = session.device.work.tag
    if member := session.cable.around.others().holder_of(tag):
        news.append(
            phrase(
                "{member} is also working on {tag}. Agree who does it, or press p for another.", member=member, tag=tag
            )
        )
    if step is not Step.RECORD:
        news += [each.text for each in wire_hazards(counts)]
    if not is_early and step is not Step.RECORD:
        news += [each.text for each in session.cable.finder.hazards() if each.code in _MATTER_LATER]
    return [ink for text in news for ink in (*warning(text, width), blank())]


def door_lines(address: str, far: str, width: int) -> list[Ink]:
    """Draw the address of an open door, whole and on a line of its own, so that it can be copied or typed."""
    text = phrase("leads one browser to {far} over the cable; o hands out another.", far=far)
    return [Ink().put(address, f"{STRONG} {OURS}"), *wrapped(text, width, DIM), blank()]


def next_lines(said: Next, is_wrong: bool, width: int, rows: int = 3) -> list[Ink]:
    """Draw what is; below it what hands have to do at the device; and last, in one place always, what Enter does."""

    def kind(mark: str, style: str, text: str) -> list[Ink]:
        return beside(Ink().put(mark, style or DIM), 10, text, width - 2, style) if text else []

    above = kind("      ·", CONFLICT if is_wrong else "", said.said) + kind(
        f"  {phrase('hands')} »", THEIRS, said.hands
    )
    enter = kind("  Enter ▸", STRONG, said.action) or [blank()]
    return [*above, *(blank() for _ in range(rows - len(above) - len(enter))), *enter]


def hand_lines(practice: Practice | None, said: str, width: int, *, compact: bool = False) -> list[Ink]:
    """Draw what the technician's hands can do on the practice bench, and what came of it last."""
    if practice is None:
        return []
    title = phrase("practice:") if compact else phrase("practice bench, simulate:")
    power = phrase("pull its power") if practice.is_powered else phrase("plug its power in")
    keep = phrase("save on console") if compact else phrase("save the address on its console")
    fill = phrase("fill in its page") if practice.hand == "page" else phrase("fill in its keypad")
    verb = keep if practice.hand == "console" else fill
    ink = Ink().put(f"  {title} ", DIM).put("F6 ", STRONG).put(power)
    if practice.hand != "ping":  # there is something to type into
        ink.put("   F7 ", STRONG).put(verb)
    if practice.hand not in ("console", "ping"):
        ink.put("   F8 ", STRONG).put(phrase("swap digits") if compact else phrase("swap two digits in it"))
    indent = len(title) if len(title) + len(said) <= width else 2
    first, *more = broken(said, width - indent - 1)
    return [ink, Ink().to(indent).put(f"{first}…" if more else first, DIM)] if said else [ink]
