"""The crib card: the planned values as this device wants them typed, large, and one key each to the clipboard."""

from collections.abc import Callable

from textual.app import ComposeResult
from textual.binding import Binding
from textual.containers import VerticalScroll

from askport.core.kinds import model, typing_in
from askport.core.phrases import phrase
from askport.core.visit import narrate, steps
from askport.tui.desk import Desk
from askport.tui.ink import DIM, OURS, STRONG, THEIRS, Ink, blank, wrapped
from askport.tui.pictures import around, landing, large
from askport.tui.screens.drawn_screen import DrawnScreen
from askport.tui.widgets import key_line, sheet
from askport.tui.workplace import Workplace

_LOOKS_A_SECOND = 4
_VALUE, _UNDER = 26, 6
_LARGE = 5
"""Lines of a large value."""
_AROUND = 8
"""Lines of the screen that are not the values and what stands below them."""
_HINT = phrase("A number key copies its value; space copies number by number, for pages with four fields.")


class CribScreen(DrawnScreen[None]):
    """Stands beside the device's page or keypad while the wire is watched, and goes once the device has moved."""

    CSS_PATH = "crib_screen.tcss"
    DRAWS_EVERY_S = 1 / _LOOKS_A_SECOND
    BINDINGS = [
        Binding("enter", "next", "Continue", id="crib.enter"),
        Binding("escape,c", "app.pop_screen", "Back", id="crib.back"),
        Binding("down,j", "point(1)", "Next", key_display="↓", id="crib.next"),
        Binding("up,k", "point(-1)", "Before", key_display="↑", id="crib.previous"),
        Binding("space", "octet", phrase("Copy next number"), id="crib.octet"),
        Binding("o", "door", phrase("Open page"), id="crib.door"),
        *(Binding(str(place), f"copy({place})", "Copy", show=False) for place in range(1, 7)),
    ]

    def __init__(self, workplace: Workplace, open_door: Callable[[], object], do_next: Callable[[], object]) -> None:
        super().__init__()
        self._workplace, self._open_door, self._do_next = workplace, open_door, do_next
        self._at = 0
        self._octet: int | None = None
        """Which number of the value at hand is on the clipboard; None where the whole value is, or nothing."""
        self._copied = ""

    @classmethod
    def over(cls, desk: Desk) -> "CribScreen":
        """Return it as it opens over the screen of the job."""
        return cls(desk.workplace, desk.open_door, desk.do_next)

    def compose(self) -> ComposeResult:
        """Lay out the values over what the wire says."""
        yield sheet.Sheet(id="heading")
        with VerticalScroll(id="rest"):
            yield sheet.Sheet(id="values")
        yield sheet.Sheet(id="next")
        yield key_line.KeyLine()

    @property
    def _values(self) -> list[tuple[str, str]]:
        device = self._workplace.run.session.device
        return typing_in.typed(device.target, device.kind) if device.target else []

    def draw(self) -> None:
        run = self._workplace.run
        session, width, values = run.session, self.room, self._values
        if session.phase.step is not steps.Step.SET or not values:
            self.dismiss()
            return
        self._at %= len(values)
        there, way = session.device.whereabouts, session.device.way
        head = Ink().put(f"  {phrase('Type this into')} ").put(session.device.work.tag, f"{STRONG} {THEIRS}")
        head.put(f", {phrase('which is at {there} now', there=there)}" if there else "", DIM)
        self.query_one("#heading", sheet.Sheet).show([head])
        below = wrapped(self._copied or _HINT, self.sheet_room, DIM)
        by = session.device.kind.way_by("hand") if session.device.kind else None
        if isinstance(by, model.HandWay) and by.say:
            below += [blank(), *wrapped(by.say, self.sheet_room, STRONG)]
        if way and way.moved_to and not way.done:
            below += [blank(), *landing.landing_lines(way.target.interface.ip, way.moved_to)]
        lines = self._lines(values, self.sheet_room - 2, self.size.height - _AROUND - len(below))
        self.query_one("#values", sheet.Sheet).show([*lines, blank(), *below])
        said = narrate.next_line(session, run.wire.now())
        self.query_one("#next", sheet.Sheet).show(around.next_lines(said, bool(session.visit.trouble), width))

    def _lines(self, values: list[tuple[str, str]], width: int, height: int) -> list[Ink]:
        """Draw the values, as many of them large as there is room for; the one at hand always is."""
        longest = max(large.large_width(value, 2) for _, value in values)
        scale = 2 if longest + _VALUE <= width else 1
        beside = _VALUE + max(large.large_width(value, scale) for _, value in values) <= width
        all_large = len(values) * (_LARGE + 1) <= height
        lines: list[Ink] = []
        for place, (name, value) in enumerate(values):
            here = place == self._at
            head = Ink().put("▸ " if here else "  ", STRONG).put(f"{place + 1}  ", f"{STRONG} {OURS}")
            head.put(name, STRONG if here else "")
            if not (here or all_large):
                lines.append(head.to(_VALUE).put(value, f"{STRONG} {THEIRS}"))
                continue
            styles = self._styles(value, f"{STRONG} {THEIRS}" if here else THEIRS)
            drawn = large.large_lines(value, scale, styles if here else [THEIRS] * len(value))
            if not beside:  # 80 columns have no room for twelve large digits and a name
                lines.append(head)
                head = Ink()
            for row, ink in enumerate(drawn):
                lines.append((head if row == 0 else Ink()).to(_VALUE if beside else _UNDER).put_line(ink))
            lines.append(blank())
        return lines

    def _styles(self, value: str, style: str) -> list[str]:
        """Return a style for each character: the number that is on the clipboard stands out."""
        styles, number = [], 0
        for each in value:
            number += each == "."
            styles.append(OURS if self._octet == number and each != "." else style)
        return styles

    def _copy(self, text: str, words: str) -> None:
        self.app.copy_to_clipboard(text)
        self._copied = phrase(
            "Copied: {text}, {words}. If pasting brings nothing, this terminal blocks the clipboard.",
            text=text,
            words=words,
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
        self._copy(numbers[self._octet], phrase("number {octet} of 4 of {name}", octet=self._octet + 1, name=name))

    def action_point(self, by: int) -> None:
        """Go to another value."""
        self._at, self._octet = (self._at + by) % max(1, len(self._values)), None
        self.draw()

    def action_next(self) -> None:
        """Do what the bottom line says."""
        self._do_next()

    def action_door(self) -> None:
        """Open its page beside this."""
        self._open_door()
