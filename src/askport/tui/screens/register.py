"""The register: a table that is searched as one types, and a page for each device."""

from textual import work
from textual.app import ComposeResult
from textual.binding import Binding
from textual.containers import VerticalScroll
from textual.content import Content
from textual.screen import Screen
from textual.widgets import DataTable, Footer, Input

from askport.core.errors import AskPortError
from askport.core.plan.site_plan import PlannedDevice
from askport.core.register.fold import Row
from askport.core.text import display_text
from askport.core.words import listed
from askport.edges.files import write_all
from askport.tui.ink import CONFLICT, DIM, STRONG, THEIRS, Ink, wrapped
from askport.tui.pictures.register import HEADS, cells_of, device_lines, left_lines, matching
from askport.tui.widgets.sheet import Sheet
from askport.tui.workplace import Workplace

_MOST_SHOWN = 500
"""Rows in the table at once; more would be looked for and not scrolled to."""
_WIDTHS = (10, 10, 18, 18, 22, 22, 17, 16)
_STYLES = {"proven": f"{STRONG} {THEIRS}", "unproven": CONFLICT}


class RegisterScreen(Screen[None]):
    """What this job has recorded."""

    CSS_PATH = "register.tcss"
    BINDINGS = [
        Binding("enter", "open", "The device", id="register.open", priority=True),
        Binding("escape", "back", "Back", id="register.back", priority=True),
        Binding("f9", "handover", "Handover", id="register.handover", tooltip="Write every document of the handover"),
        Binding("up", "move(-1)", "Device", key_display="↑ ↓", id="register.up", priority=True),
        Binding("down", "move(1)", "Down", show=False, priority=True),
        Binding("pageup", "move(-15)", "Page up", show=False, priority=True),
        Binding("pagedown", "move(15)", "Page down", show=False, priority=True),
    ]

    def __init__(self, workplace: Workplace) -> None:
        super().__init__()
        self._workplace = workplace
        self._plan: dict[str, PlannedDevice] = {}
        self._haystacks: dict[object, str] = {}
        self._shown: list[Row] = []

    def compose(self) -> ComposeResult:
        """Lay out the search over the table."""
        yield Sheet(id="heading")
        yield Input(
            id="search", placeholder="Type to search: a tag, an address, a maker, a state, anything", compact=True
        )
        yield DataTable(id="table", cursor_type="row", zebra_stripes=False)
        yield Sheet(id="below")
        yield Footer(compact=True)

    def on_mount(self) -> None:
        """Fill the table."""
        from askport.core.plan.folding import plan_of

        self._plan = dict(plan_of(line.entry for line in self._workplace.run.job.lines).by_tag)
        for head, width in zip(HEADS, _WIDTHS, strict=True):
            self.query_one(DataTable).add_column(head, width=width)
        self.query_one(Input).focus()
        self._fill("")

    def on_resize(self) -> None:
        """Break the lines below anew."""
        self._say()

    def on_input_changed(self, event: Input.Changed) -> None:
        """Search as one types."""
        event.stop()
        self._fill(event.value)

    def _fill(self, text: str) -> None:
        table = self.query_one(DataTable)
        self._shown = matching(self._workplace.run.rows, self._plan, text, self._haystacks)
        table.clear()
        for row in self._shown[:_MOST_SHOWN]:
            cells = cells_of(row, self._plan.get(row.tag))
            styles = (STRONG, _STYLES.get(row.state, DIM), THEIRS, "", "", DIM, DIM, DIM)
            table.add_row(*(_content(each, style) for each, style in zip(cells, styles, strict=True)))
        self._say()

    def _say(self) -> None:
        rows, work = self._workplace.run.rows, self._workplace.run.work
        proven = sum(row.is_proven for row in rows)
        title = Ink().put(f"  {self._workplace.title}", STRONG).put(" · register of ", DIM)
        title.put(self._workplace.run.job.path.name).put(f"   {proven} of {len(rows)} proven", DIM)
        if len(self._shown) < len(rows):
            title.put(f"   {len(self._shown)} found", THEIRS)
        self.query_one("#heading", Sheet).show([title])
        width = max(40, self.size.width - 8)
        done = {row.tag for row in rows if row.last.recorded_at}
        lines = left_lines([item for item in work if item.tag not in done], width)
        if not rows:
            text = "Nothing recorded yet. The first device appears here as soon as it was found."
            lines = [*wrapped(text, width, DIM), *lines]
        if len(self._shown) > _MOST_SHOWN:
            lines = [
                *wrapped(f"The first {_MOST_SHOWN} are shown: type more of what you look for.", width, DIM),
                *lines,
            ]
        self.query_one("#below", Sheet).show(lines)

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
            row = self._shown[place]
            self.app.push_screen(DeviceScreen(row, self._plan.get(row.tag)))

    @work(thread=True, exclusive=True)
    def action_handover(self) -> None:
        """Write the handover beside the job file, and say what is where."""
        from askport.reports.documents import documents

        job = self._workplace.run.job
        folder = job.path.with_name(f"{job.path.stem}-handover")
        try:
            written = write_all(folder, documents(job.lines, self._workplace.title))
        except AskPortError as error:
            self.app.call_from_thread(self.notify, error.message, severity="error", markup=False)
            return
        names = listed([path.name for path, _ in written])
        text = f"Written to {folder}: {names}."
        self.app.call_from_thread(self.notify, text, title="Handover", timeout=20, markup=False)

    def action_back(self) -> None:
        """Search no more, or go back to the cable."""
        search = self.query_one(Input)
        if search.value:
            search.value = ""
        else:
            self.dismiss()


class DeviceScreen(Screen[None]):
    """One device of the register."""

    CSS_PATH = "register.tcss"
    BINDINGS = [Binding("escape,enter", "app.pop_screen", "Back", id="device.back")]

    def __init__(self, row: Row, planned: PlannedDevice | None) -> None:
        super().__init__()
        self._row, self._planned = row, planned

    def compose(self) -> ComposeResult:
        """Lay out the page."""
        yield Sheet(id="heading")
        with VerticalScroll(id="rows"):
            yield Sheet(id="sheet")
        yield Footer(compact=True)

    def on_mount(self) -> None:
        """Show it."""
        self.call_after_refresh(self.draw)

    def on_resize(self) -> None:
        """Draw to the new width."""
        self.draw()

    def draw(self) -> None:
        """Show what is known of it."""
        row, width = self._row, max(60, self.size.width - 8)
        title = Ink().put(f"  {row.tag or 'no tag'}", f"{STRONG} {THEIRS}")
        title.put(f"  {row.mac}  {row.maker or 'maker unknown'}   ", DIM).put(row.state, _STYLES.get(row.state, ""))
        self.query_one("#heading", Sheet).show([title])
        self.query_one("#sheet", Sheet).show(device_lines(row, self._planned, width))


def _content(text: str, style: str) -> Content:
    """Return a cell: text from the wire is no markup."""
    return Content.styled(display_text(text, 60), style)
