"""The screen of the job: the cable, the way, the step's picture and what to do next."""

import asyncio
import time
from collections import deque
from collections.abc import Callable
from operator import attrgetter
from pkgutil import resolve_name
from typing import Any

from textual import work
from textual.app import ComposeResult
from textual.containers import Horizontal, Vertical, VerticalScroll
from textual.geometry import Size
from textual.getters import query_one
from textual.message import Message
from textual.screen import Screen

from askport.core.errors import AskPortError, MachineRefused, Wants
from askport.core.phrases import phrase
from askport.core.text import display_text
from askport.core.visit import narrate, steps
from askport.core.visit.session import Session
from askport.core.visit.stages.stage import Next
from askport.edges.browser import open_page
from askport.tui import actions, ink, laptop_watch, questions
from askport.tui.parts import crate_keys, find_keys, lesson_keys, plan_keys, practice_hands
from askport.tui.pictures.around import door_lines, hand_lines, news_lines, next_lines, title_line
from askport.tui.pictures.cable_picture import Pulse, cable_lines
from askport.tui.pictures.picture_list import PICTURES
from askport.tui.pictures.setting_picture import set_lines
from askport.tui.question import Question
from askport.tui.screens.drawn_screen import DrawnScreen
from askport.tui.widgets import entry_line, key_line, sheet, way_rail
from askport.tui.widgets.octets import OctetKeys
from askport.tui.workplace import Workplace

_FRAMES_A_SECOND = 8
_STILL_S = 1.0
_REST = 10
"""Times as long as drawing took until it is drawn again, at most a second: a slow laptop has room for keys."""
_MOVES_S = 2.0
"""How long a frame is seen passing along the cable, at the most."""
_LOOKS_EVERY_S = 3.0
_ROOMY = Size(100, 30)
"""From this size on there is room for the way down the left and for both addresses bit by bit."""
_MAX_PULSES = 24
"""Frames drawn on the cable at once; more would be a solid line."""


class WorkScreen(DrawnScreen[None]):
    """One device after the other."""

    KEYS_ARE_COMMANDS = True
    CSS_PATH = "work_screen.tcss"
    AUTO_FOCUS = ""
    HORIZONTAL_BREAKPOINTS = [(0, "-narrow"), (130, "-wide")]
    BINDINGS = [*actions.bindings()]

    class AdapterWanted(Message):
        """The technician wants to choose an adapter again."""

    cable = query_one("#cable", sheet.Sheet)
    rail = query_one("#way", way_rail.WayRail)
    crate = query_one("#crate", sheet.Sheet)
    picture = query_one("#picture", sheet.Sheet)
    entry = query_one(entry_line.EntryLine)
    octets = query_one(OctetKeys)

    def __init__(self, workplace: Workplace) -> None:
        super().__init__()
        self.workplace = workplace
        self.looking_at: steps.Step | None = None
        self._step = workplace.run.session.phase.step
        self._pulses: deque[Pulse] = deque(maxlen=_MAX_PULSES)
        self.laptop = laptop_watch.LaptopWatch(workplace.over)
        self.hands = practice_hands.PracticeHands(workplace, self.draw)
        self.crate_keys = crate_keys.CrateKeys(self)
        self.lessons = lesson_keys.LessonKeys(self, self.crate_keys)
        self.planning = plan_keys.PlanKeys(self)
        self.search = find_keys.FindKeys(self)
        self._offered: tuple[object, ...] = ()
        """What the footer's keys depend on, when they were drawn last."""
        self._drawn: tuple[object, ...] = ()
        self._drawn_at = self._took_s = 0.0
        """What was drawn last, when, and how long it took, in seconds of the real clock."""
        self._stopped: AskPortError | None = None

    def compose(self) -> ComposeResult:
        """Lay out the screen."""
        yield sheet.Sheet(id="title")
        yield sheet.Sheet(id="cable")
        yield sheet.Sheet(id="steps")
        with Horizontal(id="middle"):
            with Vertical(id="left"):
                yield way_rail.WayRail(id="way")
                yield sheet.Sheet(id="crate")
            with VerticalScroll(id="scroll", can_focus=False):
                yield sheet.Sheet(id="picture")
        yield entry_line.EntryLine()
        yield OctetKeys()
        yield sheet.Sheet(id="next")
        yield sheet.Sheet(id="hands")
        yield key_line.KeyLine()

    def on_mount(self) -> None:
        """Start the cable and the pictures."""
        self.workplace.run.wire.on_pass = lambda to_device: self._pulses.append(Pulse(time.monotonic(), to_device))
        self.set_class(self.workplace.practice is not None, "-practice")
        self.set_interval(1 / _FRAMES_A_SECOND, self.draw_if_due)
        self.run_cable()
        self.watch_laptop()
        self.draw()
        for note in self.workplace.notes:
            self.notify(note, severity="warning", timeout=20, markup=False)

    @work(exclusive=True, group="laptop")
    async def watch_laptop(self) -> None:
        """Look at the laptop's adapters and routes again and again, for what is dangerous about them."""
        run = self.workplace.run
        while self.workplace.practice is None:
            await self.laptop.look(run.session, run.wire.now())
            try:
                run.wire.require_present()
            except AskPortError as error:
                self._stopped = error
                self.workers.cancel_group(self, "cable")
                run.session.cable.laptop.give_all_back()
                await self.laptop.look(run.session, run.wire.now())
                return
            run.wire.wake()
            await asyncio.sleep(_LOOKS_EVERY_S)

    @work(exclusive=True, group="cable")
    async def run_cable(self) -> None:
        """Run the device at hand until the round goes on to the next one."""
        run = self.workplace.run
        while True:
            driver = run.driver
            try:
                await driver.run(until=lambda held=driver: run.driver is not held)  # type: ignore[misc]
            except AskPortError as error:
                self._stopped = error
                if self._is_adapter_gone:
                    run.session.cable.laptop.give_all_back()
                return

    # Drawing

    def on_resize(self) -> None:
        """Draw for a small terminal, or for one with room."""
        self.set_class(self.app.size.width < _ROOMY.width or self.app.size.height < _ROOMY.height, "-compact")
        self.draw()

    def tell(self, text: str) -> None:
        """Say something beside the way, for long enough to come back to the ladder."""
        self.notify(text, markup=False, timeout=20)

    def on_screen_resume(self) -> None:
        """Show what happened behind another screen."""
        self.draw()

    def draw_if_due(self) -> None:
        """Go on in a crate; draw where something has changed or moves, and else once a second, for the clock."""
        self.lessons.keep_what_passed()
        self.crate_keys.go_on()
        if self.workplace.run.meet_crew():
            self.draw()
        session, moment = self.workplace.run.session, time.monotonic()
        visit, finder = session.visit, session.cable.finder
        state = (session, session.phase, session.cable.link, finder.frames_seen, finder.loudness, len(visit.effects))
        moves = bool(visit.running or finder.asking) or any(moment - each.at < _MOVES_S for each in self._pulses)
        is_due = moves or state != self._drawn or moment - self._drawn_at >= _STILL_S
        if is_due and self.is_in_front and moment - self._drawn_at >= min(_REST * self._took_s, _STILL_S):
            self._drawn, self._drawn_at = state, moment
            self.draw()
            self._took_s = time.monotonic() - moment

    def draw(self) -> None:
        """Show the state of this moment, while it is in front."""
        if not self.is_in_front:
            return
        run = self.workplace.run
        session, now = run.session, run.wire.now()
        if session.phase.step is not self._step:
            self._step, self.looking_at = session.phase.step, None
            self.refresh_bindings()
        said = self.next()
        finder = session.cable.finder
        search, at_hand = session.cable.search, session.cable.search.candidate
        numbers = at_hand.identities if at_hand else None
        offered = (said.enter, finder.loudness, session.phase, search.may_accept, len(finder.hazards()), numbers)
        if offered != self._offered:
            self._offered = offered
            self.refresh_bindings()
        width = self.room
        like = self.crate_keys.crate_of.like if self.crate_keys.crate_of else ""
        self.query_one("#title", sheet.Sheet).show([title_line(self.workplace, now, width, like)])
        room, compact = self.cable.content_size.width or width - 4, self.has_class("-compact")
        pulses = list(self._pulses)
        self.cable.show(cable_lines(session, room, now, time.monotonic(), pulses, compact=compact))
        self.query_one("#steps", sheet.Sheet).show([way_rail.way_strip(session, self.looking_at, width)])
        left = self.rail.size.width or 28
        self.rail.show(way_rail.way_lines(session, self.looking_at, left))
        self.crate.show(way_rail.crate_lines(run, left, max(1, self.crate.size.height - 2), like))
        room = max(40, self.picture.size.width)
        step = self.looking_at or session.phase.step
        edit = self.octets.edit
        drawn = set_lines(session, room, now, edit) if edit else PICTURES[step](session, room, now)
        wrong = ink.warning(run.crew.state.wrong, room) if run.crew and run.crew.state.wrong else []
        door = self.laptop.opened(session)
        opened = door_lines(door.address, str(door.far), room) if door else []
        self.picture.show([*wrong, *opened, *news_lines(session, run.wire.counts(), step, room), *drawn])
        self.query_one("#next", sheet.Sheet).show(next_lines(said, bool(self._stopped or session.visit.trouble), width))
        self.query_one("#hands", sheet.Sheet).show(
            hand_lines(self.workplace.practice, self.hands.said, width, compact=compact)
        )

    def next(self) -> Next:
        """Say what Enter does now."""
        run = self.workplace.run
        if self._is_adapter_gone:
            gone = phrase(
                "{adapter} was pulled out, and nothing is left to give back.", adapter=run.session.cable.laptop.adapter
            )
            return Next(gone, phrase("Choose an adapter."), phrase("Plug it in again."))
        if self._stopped:
            return Next(self._stopped.message, phrase("Try again."))
        if run.is_over:
            return Next(
                phrase("Every device on the job list is recorded. Press q to quit."), phrase("Open the register.")
            )
        return self.crate_keys.says(narrate.next_line(run.session, run.wire.now()))

    @property
    def _is_adapter_gone(self) -> bool:
        return isinstance(self._stopped, MachineRefused) and self._stopped.code == "no-adapter"

    # Intents

    def check_action(self, action: str, parameters: tuple[object, ...]) -> bool | None:
        """Offer only what makes sense now."""
        if action != "do":
            return True
        workplace, typing = self.workplace, self.has_class("-typing")
        wanted = actions.action_of(str(parameters[0]))
        enter = wanted.name == "next" and self.next().enter
        moment = actions.Moment(
            session=workplace.run.session, enter=enter, typing=typing, practice=workplace.practice is not None,
            in_crate=self.crate_keys.crate_of is not None, learned=self.crate_keys.learned is not None,
            lesson=self.lessons.has_lesson,
        )  # fmt: skip
        return actions.is_offered(wanted, moment)

    def action_do(self, wanted: str) -> None:
        """Do what the table says of a key."""
        action = actions.action_of(wanted)
        if action.opens:
            self.view(resolve_name(action.opens)(self))
            return
        attrgetter(action.does)(self)(*([int(action.argument)] if action.argument else []))

    def view(self, screen: Screen[Any], closed: Callable[[Any], None] | None = None) -> None:
        """Open a view over this one."""
        self.app.push_screen(screen, closed)

    def ask(self, question: Question) -> None:
        """Ask for one line."""
        self.entry.ask(question)

    def take_next(self) -> None:
        """Go on to the next device."""
        self.crate_keys.take_next()

    def act(self, intent: Callable[[Session, float], Any]) -> None:
        """Give the session an intent, and have the cable take it up."""
        run = self.workplace.run
        try:
            intent(run.session, run.wire.now())
        except AskPortError as error:
            self.notify(error.message, severity="error", markup=False)
        run.wire.wake()
        self.draw()
        self.refresh_bindings()

    def do_next(self) -> None:
        """Do what the bottom line says."""
        run = self.workplace.run
        if self._is_adapter_gone:
            self.post_message(self.AdapterWanted())
        elif self._stopped:
            self._stopped = None
            self.run_cable()
        elif run.is_over:
            self.action_do("register")
        elif run.session.phase is steps.Phase.RECORDED:
            if run.is_carried_out:  # a second Enter that comes too fast waits for the first
                self.take_next()
        elif self.next().enter:
            self.looking_at = None
            self.act(lambda session, now: session.enter(now))

    def ask_address(self) -> None:
        """Ask for an address that the technician knows, of the device or for the laptop."""
        session, delivered = self.workplace.run.session, self.workplace.run.session.device.work.delivered
        if session.phase is not steps.Phase.FINDING:
            self.ask(questions.ask_laptop_address(session))
        else:
            self.ask(questions.ask_device_address(delivered, session.cable.search.sweep_rate))

    @work(group="door")
    async def open_door(self) -> None:
        """Open a browser on the device's page, through a door that leads over the cable only."""
        try:
            door = await self.laptop.door(self.workplace.run.session, self.workplace.run.wire.now)
        except AskPortError as error:
            self.notify(error.message, severity="error", markup=False)
            return
        if door:
            door.hand_out()
            self.draw()
            if not await asyncio.to_thread(open_page, door.address):
                self.notify(phrase("No browser could be opened here. Open the address yourself."), markup=False)

    def take_label(self, text: str) -> bool:
        """Compare what was scanned with what is on the wire; whether it is still decided which device is meant."""
        if self.workplace.run.session.phase.step is not steps.Step.FIND:
            return False
        self.act(lambda session, _: session.cable.search.label(text))
        self.notify(phrase("Scanned: {text}", text=display_text(text, 40)), markup=False)
        return True

    def ask_label(self) -> None:
        """Compare the MAC address on a label with what is on the wire."""
        self.ask(questions.ask_label(self.workplace.run.session))

    def ask_log_in(self) -> None:
        """Ask what devices of this kind are logged in to with."""
        session = self.workplace.run.session
        if name := session.stages.setting.entered_as:
            wants = session.stages.setting.asks_for
            asks = {Wants.LINE: questions.ask_serial_line, Wants.COMMUNITY: questions.ask_community}
            ask = asks.get(wants, questions.ask_log_in) if wants else questions.ask_log_in
            self.ask(ask(name))

    def restore(self) -> None:
        """Put the device back as it was found."""
        self.act(lambda session, now: session.stages.setting.restore(now))

    def ask_tag(self) -> None:
        """Give the device at hand its tag."""
        self.ask(questions.ask_tag(self.workplace.run.session))

    def on_entry_line_entered(self, event: entry_line.EntryLine.Entered) -> None:
        """Do what was typed."""
        self.act(lambda session, now: event.question.use(session, now, event.text))

    def other_way(self) -> None:
        """Set the address by the next way in the list."""
        session = self.workplace.run.session
        names = session.visit.way_names
        here = names.index(session.device.way_name) if session.device.way_name in names else -1
        self.act(lambda session, now: session.stages.setting.choose_way(names[(here + 1) % len(names)], now))

    def leave_out(self) -> None:
        """Skip the power cycle, or saving its address."""
        self.act(lambda session, now: session.stages.leave_out(now))

    def go_back(self) -> None:
        """Go back one step, or to the one looked at."""
        session, looking_at = self.workplace.run.session, self.looking_at
        self.looking_at = None
        step = looking_at or session.stages.step_before
        self.act(lambda session, now: session.stages.go_back(step, now))

    def look(self, place: int) -> None:
        """Look at a step without changing anything; 0 comes back to now."""
        self.looking_at = list(steps.Step)[place - 1] if place else None
        self.draw()

    def on_way_rail_looked(self, event: way_rail.WayRail.Looked) -> None:
        """Look at the step that was clicked."""
        self.looking_at = event.step
        self.draw()

    def on_octet_keys_changed(self, _: OctetKeys.Changed) -> None:
        """Draw what was typed."""
        self.draw()

    def on_octet_keys_taken(self, event: OctetKeys.Taken) -> None:
        """Plan what was typed."""
        self.planning.take(event.target)

    def on_octet_keys_whole_line(self, _: OctetKeys.WholeLine) -> None:
        """Ask for the whole line."""
        self.planning.ask_whole_line()
