"""What was learned while a unit was set by hand: shown as what it is, and kept as a kind where somebody agrees."""

import re
from collections.abc import Callable, Iterable
from datetime import UTC, datetime
from ipaddress import IPv4Address, IPv4Interface
from typing import TypeVar

from askport.core.errors import BadInput
from askport.core.kinds.kind_reading import read_kind
from askport.core.kinds.model import METHODS
from askport.core.lessons import drafting, marks, page_lesson
from askport.core.lessons.console_lesson import ConsoleLesson, learn_lines
from askport.core.phrases import phrase
from askport.core.plan.target import Target
from askport.core.text import display_text
from askport.core.visit.at_hand import AtHand
from askport.core.visit.session import Session
from askport.core.visit.steps import Phase
from askport.edges import files, learning_door
from askport.tui.desk import Desk
from askport.tui.laptop_console import Terminal, console_of
from askport.tui.parts.crate_keys import CrateKeys
from askport.tui.question import Question
from askport.tui.screens.console_screen import ConsoleScreen


class LessonKeys:
    """Keeps a lesson."""

    def __init__(self, desk: Desk, crate: CrateKeys) -> None:
        self._desk, self._crate = desk, crate
        self.terminals: dict[int, list[Terminal]] = {}
        """Consoles that units were typed on, in order, by the units' numbers."""
        self._kept = set[int]()
        """Units of which is kept what passed while they were set by hand."""
        self._looked_at: tuple[tuple[int, ...], bool] = (), False
        """How much had passed when that was looked at last, and whether it teaches something."""
        self._names: dict[int, str] = {}
        """What the lessons of units were called, for one that is taken up again."""

    @property
    def has_lesson(self) -> bool:
        """Whether what passed through the door or on a console since the unit was taken teaches how it is set."""
        session = self._desk.workplace.run.session
        door, typed = self._desk.laptop.passed(session), self.terminals.get(session.device.unit, [])
        at = (session.device.unit, len(session.device.became), len(typed), len(door.exchanges) if door else 0)
        if at != self._looked_at[0]:
            found = self.learned_by_hand()
            self._looked_at = at, found is not None and not found[0].why_not
        return self._looked_at[1]

    def open_console(self) -> None:
        """Open its console on the screen."""

        def closed(terminal: Terminal | None) -> None:
            if terminal and terminal.listening.lines:
                self.terminals.setdefault(self._desk.workplace.run.session.device.unit, []).append(terminal)

        if far := console_of(self._desk.workplace.run.session):
            self._desk.view(ConsoleScreen(self._desk.workplace, far), closed)

    def keep_what_passed(self) -> None:
        """Keep what passed with the job, once the unit is recorded."""
        run = self._desk.workplace.run
        session, unit = run.session, run.session.device.unit
        if session.phase is Phase.RECORDED and unit not in self._kept and (door := self._desk.laptop.passed(session)):
            self._kept.add(unit)
            lesson = _teaching(_page_lesson(door, session.device, each) for each in session.device.became[::-1])
            if lesson and not lesson.why_not:
                present = _page_was_at(door, session.device)
                run.keep_taught(door.exchanges, present=present, port=door.far.port, secure=door.secure)

    def learned_by_hand(self) -> tuple[page_lesson.PageLesson | ConsoleLesson, Callable[[str], str]] | None:
        """Return what passed to this device teaches, and what makes a kind file of it; None where nothing passed."""
        session = self._desk.workplace.run.session
        device = session.device
        learned = phrase(
            "Learned from {tag} on {date}", tag=device.work.tag, date=datetime.now(UTC).astimezone().date()
        )
        door, terminals = self._desk.laptop.passed(session), self.terminals.get(device.unit, [])
        typed, became = [each.listening for each in terminals], device.became[::-1]  # what was told last counts
        page = _teaching(_page_lesson(door, device, target) for target in became if door)
        lines = _teaching(learn_lines(typed, target) for target in became if typed)
        if lines and (not lines.why_not or page is None or page.why_not):
            at = _delivered(session, None)
            return lines, lambda kind: drafting.draft_console(
                lines, terminals[0].way, name=kind, marks=_marks(device), learned=learned, delivered=at,
                lasted=_lasted(session),
            )  # fmt: skip
        if page and door:
            return page, lambda kind: drafting.draft(
                page, name=kind, marks=_marks(device), secure=door.secure, port=door.far.port,
                after_restart=device.took_after_restart, learned=learned, delivered=_delivered(session, page.found),
                lasted=_lasted(session),
            )  # fmt: skip
        return None

    def keep(self) -> None:
        """Show what was learned, and ask under which name it is kept."""
        session = self._desk.workplace.run.session
        found = self.learned_by_hand()
        if found is None:
            return
        (lesson, text_for), unit = found, session.device.unit
        if lesson.why_not:
            self._desk.tell(lesson.why_not)
            return
        about = display_text(f"{lesson.words}. {_steps(lesson)}", 400)
        maker = session.cable.around.maker(session.device.chosen.mac) if session.device.chosen else None
        title = lesson.title if isinstance(lesson, page_lesson.PageLesson) else ""
        name = self._names.get(unit) or title or maker or phrase("like {tag}", tag=session.device.work.tag)

        def check(typed: str) -> str:
            kind = " ".join(typed.split())
            if not kind or len(kind) > 60 or not kind.isprintable():
                raise BadInput("A kind has a name of 1 to 60 printable characters.")
            read_kind(text_for(kind), phrase("what was learned"))
            return about

        def use(_session: Session, _now: float, typed: str) -> None:
            kind = " ".join(typed.split())
            text = text_for(kind)
            slug = re.sub(r"[^a-z0-9]+", "-", kind.casefold()).strip("-") or "learned"
            job = self._desk.workplace.run.job.path
            path = job.with_name(f"{job.stem}.{slug}.kind.toml")  # it is this job's, until somebody names it otherwise
            if path.exists() and kind != self._names.get(unit):
                raise BadInput("'{name}' already exists: choose another name.", name=path.name)
            files.write_file(path, text.encode())
            self._names[unit] = kind
            self._crate.learned = read_kind(text, path.name)
            self._desk.workplace.run.learn(self._crate.learned)
            self._desk.tell(
                phrase("Saved in {name}. Press g to set the rest of the crate like this one.", name=path.name)
            )

        question = phrase("What is this kind called? It is saved without values and passwords.")
        self._desk.ask(Question(question, name, check, use, replaces=True))


_Lesson = TypeVar("_Lesson", page_lesson.PageLesson, ConsoleLesson)


def _teaching(lessons: Iterable[_Lesson]) -> _Lesson | None:
    """Return the first that teaches something, or else the first, which says why not; None where there is none."""
    each = list(lessons)
    return next((lesson for lesson in each if not lesson.why_not), next(iter(each), None))


def _page_lesson(door: learning_door.LearningDoor, device: AtHand, target: Target) -> page_lesson.PageLesson:
    return page_lesson.learn(door.exchanges, present=_page_was_at(door, device), target=target, name=device.work.tag)


def _page_was_at(door: learning_door.LearningDoor, device: AtHand) -> IPv4Address:
    """Return where the page was when it was opened; for one over IPv6, where the device was by IPv4."""
    first = door.first.address
    return first if isinstance(first, IPv4Address) else device.whereabouts or device.became[0].interface.ip


def _marks(device: AtHand) -> marks.Marks:
    chosen = device.chosen
    known = (*chosen.identities, *device.identities) if chosen else device.identities
    identities = tuple(dict.fromkeys(known))
    return marks.Marks(chosen.mac if chosen else None, device.first_words, identities, device.open_ports)


def _delivered(session: Session, at: IPv4Interface | None) -> IPv4Interface | None:
    """Return where the unit was as it was delivered: with its mask, and where nobody has set it before."""
    device, around = session.device, session.cable.around
    best = device.chosen.best if device.chosen else None
    if best and best.prefix is not None and best.address == device.old_address:
        at = IPv4Interface((best.address, best.prefix))
    is_site = at is not None and any(at.ip in site.network for site in around.sites)
    return None if at is None or is_site or (device.chosen and around.known.get(device.chosen.mac)) else at


def _lasted(session: Session) -> bool:
    cycle = session.device.power_cycle
    return cycle is not None and cycle.passed is True


def _steps(lesson: page_lesson.PageLesson | ConsoleLesson) -> str:
    """Say what is sent to the next unit, and for what the placeholders stood."""
    stood = ", ".join(
        phrase("{placeholder} for {value}", placeholder=each.placeholder, value=each.value) for each in lesson.stood
    )
    if isinstance(lesson, ConsoleLesson):
        return phrase(
            "{values}, with {stood}.",
            values=" ".join("“" + each["send"] + "”" for each in (*lesson.set, *lesson.keep)),
            stood=stood,
        )
    asks = [next(f"{verb} {step[verb.lower()]}" for verb in METHODS if verb.lower() in step) for step in lesson.set]
    return phrase("{asks}, with {stood}.", asks=", ".join(asks), stood=stood)
