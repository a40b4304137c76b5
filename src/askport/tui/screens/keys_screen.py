"""Every key of the screen that is open, what it does, and whether it does anything now."""

from collections.abc import Callable, Iterable
from typing import Any

from textual.app import ComposeResult
from textual.binding import ActiveBinding, Binding
from textual.containers import VerticalScroll
from textual.screen import Screen

from askport.core.phrases import phrase
from askport.tui.ink import DIM, OURS, STRONG, Ink, beside, blank, line
from askport.tui.screens import drawn_screen, guide_screen
from askport.tui.widgets.key_line import KeyLine, program_bindings
from askport.tui.widgets.sheet import Sheet

_TITLE, _SAYS = 14, 34


def key_lines(bindings: Iterable[ActiveBinding], shown_key: Callable[[Binding], str], width: int) -> list[Ink]:
    """Draw the keys: what can be done now stands out."""
    lines = [
        line(phrase("What the keys do now. Enter opens the guide at this situation, Escape closes this."), DIM, 2),
        blank(),
    ]
    for active in bindings:
        binding, style = active.binding, STRONG if active.enabled else DIM
        ink = Ink().to(2).put(shown_key(binding), f"{STRONG} {OURS}" if active.enabled else DIM)
        ink.to(_TITLE).put(binding.description, style)
        lines += beside(ink, _SAYS, binding.tooltip or "", width, "" if active.enabled else DIM)
    return lines


class KeysScreen(drawn_screen.DrawnScreen[None]):
    """Shows the keys of the screen under it, and goes by the key that opened it."""

    KEYS_ARE_COMMANDS = True
    CSS_PATH = "keys_screen.tcss"
    BINDINGS = [
        Binding("question_mark,f1,escape", "dismiss", "Close", id="keys.close", key_display="Esc"),
        Binding("enter", "guide", "Guide", id="keys.guide", tooltip=phrase("What to do in this situation")),
    ]

    def __init__(self, under: Screen[Any], at: str) -> None:
        """Show the keys of a screen; ``at`` is the part of the guide that fits what is on it."""
        super().__init__()
        self._under, self._at = program_bindings(under), at

    def action_guide(self) -> None:
        """Open the guide where it fits."""
        self.app.switch_screen(guide_screen.GuideScreen(self._at))

    def compose(self) -> ComposeResult:
        """Lay out the list."""
        with VerticalScroll(id="keys"):
            yield Sheet(id="list")
        yield KeyLine()

    def draw(self) -> None:
        sheet = self.query_one("#list", Sheet)
        sheet.show(key_lines(self._under, self.app.get_key_display, max(40, sheet.size.width or self.room - 6)))
