"""What a view has that asks for one line and has it written down."""

from textual.app import ComposeResult
from textual.containers import VerticalScroll

from askport.core.errors import AskPortError
from askport.edges import log
from askport.tui.screens.drawn_screen import DrawnScreen
from askport.tui.widgets import entry_line, key_line, sheet
from askport.tui.workplace import Workplace


class TakesEntries(DrawnScreen[None]):
    """Gives what was typed to the question that asked for it, and draws what became of it."""

    _workplace: Workplace

    def compose(self) -> ComposeResult:
        """Lay out a page, with the line under it."""
        yield sheet.Sheet(id="heading")
        with VerticalScroll(id="rows"):
            yield sheet.Sheet(id="sheet")
        yield entry_line.EntryLine()
        yield key_line.KeyLine()

    def on_entry_line_entered(self, event: entry_line.EntryLine.Entered) -> None:
        """Have it written down, or say why not."""
        run = self._workplace.run
        try:
            event.question.use(run.session, run.wire.now(), event.text)
        except AskPortError as error:
            log.begin()
            log.wrong("refused", code=error.code, because=error.message)
            self.notify(error.message, severity="error", markup=False)
        self.draw()
