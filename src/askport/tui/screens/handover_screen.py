"""The handover: what was written where, and what each document is for."""

from pathlib import Path

from textual.app import ComposeResult
from textual.binding import Binding
from textual.containers import VerticalScroll

from askport.core.phrases import phrase
from askport.edges.jobfile import JobFile
from askport.reports import documents, handover_pages
from askport.reports.open_points import not_started, open_points, proven_words
from askport.tui.ink import CONFLICT, DIM, STRONG, THEIRS, Ink, beside, blank, heading, wrapped
from askport.tui.screens.drawn_screen import DrawnScreen
from askport.tui.widgets import key_line, sheet

_SIZE = 36
_MOST = 8
"""Open points of one kind that are shown here; the cover has all."""


class HandoverScreen(DrawnScreen[None]):
    """Shown once everything is written."""

    CSS_PATH = "register_screen.tcss"
    BINDINGS = [Binding("escape,enter,f9", "app.pop_screen", "Back", id="handover.back")]

    def __init__(self, job: JobFile, site: str, written: list[tuple[Path, int]]) -> None:
        super().__init__()
        self._job, self._site, self._written = job, site, written

    def compose(self) -> ComposeResult:
        """Lay out the page."""
        yield sheet.Sheet(id="heading")
        with VerticalScroll(id="rows"):
            yield sheet.Sheet(id="sheet")
        yield key_line.KeyLine()

    def draw(self) -> None:
        width, register = self.sheet_room, self._job.register
        to_come = len(not_started(register.rows(), register.plan()))
        title = Ink().put(f"  {self._site}", STRONG)
        title.put(
            " · "
            + phrase("handover   {proven_words}", proven_words=proven_words(*register.proven(), not_started=to_come)),
            DIM,
        )
        self.query_one("#heading", sheet.Sheet).show([title])
        folder = self._written[0][0].parent if self._written else self._job.path.parent
        lines = [heading(phrase("Written to {folder}", folder=folder), width)]
        for path, size in self._written:
            ink = Ink().to(2).put(path.name, f"{STRONG} {THEIRS}").to(_SIZE)
            ink.put(f"{max(1, size // 1024):>6,} kB  ", DIM)
            lines += beside(ink, _SIZE + 11, documents.what_for(path.name), width)
        lines += [blank(), heading(phrase("What it stands for"), width)]
        lines += wrapped(
            phrase("The record has {count} entries. Their fingerprint, which the cover prints:", count=self._job.count),
            width,
        )
        lines += wrapped(handover_pages.grouped(self._job.fingerprint), width, STRONG, 2)
        text = phrase(
            "To check later that this record is unchanged, run 'askport register verify {name} "
            "--against' with its first 16 digits or more.",
            name=self._job.path.name,
        )
        lines += wrapped(text, width, DIM)
        for points in open_points(register.rows(), register.plan(), register.open_conflicts()):
            lines += [blank(), heading(f"{points.heading}: {points.count}", width)]
            lines += [each for text in points.lines[:_MOST] for each in wrapped(text, width, CONFLICT, 2)]
            if more := len(points.lines) - _MOST:
                lines += (
                    wrapped(phrase("and {more} more, all on the cover", more=more), width, DIM, 2) if more > 0 else []
                )
        self.query_one("#sheet", sheet.Sheet).show(lines)
