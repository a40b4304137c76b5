"""The full-screen application."""

import os
from collections.abc import Callable

from textual.app import App
from textual.binding import Binding

from askport.core.errors import AskPortError
from askport.tui.outfit import Outfit
from askport.tui.screens.plug import Choice, PlugScreen
from askport.tui.screens.work import WorkScreen
from askport.tui.themes import DARK, LIGHT

Fit = Callable[[Choice], Outfit]
"""Makes a round on the adapter that was chosen, or on the practice bench."""


class AskPortApp(App[None]):
    """Ask Port on one cable."""

    TITLE = "Ask Port"
    ENABLE_COMMAND_PALETTE = True
    BINDINGS = [
        Binding("question_mark", "show_help_panel", "Keys", id="app.keys", key_display="?"),
        Binding("t", "daylight", "Day or night", id="app.theme", tooltip="A light or a dark screen"),
        Binding("q", "quit", "Leave", id="app.leave", tooltip="Give everything back and leave"),
    ]

    def __init__(self, outfit: Outfit | None, plug: PlugScreen | None = None, fit: Fit | None = None) -> None:
        """Start with a round, or with the choice of an adapter and what makes a round of that choice."""
        super().__init__()
        self.outfit = outfit
        self._plug, self._fit = plug, fit
        self.fault: Exception | None = None
        """What ended the program unexpectedly."""

    def get_theme_variable_defaults(self) -> dict[str, str]:
        """Give the side colours to every theme that does not bring its own."""
        return dict(DARK.variables)

    def on_mount(self) -> None:
        """Start at the cable."""
        for theme in (DARK, LIGHT):
            self.register_theme(theme)
        self.theme = DARK.name
        if self._plug and self._fit:
            self.push_screen(self._plug, self._chosen)
        elif self.outfit:
            self.push_screen(WorkScreen(self.outfit))

    def _chosen(self, choice: Choice | None) -> None:
        if choice and self._fit:
            try:
                self.outfit = self._fit(choice)
            except AskPortError as error:
                self.fault = error
                self.exit()
                return
            self.push_screen(WorkScreen(self.outfit))

    def action_daylight(self) -> None:
        """Change between the dark and the light theme."""
        self.theme = LIGHT.name if self.theme == DARK.name else DARK.name

    def _handle_exception(self, error: Exception) -> None:
        """End with a sentence: Textual would print a traceback with every local value.

        There is no public way to do this in Textual 8; the tests would show if it changed.
        """
        if self.is_headless or os.environ.get("ASKPORT_TRACEBACK"):
            super()._handle_exception(error)
            return
        self.fault = error
        self.exit()
