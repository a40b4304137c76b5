"""A widget that shows lines, and repaints those that have changed."""

from collections.abc import Iterable

from rich.segment import Segment
from textual.geometry import Region, Size
from textual.strip import Strip
from textual.style import Style
from textual.widget import Widget

from askport.tui.ink import Ink


class Sheet(Widget):
    """Lines of ink, each drawn straight to the terminal's cells: a general text widget takes ten times as long."""

    DEFAULT_CSS = "Sheet { height: auto; }"

    def __init__(self, *, id: str | None = None) -> None:  # noqa: A002 - Textual's own name for it
        super().__init__(id=id)
        self._lines: list[Ink] = []
        self._rows: list[Ink] = []
        """The lines as they fit into the width."""
        self._fits = 0
        self._styles_by_name: dict[str, Style] = {}
        self._styles_of = ""
        """The theme that the styles were resolved in."""

    def show(self, lines: Iterable[Ink]) -> None:
        """Show these lines from now on."""
        before = self._rows
        self._lines = list(lines)
        self._fold(self._fits or self.content_size.width)
        if len(before) != len(self._rows):
            self.refresh(layout=True)
            return
        width = self.content_size.width
        changed = [at for at, (old, new) in enumerate(zip(before, self._rows, strict=True)) if old.parts != new.parts]
        if changed:
            self.refresh(*(Region(0, at, width, 1) for at in changed))

    def get_content_width(self, container: Size, viewport: Size) -> int:
        """Return all the width that there is."""
        return container.width

    def get_content_height(self, container: Size, viewport: Size, width: int) -> int:
        """Return how many rows the lines take in that width."""
        self._fold(width)
        return len(self._rows)

    def render_line(self, y: int) -> Strip:
        """Return one row."""
        width = self.content_size.width
        if width != self._fits:
            self._fold(width)
        if self._styles_of != self.app.theme:
            self._styles_by_name, self._styles_of = {}, self.app.theme
        base = self.visual_style
        parts = self._rows[y].parts if y < len(self._rows) else ()
        segments = [Segment(text, (base + self._style(style)).rich_style) for text, style in parts]
        return Strip(segments).adjust_cell_length(width, base.rich_style)

    def _fold(self, width: int) -> None:
        self._fits = width
        self._rows = [row for each in self._lines for row in each.folded(width)] if width else self._lines

    def _style(self, style: str) -> Style:
        found = self._styles_by_name.get(style)
        if found is None:
            found = self._styles_by_name[style] = Style.parse(style) if style else Style()
        return found
