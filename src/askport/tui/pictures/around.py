"""What stands around the step's picture: the title, what has just happened, what to do next, and practice hands."""

from askport.bench.practice import Practice
from askport.core.narrate import Next
from askport.core.reach.laptop import NEWS
from askport.core.session import Session
from askport.core.steps import Step
from askport.core.words import listed, span_words
from askport.tui.ink import CONFLICT, DIM, OURS, STRONG, Ink, blank, broken, warning
from askport.tui.outfit import Outfit


def title_line(outfit: Outfit, now: float, width: int) -> Ink:
    """Draw the job, the device at hand and what is borrowed since when."""
    tour = outfit.round
    item, laptop = tour.session.work, tour.session.laptop
    ink = Ink().put(f"  {outfit.title}", STRONG)
    ink.put(" · ", DIM).put(item.tag, STRONG).put(f" {item.description}")
    if laptop.borrowed and laptop.borrowed_at is not None:
        ink.put(f"   borrowed {listed(laptop.borrowed)} for {span_words(now - laptop.borrowed_at)}", OURS)
    right = f"{outfit.place}   {tour.wire.wall(now).astimezone():%H:%M:%S}  "
    if ink.width + len(right) > width:
        right = ""  # what is borrowed matters more
    return ink.to(width - len(right)).put(right, DIM)


def news_lines(session: Session, step: Step, width: int) -> list[Ink]:
    """Draw what has just happened to the laptop; finding and reaching show all that is dangerous about it."""
    if step in (Step.PLUG, Step.FIND, Step.REACH):
        return []
    news = [each.text for each in session.laptop.hazards if each.code in NEWS]
    return [ink for text in news for ink in (*warning(text, width), blank())]


def next_lines(said: Next, is_wrong: bool, width: int) -> list[Ink]:
    """Draw what to do next, in two lines."""
    key, style = ("  Enter ▸ ", STRONG) if said.enter else ("      ·   ", DIM)
    weight = CONFLICT if is_wrong else STRONG if said.enter else ""
    first, *more = broken(said.sentence, width - 14)[:2]
    return [Ink().put(key, style).put(first, weight), *(Ink().to(10).put(each, weight) for each in more or [""])]


def hand_lines(practice: Practice | None, said: str) -> list[Ink]:
    """Draw what the technician's hands can do on the practice bench, and what came of it last."""
    if practice is None:
        return []
    hand = practice.hand
    power = "pull its power" if practice.is_powered else "plug its power in"
    verb = "have its console keep its address" if hand == "console" else f"fill in its {hand}"
    ink = Ink().put("  practice, your hands: ", DIM).put("F6 ", STRONG).put(power).put("   F7 ", STRONG).put(verb)
    if hand != "console":
        ink.put("   F8 ", STRONG).put("swap two digits in it")
    return [ink, Ink().to(24).put(said, DIM)] if said else [ink]
