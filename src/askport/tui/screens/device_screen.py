"""One device of the register with all that is known of it, and what somebody writes down about it."""

from collections.abc import Callable

from textual.binding import Binding

from askport.core.phrases import phrase
from askport.core.plan.working_order import clean_tag
from askport.core.register.corrections import named, noted, reopened
from askport.core.register.entries import Named, Noted, Reopened
from askport.core.register.visits import Row
from askport.tui import ink, question
from askport.tui.pictures.register_picture import STATE_STYLES, device_lines
from askport.tui.screens.takes_entries import TakesEntries
from askport.tui.widgets import entry_line, sheet
from askport.tui.workplace import Workplace


class DeviceScreen(TakesEntries):
    """One device of the register; what is written down comes behind what was recorded, and changes nothing of it."""

    CSS_PATH = "register_screen.tcss"
    BINDINGS = [
        Binding("escape,enter", "leave", "Back", id="device.back"),
        Binding("n", "note", "Note", id="device.note", tooltip=phrase("Write something down about it")),
        Binding("e", "tag", phrase("Change tag"), id="device.tag", tooltip=phrase("Correct its tag")),
        Binding(
            "o",
            "reopen",
            phrase("Do again"),
            id="device.reopen",
            tooltip=phrase("The record is not valid: commission it again"),
        ),
    ]

    def __init__(self, workplace: Workplace, device: int) -> None:
        super().__init__()
        self._workplace, self._device = workplace, device

    @property
    def _row(self) -> Row:
        return self._workplace.run.job.register.row(self._device)

    def draw(self) -> None:
        row, width = self._row, self.sheet_room
        planned = self._workplace.run.job.register.planned(row.tag)
        title = ink.Ink().put(f"  {row.tag or 'no tag'}", f"{ink.STRONG} {ink.THEIRS}")
        title.put(f"  {row.mac}  {row.maker or 'maker unknown'}   ", ink.DIM).put(
            row.state, STATE_STYLES.get(row.state, "")
        )
        self.query_one("#heading", sheet.Sheet).show([title])
        strangers = {each.name for each in self._workplace.run.job.register.strangers()}
        self.query_one("#sheet", sheet.Sheet).show(device_lines(row, planned, width, strangers))

    def action_leave(self) -> None:
        """Go back to the table."""
        self.dismiss()

    def action_note(self) -> None:
        """Write something down about it."""
        self._ask(phrase("Note:"), lambda row, text: noted(row, text))

    def action_reopen(self) -> None:
        """Have it be commissioned again."""
        if not self._row.last.recorded_at:
            self.notify(phrase("It is not recorded: there is nothing to redo."), markup=False)
            return
        self._ask(phrase("Why is the record not valid? The device goes back on the job list."), reopened)

    def action_tag(self) -> None:
        """Correct its tag."""
        tagged = self._workplace.run.job.register.by_tag
        self._ask(
            phrase("What is the correct tag?"), lambda row, tag: named(row, tag, tagged(clean_tag(tag))), self._row.tag
        )

    def _ask(self, sentence: str, entry: Callable[[Row, str], Noted | Named | Reopened], begins: str = "") -> None:
        """Ask for a line, say as what it is going to be written, and have the job write it."""

        def check(typed: str) -> str:
            made = entry(self._row, typed)
            written = made.tag if isinstance(made, Named) else made.text if isinstance(made, Noted) else made.because
            return phrase("Written down: {written}", written=written)

        self.query_one(entry_line.EntryLine).ask(
            question.Question(
                sentence, begins, check,
                lambda _session, _now, typed: self._workplace.run.correct(entry(self._row, typed)),
                replaces=bool(begins),
            )
        )  # fmt: skip
