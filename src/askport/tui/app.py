"""The full-screen application."""

import asyncio
import gc
import os
import signal
import time
from collections import deque
from collections.abc import Callable, Iterable, Sequence
from functools import partial
from pkgutil import resolve_name
from typing import TYPE_CHECKING, Any, Protocol, runtime_checkable

from textual import work
from textual.app import App, ComposeResult, SystemCommand
from textual.binding import Binding
from textual.containers import ScrollableContainer
from textual.events import Event, Key
from textual.filter import LineFilter
from textual.message_pump import MessagePump
from textual.screen import Screen
from textual.scroll_view import ScrollView
from textual.widget import Widget
from textual.widgets import Static

from askport.core.errors import AskPortError
from askport.core.phrases import phrase
from askport.core.text import display_text
from askport.tui import plain_glyphs, themes

if TYPE_CHECKING:
    from askport.tui.screens.plug_screen import Choice, PlugScreen
    from askport.tui.workplace import Workplace

Begin = Callable[[], "Workplace"]
"""Makes the round to begin with."""
Plug = Callable[[str], "PlugScreen"]
"""Makes the choice of an adapter, with a sentence on what was wrong with the last one, or none."""
Fit = Callable[["Choice"], "Workplace"]
"""Makes a round on the adapter that was chosen, or on the practice bench."""


_WORK = "askport.tui.screens.work_screen:WorkScreen"
_FOR_A_KEY_S = 0.05
_LONGEST_HELD_S = 1.0
"""How long a key waits for those before it."""
_FIRST_SEEN_S = 0.5
_NO_FINGER_S = 0.03
"""Keys that follow each other faster are a barcode reader's."""
_FINGERS_S = 0.1
"""Keys further apart are no barcode reader's, however late they are taken."""
_SHORTEST_SCAN = 6
_OPENS_S = 0.5
"""How long a line may take to open."""
_CLOSES_A_LINE = ("enter", "escape")
_OPENS_A_LABEL = ("m", "n")
"""Keys that a reader may be set up to type before a label, and people press before they scan."""


@runtime_checkable
class TakesLabels(Protocol):
    """A screen that compares labels."""

    def take_label(self, text: str) -> bool:
        """Compare what was scanned with what is on the wire; whether that is asked for now."""


class AskPortApp(App[None]):
    """Ask Port on one cable.

    Its first words stand on the screen at once; what the work needs is loaded behind them.
    """

    TITLE = "Ask Port"
    ENABLE_COMMAND_PALETTE = True
    BINDINGS = [
        Binding(
            "question_mark,f1",
            "keys",
            "Keys",
            id="app.keys",
            key_display="?",
            tooltip=phrase("Every key, and what it does"),
        ),
        Binding("ctrl+z", "suspend_process", "Suspend", show=False, system=True),
        Binding("t", "daylight", phrase("Light or dark"), id="app.theme", tooltip=phrase("A light or a dark screen")),
        Binding("q", "quit", "Quit", id="app.leave", tooltip=phrase("Give everything back and quit")),
    ]

    CSS = """
    #opening { background: $panel; width: 100%; }
    """

    def __init__(
        self, begin: Begin | None, plug: Plug | None = None, fit: Fit | None = None, *, first: str = _WORK
    ) -> None:
        """Start with a round, or with the choice of an adapter and what makes a round of that choice.

        Args:
            begin: makes the round to begin with, or None where an adapter is chosen.
        """
        super().__init__()
        self._first = first
        self.workplace: Workplace | None = None
        self._begin, self._plug, self._fit = begin, plug, fit
        self.fault: Exception | None = None
        """What ended the program unexpectedly."""
        self.was_interrupted = False
        """Whether a signal ended it."""
        has = plain_glyphs.signs_there()
        self._glyphs = (plain_glyphs.PlainGlyphs(has),) if has else ()
        self._aimed_at_nothing: deque[Key] = deque(maxlen=64)
        """Keys that nothing had the focus for when they came, until they have found their command."""
        self._held: deque[Key] = deque()
        """Keys that wait for those before them."""
        self._burst: list[Key] = []
        """Keys that came where no line is open, until it is clear that fingers typed them."""
        self._commanded_at = 0.0
        """When the last key was taken that is no part of a label."""
        self._on_the_way = 0
        """Keys that were sent to a screen without a line, and have not been there yet."""

    def get_line_filters(self) -> Sequence[LineFilter]:
        """Draw in signs that the terminal has, where it has not all of ours."""
        return (*super().get_line_filters(), *self._glyphs)

    def get_theme_variable_defaults(self) -> dict[str, str]:
        """Give the side colours to every theme that does not bring its own."""
        return dict(themes.DARK.variables)

    def choose_adapter(self, fault: str = "") -> None:
        """Go to the choice of an adapter, with what was wrong with the last one."""
        if self._plug:
            self.switch_screen(self._plug(fault)) if len(self.screen_stack) > 1 else self.push_screen(self._plug(fault))

    def compose(self) -> ComposeResult:
        """Say who is there."""
        yield Static("  " + phrase("Ask Port · one moment"), id="opening")

    async def on_event(self, event: Event) -> None:
        """Give a key the processor until its view is painted, also in a flood of frames; see where it is aimed."""
        if not isinstance(event, Key) or event.is_forwarded:  # one that comes back has been where it was sent
            await super().on_event(event)
            return
        if self.workplace:
            self.workplace.run.wire.give_way(_FOR_A_KEY_S)
        if self._burst and event.time - self._burst[-1].time > _FINGERS_S:
            await self._burst_ends(len(self._burst))  # they come together because a drawing held them up
        if self._is_of_a_burst(event):
            self._burst.append(event)
            # Behind all that was read by then: a screen that is drawn holds up the keys that came in time.
            ends = partial(self._burst_ends, len(self._burst))
            self.set_timer(_NO_FINGER_S, lambda: self.call_later(ends))
            if event.key == "enter":
                await self._burst_ends(len(self._burst))
            return
        await self._burst_ends(len(self._burst))  # no key overtakes those before it
        # A line may open between two keys: the second must not overtake the first, which is on its way to the screen.
        if self._held or (self._on_the_way and self.focused is not None):
            self._held.append(event)
            self.set_timer(_LONGEST_HELD_S, self._let_go)
        else:
            await self._take_key(event)

    def _open_line(self) -> Widget | None:
        """Return the line of a view that is opening; one that has put its line away wants its keys itself."""
        found = self.screen.query(self.screen.AUTO_FOCUS).results(Widget) if self.screen.AUTO_FOCUS else ()
        line = next(iter(found), None)
        return line if line and all(each.display for each in line.ancestors_with_self) else None

    def _is_of_a_burst(self, event: Key) -> bool:
        """Whether a key may be one of a label that is scanned where no line is open, and so no command."""
        is_opening = self._held or self._on_the_way or event.time - self._commanded_at < _OPENS_S
        are_commands = self.screen_stack and getattr(self.screen, "KEYS_ARE_COMMANDS", False)
        if not are_commands or (is_opening and not self._burst):
            return False  # what follows a key that opens a line is for that line
        line = self.focused or self._open_line()
        if line is not None and (not isinstance(line, ScrollableContainer) or isinstance(line, ScrollView)):
            return False  # it takes keys; what only scrolls leaves them to the commands
        if not self._burst:
            return event.is_printable and event.key not in _OPENS_A_LABEL
        return event.is_printable or event.key == "enter"

    async def _burst_ends(self, keys: int) -> None:
        """Take what was typed: as a label where no finger is that fast, and else key by key."""
        if not self._burst or len(self._burst) != keys:
            return  # more has come meanwhile
        burst, self._burst = self._burst, []
        text = "".join(each.character or "" for each in burst if each.key != "enter").strip()
        if len(text) < _SHORTEST_SCAN or len(set(text)) == 1:  # one sign again and again is a key that is held down
            for each in burst:
                await self._take_key(each)
        elif not (isinstance(self.screen, TakesLabels) and self.screen.take_label(text)):
            self.notify(
                phrase("Scanned and ignored: {text}. Labels are compared at Find.", text=display_text(text, 40)),
                markup=False,
            )

    async def _take_key(self, event: Key) -> None:
        self._commanded_at = event.time
        aimed = self.focused
        if aimed is not None and event.key not in _CLOSES_A_LINE:
            await super().on_event(event)
            return
        if aimed is None:
            self._aimed_at_nothing.append(event)
        self._on_the_way += 1
        await super().on_event(event)
        queues: list[MessagePump] = [self.screen] if self.screen_stack else []
        if aimed is not None:  # it comes up from the line as a key; what that makes of it comes up behind it
            queues = [*aimed.ancestors_with_self, self, aimed, aimed.parent or self]
        self._arrives(queues)

    def _arrives(self, queues: list[MessagePump]) -> None:
        """Take the keys behind one once everything has been through these queues that was sent before."""
        if not (queues and queues[0].call_later(self._arrives, queues[1:])):
            self.call_later(self._has_arrived)

    async def _has_arrived(self) -> None:
        """Take the keys that were held, once those before them have been where they were sent."""
        self._on_the_way = max(0, self._on_the_way - 1)
        await self._go_on_with_keys()

    async def _let_go(self) -> None:
        """Hold no key for longer: the view that the one before it was sent to has gone."""
        if self._held and time.monotonic() - self._held[0].time >= _LONGEST_HELD_S:
            self._on_the_way = 0
            await self._go_on_with_keys()

    async def _go_on_with_keys(self) -> None:
        while self._held and not self._on_the_way:
            await self._take_key(self._held.popleft())

    def on_key(self, event: Key) -> None:
        """Give a key that was typed while a question was opening to the question.

        A barcode reader types faster than a line opens: its next keys are on their way to the screen by then, and
        would be commands.
        """
        if event not in self._aimed_at_nothing:
            return
        self._aimed_at_nothing.remove(event)
        if self.focused is None and (line := self._open_line()):
            self.screen.set_focus(line)
        if self.focused is not None and event.character is not None:
            event.prevent_default()
            event.stop()
            self.focused.post_message(Key(event.key, event.character))

    def on_mount(self) -> None:
        """Start at the cable; what ends the program from outside ends it as its own key does."""
        for each in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP):
            asyncio.get_running_loop().add_signal_handler(each, self._interrupt)
        for theme in (themes.DARK, themes.LIGHT):
            self.register_theme(theme)
        self.theme = themes.DARK.name
        self.choose_adapter()  # where there is one to choose, its screen is the first
        self.call_after_refresh(self.open_first)

    @work
    async def open_first(self) -> None:
        """Load what the work needs, and go to the first screen."""
        if self._plug:
            await asyncio.sleep(_FIRST_SEEN_S)  # or what is loaded would hold up its first paint
        gc.disable()  # nothing that is loaded is to be collected
        await asyncio.to_thread(self._load)
        gc.freeze()  # what was loaded stays, so that no key waits while the collector walks it
        gc.enable()
        if self.workplace and not self._plug:
            self.push_screen(resolve_name(self._first)(self.workplace))

    def _load(self) -> None:
        """Load the work, and with it what is slow to load, so that it is there at once when an adapter is chosen."""
        from askport.edges import job_run  # noqa: F401

        resolve_name(self._first)

        if self._begin:
            self.workplace = self._begin()

    def action_help_quit(self) -> None:
        """Say by which key the program is left, where somebody interrupts it as they would another one."""
        self.notify(phrase("Press q to quit. Everything borrowed is given back."), markup=False)

    def _interrupt(self) -> None:
        self.was_interrupted = True
        self.exit()

    def on_work_screen_adapter_wanted(self) -> None:
        """Choose an adapter again."""
        self.choose_adapter()

    def on_plug_screen_chosen(self, event: "PlugScreen.Chosen") -> None:
        """Begin on the adapter, or say why not."""
        from askport.tui.screens.work_screen import WorkScreen

        if self._fit:
            try:
                self.workplace = self._fit(event.choice)
            except AskPortError as error:
                self.choose_adapter(error.message)
                return
            self.switch_screen(WorkScreen(self.workplace))

    def get_system_commands(self, screen: Screen[Any]) -> Iterable[SystemCommand]:
        """Give the palette what the keys do, as far as it can be done now."""
        from askport.tui.widgets.key_line import program_bindings

        for active in program_bindings(screen):
            binding = active.binding
            if active.enabled and binding.show:
                act = partial(self.run_action, binding.action, default_namespace=active.node)
                yield SystemCommand(binding.description, binding.tooltip or "", act)

    def action_keys(self) -> None:
        """Show every key of this screen."""
        from askport.tui.screens.guide_screen import situation
        from askport.tui.screens.keys_screen import KeysScreen

        at = situation(self.workplace.run.session) if self.workplace else ""
        self.push_screen(KeysScreen(self.screen, at))

    def action_daylight(self) -> None:
        """Change between the dark and the light theme."""
        self.theme = themes.LIGHT.name if self.theme == themes.DARK.name else themes.DARK.name

    def _handle_exception(self, error: Exception) -> None:
        """End with a sentence: Textual would print a traceback with every local value.

        There is no public way to do this in Textual 8; the tests would show if it changed.
        """
        if self.is_headless or os.environ.get("ASKPORT_TRACEBACK"):
            super()._handle_exception(error)
            return
        self.fault = error
        self.exit()
