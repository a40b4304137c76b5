"""Every key of the screen that is open, what it does, and whether it does anything now."""

from collections.abc import Callable, Iterable
from typing import Any

from textual.app import ComposeResult
from textual.binding import ActiveBinding, Binding
from textual.containers import VerticalScroll
from textual.screen import ModalScreen, Screen
from textual.widgets import Footer

from askport.tui.ink import DIM, OURS, STRONG, Ink, beside, blank, line
from askport.tui.widgets.sheet import Sheet

_TITLE, _SAYS = 14, 34


def program_bindings(screen: Screen[Any]) -> list[ActiveBinding]:
    """Return what can be done on a screen, once for each action, in the order in which it was written."""
    found: dict[str, ActiveBinding] = {}
    for active in screen.active_bindings.values():
        if active.binding.id and active.binding.id not in found:
            found[active.binding.id] = active
    return list(found.values())


def key_lines(bindings: Iterable[ActiveBinding], shown_key: Callable[[Binding], str], width: int) -> list[Ink]:
    """Draw the keys: what can be done now stands out."""
    lines = [line("What the keys do now. ? or Escape closes this.", DIM, 2), blank()]
    for active in bindings:
        binding, style = active.binding, STRONG if active.enabled else DIM
        ink = Ink().to(2).put(shown_key(binding), f"{STRONG} {OURS}" if active.enabled else DIM)
        ink.to(_TITLE).put(binding.description, style)
        lines += beside(ink, _SAYS, binding.tooltip or "", width, "" if active.enabled else DIM)
    return lines


def key_strip(bindings: Iterable[ActiveBinding], shown_key: Callable[[Binding], str], width: int) -> Ink:
    """Draw what can be done now on one line, as far as there is room, and where the rest is."""
    rest = "? all keys"
    ink = Ink().put(" ")
    for active in bindings:
        key, title = shown_key(active.binding), active.binding.description
        if active.binding.id in ("app.keys", "app.theme") or not active.enabled:
            continue
        if ink.width + len(key) + len(title) + 3 + len(rest) > width:
            continue
        ink.put(key, f"{STRONG} {OURS}").put(f" {title}  ")
    return ink.to(width - len(rest) - 1).put("?", f"{STRONG} {OURS}").put(rest[1:])


class KeysScreen(ModalScreen[None]):
    """Shows the keys of the screen under it, and goes by the key that opened it."""

    CSS_PATH = "keys.tcss"
    BINDINGS = [Binding("question_mark,escape", "dismiss", "Close", id="keys.close", key_display="?")]

    def __init__(self, under: Screen[Any]) -> None:
        super().__init__()
        self._under = program_bindings(under)

    def compose(self) -> ComposeResult:
        """Lay out the list."""
        with VerticalScroll(id="keys"):
            yield Sheet(id="list")
        yield Footer(compact=True)

    def on_mount(self) -> None:
        """Show them."""
        self.call_after_refresh(self.draw)

    def on_resize(self) -> None:
        """Break the lines anew."""
        self.draw()

    def draw(self) -> None:
        """Show every key."""
        sheet = self.query_one("#list", Sheet)
        sheet.show(key_lines(self._under, self.app.get_key_display, max(40, sheet.size.width)))
