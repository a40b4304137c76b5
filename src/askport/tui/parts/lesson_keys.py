"""What was learned while a unit was set by hand: shown as what it is, and kept as a kind where somebody agrees."""

import re
from collections.abc import Callable
from datetime import UTC, datetime
from ipaddress import IPv4Interface

from askport.core.errors import BadInput
from askport.core.kinds.kind_reading import read_kind
from askport.core.kinds.model import METHODS
from askport.core.lessons.console_lesson import ConsoleLesson, learn_lines
from askport.core.lessons.drafting import draft, draft_console
from askport.core.lessons.page_lesson import PageLesson
from askport.core.text import display_text
from askport.core.visit.session import Session
from askport.core.visit.steps import Phase
from askport.edges.files import write_file
from askport.tui.desk import Desk
from askport.tui.laptop_console import Terminal, console_of
from askport.tui.parts.crate_keys import CrateKeys
from askport.tui.question import Question
from askport.tui.screens.console_screen import ConsoleScreen

_DONE = (Phase.POWER_CYCLE, Phase.PROVING_AGAIN, Phase.MAY_RECORD, Phase.RECORDED)


class LessonKeys:
    """Keeps a lesson."""

    def __init__(self, desk: Desk, crate: CrateKeys) -> None:
        self._desk, self._crate = desk, crate
        self.terminals: dict[int, Terminal] = {}
        """Consoles that units were typed on, by their numbers."""
        self._kept = set[int]()
        """Units of which is kept what passed while they were set by hand."""

    @property
    def has_lesson(self) -> bool:
        """Whether the unit at hand was set by hand through the door, and nothing was kept of that yet."""
        session = self._desk.workplace.run.session
        by_hand = session.device.way is not None and not session.device.way.gives
        passed = self._desk.laptop.passed(session) is not None or session.device.unit in self.terminals
        return by_hand and session.phase in _DONE and self._crate.learned is None and passed

    def open_console(self) -> None:
        """Open its console on the screen."""

        def closed(terminal: Terminal | None) -> None:
            if terminal and terminal.listening.lines:
                self.terminals[self._desk.workplace.run.session.device.unit] = terminal

        if far := console_of(self._desk.workplace.run.session):
            self._desk.view(ConsoleScreen(self._desk.workplace, far), closed)

    def keep_what_passed(self) -> None:
        """Keep what passed with the job, once the unit is recorded."""
        run = self._desk.workplace.run
        session, unit = run.session, run.session.device.unit
        if session.phase is Phase.RECORDED and unit not in self._kept and (door := self._desk.laptop.passed(session)):
            self._kept.add(unit)
            if session.device.way and not session.device.way.gives:
                run.keep_taught(door.exchanges, port=door.far.port, secure=door.secure)

    def learned_by_hand(self) -> tuple[PageLesson | ConsoleLesson, Callable[[str], str]] | None:
        """Return what passed to this device teaches, and what makes a kind file of it; None where nothing passed."""
        session = self._desk.workplace.run.session
        device = session.device
        mac = device.chosen.mac if device.chosen else None
        after_restart = device.way is not None and device.way.wants_power
        learned = f"Learned from {device.work.tag} on {datetime.now(UTC).astimezone().date()}"
        if terminal := self.terminals.get(device.unit):
            lines = learn_lines(terminal.listening.lines, device.target)
            if not lines.why_not:
                return lines, lambda kind: draft_console(lines, terminal.way, name=kind, mac=mac, learned=learned)
        if found := self._desk.laptop.lesson(session):
            lesson, door = found
            return lesson, lambda kind: draft(
                lesson, name=kind, mac=mac, secure=door.secure, port=door.far.port, after_restart=after_restart,
                learned=learned, delivered=_delivered(session, lesson), lasted=_lasted(session),
            )  # fmt: skip
        return None

    def keep(self) -> None:
        """Show what was learned, and ask under which name it is kept."""
        session = self._desk.workplace.run.session
        found = self.learned_by_hand()
        if found is None:
            self._desk.tell("No line that was typed told it its address: nothing can be learned from that.")
            return
        lesson, text_for = found
        if lesson.why_not:
            self._desk.tell(lesson.why_not)
            return
        about = display_text(f"{lesson.words}. {_steps(lesson)}", 400)
        maker = session.cable.around.maker(session.device.chosen.mac) if session.device.chosen else None
        name = (lesson.title if isinstance(lesson, PageLesson) else "") or maker or f"like {session.device.work.tag}"

        def check(typed: str) -> str:
            kind = " ".join(typed.split())
            if not kind or len(kind) > 60 or not kind.isprintable():
                raise BadInput("A kind has a name of 1 to 60 printable characters.")
            read_kind(text_for(kind), "what was learned")
            return about

        def use(_session: Session, _now: float, typed: str) -> None:
            kind = " ".join(typed.split())
            text = text_for(kind)
            slug = re.sub(r"[^a-z0-9]+", "-", kind.casefold()).strip("-") or "learned"
            path = self._desk.workplace.run.job.path.with_name(f"{slug}.kind.toml")
            if path.exists():
                raise BadInput(f"'{path.name}' exists already: name the kind otherwise.")
            write_file(path, text.encode())
            self._crate.learned = read_kind(text, path.name)
            self._desk.workplace.run.learn(self._crate.learned)
            self._desk.tell(f"Kept in {path.name}. g has the rest of the crate go like this one.")

        question = "Keep what was learned as a kind. What is it called? Values and passwords are not in it."
        self._desk.ask(Question(question, name, check, use, replaces=True))


def _delivered(session: Session, lesson: PageLesson) -> IPv4Interface | None:
    """Return where the unit was as it was delivered: with its mask, and where nobody has set it before."""
    device, around = session.device, session.cable.around
    best = device.chosen.best if device.chosen else None
    at = lesson.found
    if best and best.prefix is not None and best.address == device.old_address:
        at = IPv4Interface((best.address, best.prefix))
    is_site = at is not None and any(at.ip in site.network for site in around.sites)
    return None if at is None or is_site or (device.chosen and around.known.get(device.chosen.mac)) else at


def _lasted(session: Session) -> bool:
    cycle = session.device.power_cycle
    return cycle is not None and cycle.passed is True


def _steps(lesson: PageLesson | ConsoleLesson) -> str:
    """Say what is sent to the next unit, and for what the placeholders stood."""
    stood = ", ".join(f"{each.placeholder} for {each.value}" for each in lesson.stood)
    if isinstance(lesson, ConsoleLesson):
        return f"{' '.join('“' + each['send'] + '”' for each in (*lesson.set, *lesson.keep))}, with {stood}."
    asks = [next(f"{verb} {step[verb.lower()]}" for verb in METHODS if verb.lower() in step) for step in lesson.set]
    return f"{', '.join(asks)}, with {stood}."
