"""A widget that shows lines, and repaints only when they change."""

from collections.abc import Iterable

from textual.content import Content
from textual.widgets import Static

from askport.tui.ink import Ink, page


class Sheet(Static):
    """Lines of ink."""

    def __init__(self, *, id: str | None = None) -> None:  # noqa: A002 - Textual's own name for it
        super().__init__(Content(""), id=id)
        self._shown: Content | None = None

    def show(self, lines: Iterable[Ink]) -> None:
        """Show these lines from now on."""
        content = page(lines)
        if self._shown is None or content.plain != self._shown.plain or content.spans != self._shown.spans:
            before, self._shown = self._shown, content
            # As many lines take as much room: nothing else has to be laid out anew.
            same = before is not None and before.plain.count("\n") == content.plain.count("\n")
            self.update(content, layout=not same)
