"""The register: a table that is searched as one types, and a page for each device."""

from textual import work
from textual.app import ComposeResult
from textual.binding import Binding
from textual.content import Content
from textual.widgets import DataTable, Input

from askport.core.errors import AskPortError
from askport.core.phrases import phrase
from askport.core.register import entries, searching
from askport.core.register.about import about_of, was_asked
from askport.core.text import display_text
from askport.edges import files, projection
from askport.edges.crew.job_part import crew_words
from askport.reports.open_points import proven_words
from askport.tui.desk import Desk
from askport.tui.ink import CONFLICT, DIM, STRONG, THEIRS, Ink, blank, wrapped
from askport.tui.pictures.register_picture import HEADS, STATE_STYLES, cells_of, device_lines, left_lines
from askport.tui.questions import ask_about
from askport.tui.screens import differences_screen, drawn_screen
from askport.tui.screens.device_screen import DeviceScreen
from askport.tui.screens.handover_screen import HandoverScreen
from askport.tui.widgets import entry_line, key_line
from askport.tui.widgets.sheet import Sheet
from askport.tui.workplace import Workplace

_AT_ONCE = 60
"""Rows that are put into the table at once; more come when the cursor nears its end."""
_AROUND_TABLE, _FEWEST_LINES = 6, 10
"""Lines over and under the table, and how many make it worth while to show one device."""
_WIDTHS = (10, 10, 18, 18, 22, 22, 17, 16)


class RegisterScreen(drawn_screen.DrawnScreen[None]):
    """What this job has recorded."""

    CSS_PATH = "register_screen.tcss"
    AUTO_FOCUS = "#search"
    BINDINGS = [
        Binding("enter", "open", "Open", id="register.open", priority=True),
        Binding("escape", "back", "Back", id="register.back", priority=True),
        Binding(
            "f4", "sort", "Sort", id="register.sort", tooltip=phrase("Sort by tag, address, state, place, kind or day")
        ),
        Binding(
            "f6",
            "differences",
            "Differences",
            id="register.differences",
            tooltip=phrase("Conflicts between technicians' records, and how to resolve them"),
        ),
        Binding(
            "f9", "handover", "Handover", id="register.handover", tooltip=phrase("Write every document of the handover")
        ),
        Binding("up", "move(-1)", "Device", key_display="↑ ↓", id="register.up", priority=True),
        Binding("down", "move(1)", "Down", show=False, priority=True),
        Binding("pageup", "move(-15)", phrase("Page up"), show=False, priority=True),
        Binding("pagedown", "move(15)", phrase("Page down"), show=False, priority=True),
    ]

    def __init__(self, workplace: Workplace) -> None:
        super().__init__()
        self._workplace = workplace
        self._order = searching.Order.FOUND
        self._shown: list[searching.Brief] = []
        self._found = self._below = 0

    @classmethod
    def over(cls, desk: Desk) -> "RegisterScreen":
        """Return it as it opens over the screen of the job."""
        return cls(desk.workplace)

    def compose(self) -> ComposeResult:
        """Lay out the search over the table."""
        yield Sheet(id="heading")
        hint = phrase("Type words to search, or state:proven place:north day:today")
        yield Input(id="search", placeholder=hint, compact=True)
        yield DataTable(id="table", cursor_type="row", zebra_stripes=False)
        yield Sheet(id="pointed")
        yield Sheet(id="below")
        yield entry_line.EntryLine()
        yield key_line.KeyLine()

    def on_mount(self) -> None:
        """Fill the table."""
        for head, width in zip(HEADS, _WIDTHS, strict=True):
            self.query_one(DataTable).add_column(head, width=width)
        self.fill()

    def on_input_changed(self, event: Input.Changed) -> None:
        """Search as one types."""
        event.stop()
        self.fill()

    def action_sort(self) -> None:
        """Sort by the next of the orders."""
        orders = list(searching.Order)
        self._order = orders[(orders.index(self._order) + 1) % len(orders)]
        self.fill()

    def fill(self) -> None:
        """Show what is found now; the cursor stays on its device where that is still there."""
        table = self.query_one(DataTable)
        at = self._shown[table.cursor_row].id if table.cursor_row < len(self._shown) else None
        self._shown = []
        table.clear()
        self._more()
        place = next((place for place, device in enumerate(self._shown) if device.id == at), 0)
        table.move_cursor(row=place)
        self.draw()

    def _more(self) -> None:
        """Put the next rows into the table."""
        table = self.query_one(DataTable)
        more = self._register.find(self._wanted, _AT_ONCE, behind=len(self._shown))
        for device in more:
            styles = (STRONG, STATE_STYLES.get(device.state, DIM), THEIRS, "", "", DIM, DIM, DIM)
            table.add_row(*(_content(each, style) for each, style in zip(cells_of(device), styles, strict=True)))
        self._shown += more

    def on_data_table_row_highlighted(self, event: DataTable.RowHighlighted) -> None:
        """Have more rows ready before the cursor is at the end."""
        if event.cursor_row > len(self._shown) - _AT_ONCE // 2 and len(self._shown) < self._found:
            self._more()
        self._draw_pointed(self._below)

    def _draw_pointed(self, below: int) -> None:
        """Show the device at the cursor under a short table, where the screen would be empty."""
        table, sheet = self.query_one(DataTable), self.query_one("#pointed", Sheet)
        rows, self._below = len(self._shown), below
        scrolls = self.room - 8 < sum(_WIDTHS) + 2 * len(_WIDTHS)  # a bar under it takes a line
        spare = self.size.height - _AROUND_TABLE - rows - below - scrolls
        sheet.display = bool(self._shown) and spare >= _FEWEST_LINES
        table.styles.height = rows + 1 + scrolls if sheet.display else "1fr"
        if sheet.display:
            row = self._register.row(self._shown[min(table.cursor_row, rows - 1)].id)
            strangers = {each.name for each in self._register.strangers()}
            lines = device_lines(row, self._register.planned(row.tag), self.sheet_room, strangers)
            sheet.show([blank(), *lines[: spare - 1]])

    @property
    def _register(self) -> projection.Projection:
        return self._workplace.run.job.register

    @property
    def _wanted(self) -> searching.Wanted:
        return searching.wanted(self.query_one("#search", Input).value, self._order)

    def draw(self) -> None:
        register, work = self._register, self._workplace.run.work
        proven, everyone, open_among = register.proven()
        self._found = found = register.count(self._wanted)
        proves, file = proven_words(proven, everyone, open_among), self._workplace.run.job.path.name
        title = Ink().put(f"  {self._workplace.title}", STRONG).put(f" · {phrase('register of')} ", DIM)
        title = title if title.width + len(file) + len(proves) + 3 <= self.size.width else Ink().put("  ")
        title.put(file).put(f"   {proves}", DIM)
        title.put(f"   {found} found" if found < everyone else "", THEIRS)
        title.put(
            "   " + phrase("by {order}", order=self._order) if self._order is not searching.Order.FOUND else "", DIM
        )
        self.query_one("#heading", Sheet).show([title])
        width = max(40, self.room - 8)
        done = register.recorded_tags()
        lines = left_lines([item for item in work if item.tag not in done], width)
        if not everyone:
            text = phrase("Nothing recorded yet. The first device appears here as soon as it was found.")
            lines = [*wrapped(text, width, DIM), *lines]
        elif not found:
            text = phrase(
                "No device matches. The search covers everything known about a device. Press Escape to clear it."
            )
            lines = [*wrapped(text, width, DIM), *lines]
        for conflict in register.open_conflicts()[:3]:
            lines += wrapped(conflict, width, CONFLICT)
        self.query_one("#below", Sheet).show(lines)
        self._draw_pointed(len(lines))

    def action_move(self, by: int) -> None:
        """Go to another row."""
        table = self.query_one(DataTable)
        if table.row_count:
            table.move_cursor(row=max(0, min(table.cursor_row + by, table.row_count - 1)))

    def action_open(self) -> None:
        """Open the device at hand; without one, go back."""
        place = self.query_one(DataTable).cursor_row
        if not self._shown:
            self.dismiss()
        elif place < len(self._shown):
            self.app.push_screen(DeviceScreen(self._workplace, self._shown[place].id), lambda _: self.fill())

    def action_handover(self) -> None:
        """Write the handover; what stands on its cover is asked for once."""
        run = self._workplace.run
        if was_asked(line.entry for line in run.job.lines):
            self._write_handover()
            return

        def use(told: dict[str, str]) -> None:
            run.correct(entries.About.model_validate(told))
            self._write_handover()

        self.query_one(entry_line.EntryLine).ask(ask_about(use))

    def on_entry_line_entered(self, event: entry_line.EntryLine.Entered) -> None:
        """Take in what stands on the cover."""
        run = self._workplace.run
        try:
            event.question.use(run.session, run.wire.now(), event.text)
        except AskPortError as error:
            self.notify(error.message, severity="error", markup=False)

    def on_entry_line_left(self) -> None:
        """Search on, unless more is asked."""
        if not self.has_class("-typing"):
            self.query_one("#search", Input).focus()

    @work(thread=True, exclusive=True)
    def _write_handover(self) -> None:
        """Write the handover beside the job file, and show what is where."""
        from askport.reports.documents import Papers, documents

        job = self._workplace.run.job
        folder = job.path.with_name(f"{job.path.stem}-handover")
        try:
            job = job.as_it_stands()  # the screen writes on meanwhile
            register = job.register
            plan = register.plan(self._workplace.title)
            about = about_of(line.entry for line in job.lines)
            papers = Papers(job.checked(), plan, job.fingerprint, register.open_conflicts(), crew_words(job), about)
            written = files.write_all(folder, documents(papers))
        except AskPortError as error:
            self.app.call_from_thread(self.notify, error.message, severity="error", markup=False)
            return
        self.app.call_from_thread(self.app.push_screen, HandoverScreen(job, self._workplace.title, written))

    def action_differences(self) -> None:
        """Open what records of several technicians say differently."""
        self.app.push_screen(differences_screen.DifferencesScreen(self._workplace), lambda _: self.fill())

    def check_action(self, action: str, parameters: tuple[object, ...]) -> bool | None:
        """Offer the differences only where there are any."""
        if self.has_class("-typing"):
            return False
        return action != "differences" or bool(self._register.open_conflicts())

    def action_back(self) -> None:
        """Search no more, or go back to the cable."""
        search = self.query_one("#search", Input)
        if search.value:
            search.value = ""
        else:
            self.dismiss()


def _content(text: str, style: str) -> Content:
    """Return a cell: text from the wire is no markup."""
    return Content.styled(display_text(text, 60), style)
