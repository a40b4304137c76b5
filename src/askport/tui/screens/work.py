"""The screen of the job: the cable, the way, the step's picture and what to do next."""

import asyncio
import time
from collections import deque
from collections.abc import Callable

from textual import work
from textual.app import ComposeResult
from textual.binding import Binding
from textual.containers import Horizontal, Vertical, VerticalScroll
from textual.getters import query_one
from textual.message import Message
from textual.screen import Screen
from textual.widgets import Footer

from askport.core.errors import AskPortError, MachineRefused
from askport.core.finding.loudness import Loudness
from askport.core.narrate import Next, next_line
from askport.core.session import Session
from askport.core.steps import Phase, Step
from askport.edges.browser import open_page
from askport.tui.ink import Ink
from askport.tui.laptop import LaptopWatch, door_target, page_port
from askport.tui.outfit import Outfit
from askport.tui.pictures.around import hand_lines, news_lines, next_lines, title_line
from askport.tui.pictures.cable import Pulse, cable_lines
from askport.tui.pictures.find import find_lines
from askport.tui.pictures.proving import prove_lines
from askport.tui.pictures.reach import reach_lines
from askport.tui.pictures.record import record_lines
from askport.tui.pictures.setting import set_lines
from askport.tui.questions import ask_device_address, ask_label, ask_laptop_address, ask_plan, ask_tag
from askport.tui.screens.evidence import EvidenceScreen
from askport.tui.screens.register import RegisterScreen
from askport.tui.widgets.entry import EntryLine
from askport.tui.widgets.sheet import Sheet
from askport.tui.widgets.way import WayRail, crate_lines, way_lines

_FRAMES_A_SECOND = 8
_LOOKS_EVERY_S = 3.0
_MAX_PULSES = 24
"""Frames drawn on the cable at once; more would be a solid line."""

Picture = Callable[[Session, int, float], list[Ink]]
_PICTURES: dict[Step, Picture] = {
    Step.PLUG: find_lines,
    Step.FIND: find_lines,
    Step.REACH: reach_lines,
    Step.SET: set_lines,
    Step.PROVE: prove_lines,
    Step.RECORD: record_lines,
}


class WorkScreen(Screen[None]):
    """One device after the other."""

    CSS_PATH = "work.tcss"
    AUTO_FOCUS = ""
    HORIZONTAL_BREAKPOINTS = [(0, "-narrow"), (130, "-wide")]
    BINDINGS = [
        Binding("enter", "next", "Do it", id="work.next", tooltip="Do what the bottom line says"),
        Binding(
            "a", "ask_for", "Address", id="work.ask_for", tooltip="Ask for the address on its label or in its manual"
        ),
        Binding("m", "label", "Label", id="work.label", tooltip="Type or scan the MAC address on the label"),
        Binding("d", "accept", "This is it", id="work.accept", tooltip="What runs a live network here is the device"),
        Binding("plus,equals_sign", "louder", "Louder", id="work.louder", tooltip="Let the laptop ask more"),
        Binding("minus", "quieter", "Quiet", id="work.quieter", tooltip="Have the laptop send nothing"),
        Binding("space", "hold", "Hold", id="work.hold", tooltip="Hold the sweep, or go on with it"),
        Binding("f", "frames", "Frames", id="work.frames", tooltip="The frames behind what it said"),
        Binding("o", "door", "Open page", id="work.door", tooltip="Open its page in a browser, over the cable"),
        Binding("e", "plan", "Plan", id="work.plan", tooltip="Change what the device is to become"),
        Binding("n", "name", "Tag", id="work.name", tooltip="Give the device its tag"),
        Binding("w", "other_way", "Other way", id="work.other_way", tooltip="Set the address by another way"),
        Binding("l", "leave_out", "Leave out", id="work.leave_out", tooltip="Go on without the power-cycle proof"),
        Binding("b", "back", "Again", id="work.back", tooltip="Do the step before again"),
        Binding("r", "register", "Register", id="work.register", tooltip="What was recorded"),
        Binding("up,k", "point(-1)", "Point up", id="work.up", show=False),
        Binding("down,j", "point(1)", "Point down", id="work.down", show=False),
        *(Binding(str(place), f"look({place})", step, show=False) for place, step in enumerate(Step, 1)),
        Binding("escape", "look(0)", "Back to now", show=False),
        Binding("f6", "hand_power", "Power", id="hand.power", show=False),
        Binding("f7", "hand_type", "Type", id="hand.type", show=False),
        Binding("f8", "hand_mistype", "Mistype", id="hand.mistype", show=False),
    ]
    HELP = """
# Ask Port

**Enter** does what the bottom line says. The way on the left shows where you are; **1** to **6** look at a step,
**Escape** comes back.

In practice, **F6** to **F8** are your hands at the device.
"""

    class AdapterWanted(Message):
        """The technician wants to choose an adapter again."""

    cable = query_one("#cable", Sheet)
    rail = query_one("#way", WayRail)
    crate = query_one("#crate", Sheet)
    picture = query_one("#picture", Sheet)
    entry = query_one(EntryLine)

    def __init__(self, outfit: Outfit) -> None:
        super().__init__()
        self.outfit = outfit
        self.looking_at: Step | None = None
        self._step = outfit.round.session.phase.step
        self._pulses: deque[Pulse] = deque(maxlen=_MAX_PULSES)
        self._laptop = LaptopWatch()
        self._offered: tuple[object, ...] = ()
        """What the footer's keys depend on, when they were drawn last."""
        self._said_by_hand = ""
        self._stopped: AskPortError | None = None

    def compose(self) -> ComposeResult:
        """Lay out the screen."""
        yield Sheet(id="title")
        yield Sheet(id="cable")
        with Horizontal(id="middle"):
            with Vertical(id="left"):
                yield WayRail(id="way")
                yield Sheet(id="crate")
            with VerticalScroll(id="scroll", can_focus=False):
                yield Sheet(id="picture")
        yield EntryLine()
        yield Sheet(id="next")
        yield Sheet(id="hands")
        yield Footer(compact=True)

    def on_mount(self) -> None:
        """Start the cable and the pictures."""
        self.outfit.round.wire.on_pass = lambda to_device: self._pulses.append(Pulse(time.monotonic(), to_device))
        self.set_class(self.outfit.practice is not None, "-practice")
        self.set_interval(1 / _FRAMES_A_SECOND, self.draw)
        self.run_cable()
        self.watch_laptop()
        self.call_after_refresh(self.draw)

    @work(exclusive=True, group="laptop")
    async def watch_laptop(self) -> None:
        """Look at the laptop's adapters and routes again and again, for what is dangerous about them."""
        tour = self.outfit.round
        while self.outfit.practice is None:
            await self._laptop.look(tour.session, tour.wire.now())
            try:
                tour.wire.require_present()
            except AskPortError as error:
                self._stopped = error
                self.workers.cancel_group(self, "cable")
                tour.session.laptop.give_all_back()
                await self._laptop.look(tour.session, tour.wire.now())
                return
            tour.wire.wake()
            await asyncio.sleep(_LOOKS_EVERY_S)

    @work(exclusive=True, group="cable")
    async def run_cable(self) -> None:
        """Run the device at hand until the round goes on to the next one."""
        tour = self.outfit.round
        while True:
            driver = tour.driver
            try:
                await driver.run(until=lambda held=driver: tour.driver is not held)  # type: ignore[misc]
            except AskPortError as error:
                self._stopped = error
                if self._is_adapter_gone:
                    tour.session.laptop.give_all_back()
                return

    # Drawing

    def draw(self) -> None:
        """Show the state of this moment."""
        if not self.is_attached or self.size.width == 0:
            return
        tour = self.outfit.round
        session, now = tour.session, tour.wire.now()
        if session.phase.step is not self._step:
            self._step, self.looking_at = session.phase.step, None
            self.refresh_bindings()
        said = self.next()
        offered = (said.enter, session.finder.loudness, session.phase, session.search.may_accept)
        if offered != self._offered:
            self._offered = offered
            self.refresh_bindings()
        width = self.size.width
        self.query_one("#title", Sheet).show([title_line(self.outfit, now, width)])
        self.cable.show(cable_lines(session, width - 4, now, time.monotonic(), list(self._pulses)))
        left = self.rail.size.width or 28
        self.rail.show(way_lines(session, self.looking_at, left))
        self.crate.show(crate_lines(tour, left, max(3, self.crate.size.height - 2)))
        room = max(40, self.picture.size.width)
        step = self.looking_at or session.phase.step
        self.picture.show([*news_lines(session, step, room), *_PICTURES[step](session, room, now)])
        self.query_one("#next", Sheet).show(next_lines(said, bool(self._stopped or session.trouble), width))
        self.query_one("#hands", Sheet).show(hand_lines(self.outfit.practice, self._said_by_hand))

    def next(self) -> Next:
        """Say what Enter does now."""
        tour = self.outfit.round
        if self._is_adapter_gone:
            text = f"{tour.session.laptop.adapter} was pulled out, and nothing is left to give back: plug it in again."
            return Next(f"{text} Enter goes to the adapters.")
        if self._stopped:
            return Next(f"{self._stopped.message} Enter tries again.")
        if tour.is_over:
            return Next("Every device of this round is recorded. Enter shows the register; q leaves.")
        return next_line(tour.session, tour.wire.now())

    @property
    def _is_adapter_gone(self) -> bool:
        return isinstance(self._stopped, MachineRefused) and self._stopped.code == "no-adapter"

    # Intents

    def check_action(self, action: str, parameters: tuple[object, ...]) -> bool | None:
        """Offer only what makes sense now."""
        phase = self.outfit.round.session.phase
        if action == "next":
            return self.next().enter or None
        if action.startswith("hand_"):
            return self.outfit.practice is not None
        if action == "ask_for":
            return phase in (Phase.FINDING, Phase.MAY_BORROW, Phase.MAY_SET, Phase.MAY_PROVE)
        if action == "label":
            return phase is Phase.FINDING
        if action == "accept":
            return phase is Phase.FINDING and self.outfit.round.session.search.may_accept
        if action == "door":
            session = self.outfit.round.session
            reached = self.outfit.practice is None and door_target(session) is not None
            return reached and page_port(session) is not None
        if action in ("louder", "quieter", "hold"):
            return self._may_be(action)
        if action == "frames":
            return phase.step in (Step.PLUG, Step.FIND, Step.REACH)
        if action == "plan":
            return phase.step in (Step.PLUG, Step.FIND, Step.REACH, Step.SET)
        if action == "other_way":
            return phase.step is Step.SET and len(self.outfit.round.session.ways()) > 1
        if action == "leave_out":
            return phase is Phase.POWER_CYCLE
        return True

    def _may_be(self, action: str) -> bool:
        """Whether the laptop may ask more or less now, or hold a sweep."""
        session = self.outfit.round.session
        finder, sweeping = session.finder, session.finder.sweeping
        is_sweeping = sweeping is not None and not sweeping.done
        if session.phase is not Phase.FINDING or self.has_class("-typing"):
            return False
        return {
            "louder": finder.loudness is not Loudness.SWEEP,
            "quieter": finder.loudness is not Loudness.LISTEN,
            "hold": is_sweeping,
        }[action]

    def _act(self, intent: Callable[[Session, float], None]) -> None:
        """Give the session an intent, and have the cable take it up."""
        tour = self.outfit.round
        try:
            intent(tour.session, tour.wire.now())
        except AskPortError as error:
            self.notify(error.message, severity="error", markup=False)
        tour.wire.wake()
        self.draw()
        self.refresh_bindings()

    def action_next(self) -> None:
        """Do what the bottom line says."""
        tour = self.outfit.round
        if self._is_adapter_gone:
            self.post_message(self.AdapterWanted())
        elif self._stopped:
            self._stopped = None
            self.run_cable()
        elif tour.is_over:
            self.action_register()
        elif tour.session.phase is Phase.RECORDED:
            self._take_next()
        elif self.next().enter:
            self.looking_at = None
            self._act(lambda session, now: session.enter(now))

    def action_register(self) -> None:
        """Show what was recorded."""
        self.app.push_screen(RegisterScreen(self.outfit))

    def _take_next(self) -> None:
        tour, practice = self.outfit.round, self.outfit.practice
        self._said_by_hand = ""
        if practice:
            practice.bench.plug()
        tour.next_device()
        if practice:
            practice.take(tour.item)
        tour.wire.wake()

    def action_ask_for(self) -> None:
        """Ask for an address that the technician knows, of the device or for the laptop."""
        session, delivered = self.outfit.round.session, self.outfit.round.item.delivered
        at_laptop = session.phase is not Phase.FINDING
        self.entry.ask(ask_laptop_address(session) if at_laptop else ask_device_address(delivered))

    @work(group="door")
    async def action_door(self) -> None:
        """Open a browser on the device's page, through a door that leads over the cable only."""
        try:
            door = await self._laptop.door(self.outfit.round.session)
        except AskPortError as error:
            self.notify(error.message, severity="error", markup=False)
            return
        if door:
            shown = await asyncio.to_thread(open_page, door.url)
            here = "" if shown else " No browser with a window could be started here: open it in one."
            self.notify(f"{door.url} leads to {door.far} over the cable.{here}", markup=False, timeout=15)

    def action_label(self) -> None:
        """Compare the MAC address on a label with what is on the wire."""
        self.entry.ask(ask_label(self.outfit.round.session))

    def action_accept(self) -> None:
        """Say that what runs a live network here is the device that is meant."""
        self._act(lambda session, _: session.search.accept())

    def action_louder(self) -> None:
        """Let the laptop ask more."""
        self._act(lambda session, now: session.search.louder(now))

    def action_quieter(self) -> None:
        """Have the laptop send nothing."""
        self._act(lambda session, _: session.finder.listen())

    def action_hold(self) -> None:
        """Hold the sweep, or go on with it."""
        self._act(lambda session, now: session.search.pause(now))

    def action_frames(self) -> None:
        """Show the frames behind what the device at hand said."""
        session = self.outfit.round.session
        device = session.chosen or session.search.candidate
        if device is None:
            self.notify("Nobody has been heard yet.", markup=False)
        else:
            live = session.finder.device(device.mac) or device
            self.app.push_screen(EvidenceScreen(live, session.maker(live.mac), self.outfit.round.wire))

    def action_plan(self) -> None:
        """Change what the device is to become."""
        self.entry.ask(ask_plan(self.outfit.round.session))

    def action_name(self) -> None:
        """Give the device at hand its tag."""
        self.entry.ask(ask_tag(self.outfit.round.session))

    def on_entry_line_entered(self, event: EntryLine.Entered) -> None:
        """Do what was typed."""
        self._act(lambda session, now: event.question.use(session, now, event.text))

    def action_other_way(self) -> None:
        """Set the address by the next way in the list."""
        session = self.outfit.round.session
        names = [name for name, _ in session.ways()]
        here = names.index(session.way_name) if session.way_name in names else -1
        self._act(lambda session, now: session.choose_way(names[(here + 1) % len(names)], now))

    def action_leave_out(self) -> None:
        """Go on without the power-cycle proof."""
        self._act(lambda session, _: session.leave_out_power_cycle())

    def action_back(self) -> None:
        """Do the step before again, or the one looked at."""
        session, steps = self.outfit.round.session, list(Step)
        before = steps[max(0, steps.index(session.phase.step) - 1)]
        step = self.looking_at or before
        self.looking_at = None
        self._act(lambda session, now: session.go_back(step, now))

    def action_point(self, by: int) -> None:
        """Point at another device."""
        session = self.outfit.round.session
        macs = [device.mac for device in session.search.devices()]
        if session.phase is Phase.FINDING and session.search.candidate and macs:
            here = macs.index(session.search.candidate.mac)
            self._act(lambda session, _: session.search.point_at(macs[(here + by) % len(macs)]))

    def action_look(self, place: int) -> None:
        """Look at a step without changing anything; 0 comes back to now."""
        self.looking_at = list(Step)[place - 1] if place else None
        self.draw()

    def on_way_rail_looked(self, event: WayRail.Looked) -> None:
        """Look at the step that was clicked."""
        self.looking_at = event.step
        self.draw()

    # The hands of the practice bench

    def _by_hand(self, said: str) -> None:
        self._said_by_hand = said
        self.outfit.round.wire.wake()
        self.draw()

    def action_hand_power(self) -> None:
        """Pull its power, or put it back."""
        if self.outfit.practice:
            self._by_hand(self.outfit.practice.toggle_power())

    def action_hand_type(self) -> None:
        """Type the planned values into the device."""
        if self.outfit.practice:
            self._by_hand(self.outfit.practice.type_in(self.outfit.round.session.target))

    def action_hand_mistype(self) -> None:
        """Type them with a slip of the fingers."""
        if self.outfit.practice:
            self._by_hand(self.outfit.practice.type_in(self.outfit.round.session.target, wrongly=True))
