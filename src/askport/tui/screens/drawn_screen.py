"""Screens that draw themselves."""

from textual._styles_cache import StylesCache
from textual.screen import Screen, ScreenResultType


class DrawnScreen(Screen[ScreenResultType]):
    """Draws before it is laid out for the first time, for each new size, and again and again where it shows time.

    Drawn first and laid out after, a screen is painted once and not twice.
    """

    DRAWS_EVERY_S: float | None = None
    """How often it is drawn without a cause, while it is in front."""

    def on_mount(self) -> None:
        """Draw, and go on drawing."""
        self.draw()
        if self.DRAWS_EVERY_S:
            self.set_interval(self.DRAWS_EVERY_S, self.draw_in_front)

    def on_resize(self) -> None:
        """Draw for the new size."""
        self.draw()

    def on_unmount(self) -> None:
        """Let go of what Textual keeps of a view that was left: the rows of its last thousand widgets.

        A few hundred views are opened in a day, and the collector would walk all that they showed, in mid-key.
        """
        StylesCache.get_inner_outer.cache_clear()

    @property
    def room(self) -> int:
        """How many columns there are; before the first layout, as many as the terminal has."""
        return self.size.width or self.app.size.width

    @property
    def sheet_room(self) -> int:
        """How many columns a sheet has between margins of four columns, with a scroll bar or without."""
        return max(60, self.room - 9)

    @property
    def is_in_front(self) -> bool:
        """Whether it is seen: nothing covers it, or only what one sees through.

        Textual's own ``is_current`` is true of the screen under the one in front as well.
        """
        return self.is_attached and (self.app.screen is self or self.app.screen.is_modal)

    def draw_in_front(self) -> None:
        """Draw, if it is seen."""
        if self.is_in_front:
            self.draw()

    def draw(self) -> None:
        """Show the state of this moment."""
        raise NotImplementedError
