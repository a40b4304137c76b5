"""The crib card: the planned values as this device wants them typed, large, and one key each to the clipboard."""

from collections.abc import Callable

from textual.app import ComposeResult
from textual.binding import Binding
from textual.containers import VerticalScroll
from textual.screen import Screen
from textual.widgets import Digits, Footer

from askport.core.kinds.model import HandWay
from askport.core.kinds.typing_in import typed
from askport.core.narrate import next_line
from askport.core.steps import Step
from askport.tui.ink import DIM, OURS, STRONG, THEIRS, Ink, beside, blank, wrapped
from askport.tui.pictures.around import next_lines
from askport.tui.pictures.landing import landing_lines
from askport.tui.widgets.sheet import Sheet
from askport.tui.workplace import Workplace

_LOOKS_A_SECOND = 4
_VALUE = 26


class CribScreen(Screen[None]):
    """Stands beside the device's page or keypad while the wire is watched, and goes once the device has moved."""

    CSS_PATH = "crib.tcss"
    BINDINGS = [
        Binding("escape,c", "app.pop_screen", "Back to the cable", id="crib.back"),
        Binding("down,j", "point(1)", "Next value", key_display="↓", id="crib.next"),
        Binding("up,k", "point(-1)", "Value before", key_display="↑", id="crib.previous"),
        Binding("space", "octet", "Next number to the clipboard", id="crib.octet"),
        Binding("o", "door", "Open page", id="crib.door"),
        *(Binding(str(place), f"copy({place})", "Copy", show=False) for place in range(1, 7)),
    ]

    def __init__(self, workplace: Workplace, open_door: Callable[[], object]) -> None:
        super().__init__()
        self._workplace, self._open_door = workplace, open_door
        self._at = 0
        self._octet: int | None = None
        """Which number of the value at hand is on the clipboard; None where the whole value is, or nothing."""
        self._copied = ""

    def compose(self) -> ComposeResult:
        """Lay out the value at hand over the list of all."""
        yield Sheet(id="heading")
        yield Sheet(id="name")
        yield Digits("", id="large")
        yield Sheet(id="mark")
        with VerticalScroll(id="rest"):
            yield Sheet(id="values")
        yield Sheet(id="next")
        yield Footer(compact=True, show_command_palette=False)

    def on_mount(self) -> None:
        """Draw, and go on drawing: the wire is watched."""
        self.set_interval(1 / _LOOKS_A_SECOND, self.draw)
        self.draw()

    @property
    def _values(self) -> list[tuple[str, str]]:
        device = self._workplace.run.session.device
        return typed(device.target, device.kind) if device.target else []

    def draw(self) -> None:
        """Show the values, and what the wire says."""
        run = self._workplace.run
        session, width, values = run.session, self.size.width, self._values
        if session.phase.step is not Step.SET or not values:
            self.dismiss()
            return
        self._at %= len(values)
        name, value = values[self._at]
        there = session.device.whereabouts
        head = Ink().put("  Type this into ").put(session.device.work.tag, f"{STRONG} {THEIRS}")
        self.query_one("#heading", Sheet).show([head.put(f", which is at {there} now" if there else "", DIM)])
        self.query_one("#name", Sheet).show([Ink().put(name, STRONG)])
        self.query_one("#large", Digits).update(value)
        self.query_one("#mark", Sheet).show([self._mark(value)])
        lines = [blank()]
        for place, (each, text) in enumerate(values):
            here = place == self._at
            ink = Ink().put("▸ " if here else "  ", STRONG).put(f"{place + 1}  ", f"{STRONG} {OURS}").put(each)
            lines.append(ink.to(_VALUE).put(text, f"{STRONG} {THEIRS}"))
        lines += [
            blank(),
            *wrapped(self._copied or "A number key copies its value; space copies number by number.", width - 8, DIM),
        ]
        by = session.device.kind.way_by("hand") if session.device.kind else None
        if isinstance(by, HandWay) and by.say:
            lines += [blank(), *beside(Ink().put("where", DIM), 8, by.say, width - 8)]
        way = session.device.way
        if way and way.moved_to and not way.done:
            lines += [blank(), *landing_lines(way.target.interface.ip, way.moved_to)]
        self.query_one("#values", Sheet).show(lines)
        said = next_line(session, run.wire.now())
        self.query_one("#next", Sheet).show(next_lines(said, bool(session.visit.trouble), width))

    def _mark(self, value: str) -> Ink:
        """Draw a line under the number that is on the clipboard."""
        if self._octet is None:
            return blank()
        before = value.split(".")[: self._octet]
        column = sum(3 * len(each) + 1 for each in before)
        return Ink().to(column).put("━" * (3 * len(value.split(".")[self._octet])), OURS)

    def _copy(self, text: str, words: str) -> None:
        self.app.copy_to_clipboard(text)
        self._copied = (
            f"On the clipboard: {text}, {words}. Where pasting brings nothing, this terminal does not pass it on."
        )
        self.draw()

    def action_copy(self, place: int) -> None:
        """Copy a value."""
        if place <= len(self._values):
            self._at, self._octet = place - 1, None
            name, value = self._values[self._at]
            self._copy(value, name)

    def action_octet(self) -> None:
        """Copy the next number of the value at hand, for pages with four fields."""
        name, value = self._values[self._at]
        numbers = value.split(".")
        self._octet = 0 if self._octet is None else (self._octet + 1) % len(numbers)
        self._copy(numbers[self._octet], f"number {self._octet + 1} of 4 of {name}")

    def action_point(self, by: int) -> None:
        """Go to another value."""
        self._at, self._octet = (self._at + by) % max(1, len(self._values)), None
        self.draw()

    def action_door(self) -> None:
        """Open its page beside this."""
        self._open_door()
