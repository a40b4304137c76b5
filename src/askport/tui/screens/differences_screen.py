"""What records of several technicians say differently: each difference with both sides, and a key for each decision."""

import re
from collections.abc import Callable

from textual.binding import Binding

from askport.core.addresses import MacAddress
from askport.core.crew.seals import as_member
from askport.core.phrases import phrase
from askport.core.plan.working_order import clean_tag
from askport.core.register.corrections import accepted, clean_remark, named, reopened
from askport.core.register.entries import Named, Reopened, Settled
from askport.core.register.visits import Row
from askport.core.text import display_text
from askport.edges.crew.job_part import stranger_words
from askport.tui.ink import CONFLICT, DIM, STRONG, Ink, blank, heading, line, wrapped
from askport.tui.pictures.register_picture import device_lines
from askport.tui.question import Question
from askport.tui.screens.takes_entries import TakesEntries
from askport.tui.widgets import entry_line, sheet
from askport.tui.workplace import Workplace

_MAC = re.compile(r"(?:[0-9a-f]{2}:){5}[0-9a-f]{2}")
_SIDES = 2


class DifferencesScreen(TakesEntries):
    """One after the other; what is decided is written behind the record, and nothing in it is changed."""

    CSS_PATH = "register_screen.tcss"
    BINDINGS = [
        Binding("escape", "leave", "Back", id="differences.back"),
        Binding("up", "move(-1)", "Difference", key_display="↑ ↓", id="differences.up"),
        Binding("down", "move(1)", "Down", show=False),
        Binding(
            "1",
            "tag(0)",
            phrase("Tag of first"),
            id="differences.tag1",
            tooltip=phrase("Give the first device another tag"),
        ),
        Binding(
            "2",
            "tag(1)",
            phrase("Tag of second"),
            id="differences.tag2",
            tooltip=phrase("Give the second device another tag"),
        ),
        Binding(
            "3", "reopen(0)", phrase("Redo first"), id="differences.again1", tooltip=phrase("Its record is not valid")
        ),
        Binding(
            "4",
            "reopen(1)",
            phrase("Redo second"),
            id="differences.again2",
            tooltip=phrase("Its record is not valid"),
        ),
        Binding("s", "settle", "Resolve", id="differences.settle", tooltip=phrase("Type how it was resolved")),
    ]

    def __init__(self, workplace: Workplace) -> None:
        super().__init__()
        self._workplace, self._place = workplace, 0

    @property
    def _open(self) -> list[str]:
        return self._workplace.run.job.register.open_conflicts()

    @property
    def _sentence(self) -> str:
        found = self._open
        return found[min(self._place, len(found) - 1)] if found else ""

    @property
    def _sides(self) -> list[Row]:
        """The devices that the difference is about."""
        register = self._workplace.run.job.register
        macs = dict.fromkeys(_MAC.findall(self._sentence.lower()))
        rows = (register.by_mac(MacAddress.parse(each)) for each in macs)
        return [row for row in rows if row][:_SIDES]

    def draw(self) -> None:
        """Show all that is open, and both sides of the one that is looked at."""
        found, width = self._open, self.sheet_room
        title = (
            Ink()
            .put(f"  {self._workplace.title}", STRONG)
            .put(" · " + phrase("differences: {count}", count=len(found)), DIM)
        )
        self.query_one("#heading", sheet.Sheet).show([title])
        lines: list[Ink] = []
        for sentence in found:
            here = sentence == self._sentence
            mark, style = ("▸ ", f"{STRONG} {CONFLICT}") if here else ("  ", DIM)
            first, *more = wrapped(sentence, width - 2, style)
            lines += [Ink().put(mark, style).put_line(first), *(Ink().to(2).put_line(each) for each in more)]
        if not found:
            lines = [line(phrase("No differences are left. Press Escape to go back."), DIM)]
        strangers = {each.name for each in self._workplace.run.job.register.strangers()}
        for number, row in enumerate(self._sides, 1):
            planned = self._workplace.run.job.register.planned(row.tag)
            who = as_member(row.visits[-1].member or phrase("this laptop"), strangers)
            lines += [
                blank(),
                heading(
                    phrase("{number}  {mac}, {tag}, by {who}", number=number, mac=row.mac, tag=row.tag, who=who), width
                ),
            ]
            lines += device_lines(row, planned, width, strangers)
        self.query_one("#sheet", sheet.Sheet).show(lines)

    def action_leave(self) -> None:
        """Go back to the register."""
        self.dismiss()

    def action_move(self, by: int) -> None:
        """Look at another difference."""
        self._place = max(0, min(self._place + by, len(self._open) - 1))
        self.draw()

    def action_tag(self, side: int) -> None:
        """Give a device another tag."""
        tagged = self._workplace.run.job.register.by_tag
        entry = lambda row, text: named(row, text, tagged(clean_tag(text)))  # noqa: E731
        self._decide(side, phrase("What is the correct tag?"), entry)

    def action_reopen(self, side: int) -> None:
        """Have the record of a device not count."""
        self._decide(side, phrase("Why is its record not valid? The device goes back on the job list."), reopened)

    def _decide(self, side: int, sentence: str, entry: Callable[[Row, str], Named | Reopened]) -> None:
        """Ask for what is decided about one side, and settle the difference with it."""
        sides, conflict = self._sides, self._sentence
        if side >= len(sides):
            self.notify(phrase("Only one device is involved. Press s and type how it was resolved."), markup=False)
            return
        row = sides[side]

        def use(typed: str) -> None:
            made = entry(row, typed)
            self._workplace.run.correct(made)
            what = (
                phrase("{mac} is {tag} now", mac=row.mac, tag=made.tag)
                if isinstance(made, Named)
                else phrase("{mac} will be commissioned again", mac=row.mac)
            )
            self._workplace.run.correct(Settled(conflict=conflict, words=what))

        self._ask(f"{row.mac}: {sentence}", use)

    def action_settle(self) -> None:
        """Say in words how it is settled."""
        conflict, run = self._sentence, self._workplace.run
        stranger = next((each for each in run.job.register.strangers() if stranger_words(each) == conflict), None)
        if stranger:
            text = phrase("Accept {name}? Type the name again.", name=display_text(stranger.name, 40))
            self._ask(text, lambda typed: run.correct(accepted(stranger, typed)))
        elif conflict:
            self._ask(
                phrase("How was it resolved?"),
                lambda typed: self._workplace.run.correct(Settled(conflict=conflict, words=clean_remark(typed))),
            )

    def _ask(self, sentence: str, use: Callable[[str], None]) -> None:
        question = Question(
            sentence,
            "",
            lambda typed: phrase("Written down: {typed}", typed=typed),
            lambda _session, _now, typed: use(typed),
        )
        self.query_one(entry_line.EntryLine).ask(question)
