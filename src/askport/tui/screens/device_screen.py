"""One device of the register with all that is known of it, and what somebody writes down about it."""

from collections.abc import Callable
from datetime import UTC, datetime

from textual.app import ComposeResult
from textual.binding import Binding
from textual.containers import VerticalScroll

from askport.core.errors import AskPortError, BadInput
from askport.core.plan.working_order import clean_tag
from askport.core.register.entries import Entry, Named, Noted, Reopened
from askport.core.register.remarks import clean_remark
from askport.core.register.visits import Row
from askport.tui.ink import DIM, STRONG, THEIRS, Ink
from askport.tui.pictures.register_picture import STATE_STYLES, device_lines
from askport.tui.questions import Question
from askport.tui.screens.drawn_screen import DrawnScreen
from askport.tui.widgets.entry_line import EntryLine
from askport.tui.widgets.key_line import KeyLine
from askport.tui.widgets.sheet import Sheet
from askport.tui.workplace import Workplace


class DeviceScreen(DrawnScreen[None]):
    """One device of the register; what is written down comes behind what was recorded, and changes nothing of it."""

    CSS_PATH = "register_screen.tcss"
    BINDINGS = [
        Binding("escape,enter", "leave", "Back", id="device.back"),
        Binding("n", "note", "Note", id="device.note", tooltip="Write something down about it"),
        Binding("e", "tag", "Right tag", id="device.tag", tooltip="Correct its tag"),
        Binding("o", "reopen", "Do again", id="device.reopen", tooltip="What was recorded does not count: do it again"),
    ]

    def __init__(self, workplace: Workplace, device: int) -> None:
        super().__init__()
        self._workplace, self._device = workplace, device

    def compose(self) -> ComposeResult:
        """Lay out the page."""
        yield Sheet(id="heading")
        with VerticalScroll(id="rows"):
            yield Sheet(id="sheet")
        yield EntryLine()
        yield KeyLine()

    @property
    def _row(self) -> Row:
        return self._workplace.run.job.register.row(self._device)

    def draw(self) -> None:
        """Show what is known of it."""
        row, width = self._row, max(60, self.room - 8)
        planned = self._workplace.run.job.register.planned(row.tag)
        title = Ink().put(f"  {row.tag or 'no tag'}", f"{STRONG} {THEIRS}")
        title.put(f"  {row.mac}  {row.maker or 'maker unknown'}   ", DIM).put(
            row.state, STATE_STYLES.get(row.state, "")
        )
        self.query_one("#heading", Sheet).show([title])
        self.query_one("#sheet", Sheet).show(device_lines(row, planned, width))

    def action_leave(self) -> None:
        """Go back to the table."""
        self.dismiss()

    def action_note(self) -> None:
        """Write something down about it."""
        self._ask("What is to be known of it?", lambda row, text: Noted(unit=row.last.unit, mac=row.mac, text=text))

    def action_reopen(self) -> None:
        """Have it be commissioned again."""
        if not self._row.last.recorded_at:
            self.notify("It is not recorded: there is nothing to do again.", markup=False)
            return
        question = "Why does what was recorded not count? It is offered again then."
        self._ask(question, lambda row, text: Reopened(unit=row.last.unit, mac=row.mac, because=text))

    def action_tag(self) -> None:
        """Correct its tag."""
        self._ask(
            "Which is its right tag?", lambda row, text: Named(unit=row.last.unit, mac=row.mac, tag=text), is_tag=True
        )

    def _ask(self, sentence: str, entry: Callable[[Row, str], Entry], *, is_tag: bool = False) -> None:
        job = self._workplace.run.job
        clean = self._free_tag if is_tag else clean_remark
        self.query_one(EntryLine).ask(
            Question(
                sentence,
                self._row.tag if is_tag else "",
                lambda typed: f"Written down: {clean(typed)}",
                lambda _session, _now, typed: job.append(entry(self._row, clean(typed)), datetime.now(UTC)),
                replaces=is_tag,
            )
        )

    def _free_tag(self, text: str) -> str:
        tag = clean_tag(text)
        other = next((each for each in self._workplace.run.job.register.by_tag(tag) if each.id != self._device), None)
        if other:
            raise BadInput(f"{tag} is the tag of {other.mac} already: correct that one first.")
        return tag

    def on_entry_line_entered(self, event: EntryLine.Entered) -> None:
        """Write it into the journal."""
        run = self._workplace.run
        try:
            event.question.use(run.session, run.wire.now(), event.text)
        except AskPortError as error:
            self.notify(error.message, severity="error", markup=False)
        self.draw()
