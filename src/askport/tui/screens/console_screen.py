"""The device's console on the screen; what is typed there can become a lesson."""

from dataclasses import replace

from textual import work
from textual.app import ComposeResult
from textual.binding import Binding
from textual.containers import Container
from textual.events import Key

from askport.core.channels import FarEnd, SshPort
from askport.core.kinds.typing_in import typed
from askport.core.phrases import phrase, phrase_of
from askport.core.visit.stages.stage import Next
from askport.tui import ink, laptop_console, questions
from askport.tui.pictures.around import next_lines
from askport.tui.screens.drawn_screen import DrawnScreen
from askport.tui.widgets import entry_line, key_line
from askport.tui.widgets.sheet import Sheet
from askport.tui.workplace import Workplace

_KEYS = {
    "enter": b"\r", "backspace": b"\x7f", "tab": b"\t", "escape": b"\x1b", "up": b"\x1b[A", "down": b"\x1b[B",
    "right": b"\x1b[C", "left": b"\x1b[D", "home": b"\x1b[H", "end": b"\x1b[F", "delete": b"\x1b[3~",
    "pageup": b"\x1b[5~", "pagedown": b"\x1b[6~",
}  # fmt: skip
"""What a terminal sends for keys that are no characters (ECMA-48, and what VT100 made usual)."""
_ROOMY = 34


class ConsoleScreen(DrawnScreen[laptop_console.Terminal | None]):
    """A terminal on the device. It gives back the connection that was typed on, for what was said to be learned."""

    CSS_PATH = "console_screen.tcss"
    AUTO_FOCUS = ""
    HORIZONTAL_BREAKPOINTS = [(0, "-narrow"), (130, "-wide")]
    BINDINGS = [Binding("f10,ctrl+backslash", "leave", "Back", id="console.back", priority=True)]

    def __init__(self, workplace: Workplace, far: FarEnd) -> None:
        super().__init__()
        self._workplace, self._far = workplace, far
        self.terminal: laptop_console.Terminal | None = None

    def compose(self) -> ComposeResult:
        """Lay out the terminal."""
        yield Sheet(id="heading")
        with Container(id="middle"):
            yield Sheet(id="glass")
            yield Sheet(id="about")
        yield entry_line.EntryLine()
        yield Sheet(id="next")
        yield key_line.KeyLine()

    def on_mount(self) -> None:
        """Connect, or ask for the log-in first where the connection itself needs one."""
        if isinstance(self._far, SshPort) and not self._far.user:
            far = self._far
            question = questions.ask_name_and_password(
                phrase("What is the log-in name for {far}?", far=far),
                lambda _session, _now, user, password: self.connect(replace(far, user=user, password=password)),
            )
            self.query_one(entry_line.EntryLine).ask(question)
        else:
            self.connect(self._far)
        self.draw()

    def on_entry_line_entered(self, event: entry_line.EntryLine.Entered) -> None:
        """Use what was typed."""
        event.question.use(self._workplace.run.session, self._workplace.run.wire.now(), event.text)

    def connect(self, far: FarEnd) -> None:
        """Open the connection."""
        self.terminal = laptop_console.Terminal(self._workplace.over, far)
        self.carry()

    @work(exclusive=True, group="terminal")
    async def carry(self) -> None:
        """Show what comes."""
        if self.terminal:
            await self.terminal.run(self.draw_in_front)

    def on_resize(self) -> None:
        """Draw to the new size."""
        self.set_class(self.size.height < _ROOMY, "-compact")
        self.draw()

    def draw(self) -> None:
        terminal, device = self.terminal, self._workplace.run.session.device
        title = (
            ink.Ink()
            .put(f"  {device.work.tag}", ink.STRONG)
            .put("  " + phrase("its console at {far}", far=self._far), ink.DIM)
        )
        self.query_one("#heading", Sheet).show([title])
        if terminal:
            self.query_one("#glass", Sheet).show(terminal.lines())
        self.query_one("#about", Sheet).show(self._about(max(30, self.query_one("#about", Sheet).size.width - 4)))
        said = Next(
            phrase("Type as in any terminal. Press F10 or Ctrl-\\ to go back; the screen shows when the device moves.")
        )
        if terminal is None or not terminal.is_open:
            back = phrase("Press F10 to go back.")
            said = Next(f"{terminal.over or phrase('Connecting.')} {back}" if terminal else back)
        self.query_one("#next", Sheet).show(next_lines(said, is_wrong=False, width=self.size.width))

    def _about(self, width: int) -> list[ink.Ink]:
        """Say what is to be typed, and how many lines were learned from."""
        device = self._workplace.run.session.device
        lines: list[ink.Ink] = []
        if device.target:
            fields = typed(device.target, device.kind)
            lines = [
                ink.heading(phrase("To be typed"), width),
                *(ink.Ink().put(f"  {name}").to(20).put(text, ink.STRONG) for name, text in fields),
            ]
        count = len(self.terminal.listening.lines) if self.terminal else 0
        said = phrase_of(
            count,
            "{count} line listened to, so that the next unit can be set by them.",
            "{count} lines listened to, so that the next unit can be set by them.",
        )
        return [
            *lines,
            ink.blank(),
            *ink.wrapped(phrase("{said} Passwords are left out.", said=said), width, ink.DIM, indent=2),
        ]

    def on_key(self, event: Key) -> None:
        """Send a key to the device."""
        if self.terminal is None or self.has_class("-typing"):
            return
        data = _KEYS.get(event.key) or (event.character or "").encode()
        if data:
            event.stop()
            event.prevent_default()
            self.terminal.type(data)

    def action_leave(self) -> None:
        """End the connection and go back."""
        self.dismiss(self.terminal)
