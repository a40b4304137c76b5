"""The office: the site of a crew as it comes in, without a cable; its plan can be changed, and reaches the ladders."""

from collections import Counter
from datetime import timedelta

from textual.app import ComposeResult
from textual.binding import Binding
from textual.containers import Horizontal, VerticalScroll

from askport.core.phrases import listed, phrase
from askport.core.plan import address_map, sentence
from askport.core.register.entries import DevicePlanned
from askport.core.visit.stages.stage import Next
from askport.reports.open_points import open_points
from askport.tui.ink import CONFLICT, DIM, Ink, blank, heading, wrapped
from askport.tui.question import Question
from askport.tui.screens import device_screen, register_screen, site_screen, takes_entries
from askport.tui.widgets import entry_line, key_line, sheet
from askport.tui.workplace import Workplace

_LOOKS_EVERY_S = 0.25
_MOST = 6
"""Open points of one kind that are shown; the handover's cover has all."""


class WatchScreen(site_screen.SiteScreen, takes_entries.TakesEntries, inherit_bindings=False):
    """The site as the crew's database has it, live."""

    AUTO_FOCUS = ""
    BINDINGS = [
        Binding("enter", "open", "Open", id="watch.open"),
        Binding(
            "e",
            "plan",
            "Plan",
            id="watch.plan",
            tooltip=phrase("Change the new settings of the device under the cursor"),
        ),
        Binding("r", "register", "Register", id="watch.register", tooltip=phrase("What was recorded")),
        Binding("tab", "device(1)", phrase("Next device"), id="site.next", priority=True),
        Binding("shift+tab", "device(-1)", phrase("Device before"), id="site.before", show=False, priority=True),
        Binding("left", "go(-1)", "Address", key_display="← → ↑ ↓", id="site.left"),
        Binding("right", "go(1)", "Right", id="site.right", show=False),
        Binding("up", f"go({-address_map.ROW})", "Up", id="site.up", show=False),
        Binding("down", f"go({address_map.ROW})", "Down", id="site.down", show=False),
    ]

    def __init__(self, workplace: Workplace) -> None:
        super().__init__(workplace, lambda _: None)
        self._told: list[tuple[str, list[str], bool]] | None = None

    def compose(self) -> ComposeResult:
        """Lay out the devices beside the maps."""
        yield sheet.Sheet(id="heading")
        with Horizontal(id="middle"):
            yield sheet.Sheet(id="devices")
            with VerticalScroll(id="scroll", can_focus=False):
                yield sheet.Sheet(id="map")
        yield entry_line.EntryLine()
        yield sheet.Sheet(id="next")
        yield key_line.KeyLine()

    def on_mount(self) -> None:
        """Take in what comes, from now on."""
        super().on_mount()
        self.set_interval(_LOOKS_EVERY_S, self._take_in)

    def _take_in(self) -> None:
        run = self._workplace.run
        if run.crew and run.crew.adopt():
            run.see_plan()
            self._sites, self._plan, self._told = run.sites, run.job.register.plan(), None
            self.draw_in_front()

    def _below(self, width: int) -> list[Ink]:
        """Draw the pace and what is open; both are worked out where something has come."""
        if self._told is None:
            self._told = self._work_out()
        lines: list[Ink] = []
        for title, sentences, contradicts in self._told:
            lines += [blank(), heading(title, width)]
            style = CONFLICT if contradicts else DIM
            lines += [part for text in sentences[:_MOST] for part in wrapped(text, width, style, 2)]
            if more := len(sentences) - _MOST:
                lines += [Ink().to(2).put(phrase("and {more} more", more=more), DIM)] if more > 0 else []
        return lines

    def _work_out(self) -> list[tuple[str, list[str], bool]]:
        run = self._workplace.run
        register = run.job.register
        rows, now = register.rows(), run.wire.wall(run.wire.now())
        done = [row for row in rows if row.last.recorded_at]
        by = Counter(row.last.member or phrase("this computer") for row in done)
        hour = sum(row.last.recorded_at > now - timedelta(hours=1) for row in done if row.last.recorded_at)
        days = [row.last.recorded_at.astimezone().date() for row in done if row.last.recorded_at]
        today = days.count(now.astimezone().date())
        pace = phrase("{hour} in the last hour, {today} today, {count} in all", hour=hour, today=today, count=len(done))
        who = listed([f"{member} {number}" for member, number in by.most_common()])
        found = [("Pace", [f"{pace}{f': {who}' if who else ''}."], False)]
        points = open_points(rows, self._plan, register.open_conflicts())
        return found + [(f"{each.heading}: {each.count}", list(each.lines), each.contradicts) for each in points]

    def _next(self) -> Next:
        cell = self._cell(self._cursor)
        if not self._sites:
            return Next(phrase("Nothing is planned yet: 'askport plan import FILE --job URL' reads a plan."))
        if cell is None:
            return Next(phrase("{cursor} is in no planned subnet.", cursor=self._cursor))
        known = bool(cell.tags and self._workplace.run.job.register.by_tag(cell.tags[0]))
        return Next(f"{self._cursor}: {cell.words}.", phrase("Open its record.") if known else "")

    def action_open(self) -> None:
        """Open the device under the cursor."""
        cell = self._cell(self._cursor)
        rows = self._workplace.run.job.register.by_tag(cell.tags[0]) if cell and cell.tags else []
        if rows:
            self.app.push_screen(device_screen.DeviceScreen(self._workplace, rows[0].id))

    def action_register(self) -> None:
        """Open the register."""
        self.app.push_screen(register_screen.RegisterScreen(self._workplace))

    def action_plan(self) -> None:
        """Ask what the device under the cursor is to become."""
        run = self._workplace.run
        cell = self._cell(self._cursor)
        device = self._plan.by_tag.get(cell.tags[0]) if cell and cell.tags else None
        target = self._plan.target_of(device) if device else None
        if device is None or target is None:
            self.notify(phrase("No device is planned at this address. Press Tab for the next one."), markup=False)
            return
        planned = device

        def use(_session: object, _now: float, typed: str) -> None:
            run.correct(DevicePlanned(device=planned.becoming(sentence.read_target(typed))))
            run.see_plan()
            self._plan, self._told = run.job.register.plan(), None

        self.query_one(entry_line.EntryLine).ask(
            Question(
                phrase("What are the new settings of {tag}?", tag=device.tag), sentence.write_target(target),
                lambda typed: phrase("Planned: {interface}.", interface=sentence.read_target(typed).interface),
                use, replaces=True,
            )
        )  # fmt: skip

    def _heading(self, title: Ink) -> Ink:
        crew = self._workplace.run.crew
        state = crew.state if crew else None
        return title.put(f"   {state.words}", CONFLICT if state.fault or state.wrong else DIM) if state else title

    @property
    def _at_hand(self) -> str:
        return ""
