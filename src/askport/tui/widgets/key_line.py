"""The keys that do something now, on one line at the bottom of a screen, each also for the mouse."""

from collections.abc import Callable, Iterable
from typing import Any

from textual.binding import ActiveBinding, Binding
from textual.screen import Screen

from askport.core.phrases import phrase
from askport.tui.ink import OURS, STRONG, Ink
from askport.tui.widgets.sheet import Sheet

_REST, _REST_KEY = phrase("? all keys"), "question_mark"


def program_bindings(screen: Screen[Any]) -> list[ActiveBinding]:
    """Return what can be done on a screen, once for each action, in the order in which it was written."""
    found: dict[str, ActiveBinding] = {}
    for active in screen.active_bindings.values():
        if active.binding.id and active.binding.id not in found:
            found[active.binding.id] = active
    return list(found.values())


def key_strip(bindings: Iterable[ActiveBinding], shown_key: Callable[[Binding], str], width: int) -> Ink:
    """Draw what can be done now on one line, as far as there is room, and where the rest is."""
    ink = Ink().put(" ")
    for active in bindings:
        binding, key = active.binding, shown_key(active.binding)
        if not binding.show or binding.id == "app.keys" or not active.enabled:
            continue
        title = phrase(binding.description)
        if ink.width + len(key) + len(title) + 4 + len(_REST) > width:
            continue
        _put(ink, key, f"{title}  ", binding.key)
    return _put(ink.to(width - len(_REST) - 1), _REST[0], _REST[1:], _REST_KEY)


def _put(ink: Ink, key: str, rest: str, pressed: str) -> Ink:
    click = f"@click=app.simulate_key('{pressed.partition(',')[0]}')"
    return ink.put(key, f"{STRONG} {OURS} {click}").put(rest if key == _REST[0] else f" {rest}", click)


class KeyLine(Sheet):
    """Draws itself anew when what the keys do has changed."""

    DEFAULT_CSS = "KeyLine { dock: bottom; height: 1; width: 100%; background: $surface; }"

    def on_mount(self) -> None:
        """Follow the screen's keys."""
        self.screen.bindings_updated_signal.subscribe(self, lambda _: self.draw())
        self.draw()

    def on_resize(self) -> None:
        """Draw for another width."""
        self.draw()

    def draw(self) -> None:
        """Show the keys of this moment, while its screen is in front."""
        if self.is_attached and self.app.screen is self.screen:
            width = self.size.width or self.app.size.width
            self.show([key_strip(program_bindings(self.screen), self.app.get_key_display, width)])
