"""The kinds of the job's own folder, what was learned here among them: what each says, and how one is thrown away."""

from pathlib import Path

from textual.binding import Binding

from askport.core.errors import BadInput, MachineRefused
from askport.core.phrases import phrase
from askport.core.text import display_text
from askport.edges.kind_files import IN_FOLDER, KindFile, known_kinds
from askport.tui.desk import Desk
from askport.tui.ink import CONFLICT, DIM, STRONG, Ink, blank, heading, line, wrapped
from askport.tui.question import Question
from askport.tui.screens.takes_entries import TakesEntries
from askport.tui.widgets import entry_line, sheet
from askport.tui.workplace import Workplace


class LessonsScreen(TakesEntries):
    """One after the other, with the text of the one that is pointed at."""

    CSS_PATH = "register_screen.tcss"
    BINDINGS = [
        Binding("escape", "dismiss", "Back", id="lessons.back"),
        Binding("up,k", "point(-1)", "Lesson", key_display="↑ ↓", id="lessons.up",
                tooltip=phrase("Look at another lesson")),
        Binding("down,j", "point(1)", "Down", show=False),
        Binding("delete,x", "throw_away", phrase("Throw away"), key_display="Del", id="lessons.throw",
                tooltip=phrase("Delete its file; units that were set by it stay as they are")),
    ]  # fmt: skip

    def __init__(self, workplace: Workplace) -> None:
        super().__init__()
        self._workplace, self._place = workplace, 0

    @classmethod
    def over(cls, desk: Desk) -> "LessonsScreen":
        """Return it as it opens over the screen of the job."""
        return cls(desk.workplace)

    def _lessons(self) -> tuple[list[tuple[KindFile, Path]], list[str]]:
        found, wrong = known_kinds(self._workplace.run.job.path)
        return [(each, each.path) for each in found if each.path and each.where == IN_FOLDER], wrong

    def draw(self) -> None:
        (found, wrong), width = self._lessons(), self.sheet_room
        self._place = max(0, min(self._place, len(found) - 1))
        title = (
            Ink()
            .put(f"  {self._workplace.title}", STRONG)
            .put(" · " + phrase("lessons and kind files: {count}", count=len(found)), DIM)
        )
        self.query_one("#heading", sheet.Sheet).show([title])
        lines: list[Ink] = []
        for place, (each, path) in enumerate(found):
            here = place == self._place
            ways = ", ".join(way.by for way in each.kind.way)
            ink = Ink().put("▸ " if here else "  ", STRONG).put(each.kind.name, STRONG if here else "")
            lines.append(
                ink.put(
                    "  "
                    + phrase(
                        "by {ways}" if each.kind.recognise.sure else "by {ways}, offered only",
                        ways=ways or phrase("nothing"),
                    ),
                    DIM,
                )
            )
            lines += [Ink().to(2).put_line(more) for more in wrapped(path.name, width - 2, DIM)]
        if not found:
            lines = wrapped(
                phrase("No lessons yet. Set a unit on its page or console, then press s to save how."), width
            )
        for sentence in wrong:
            lines += [blank(), *wrapped(sentence, width, CONFLICT)]
        if found:
            lines += [blank(), heading(phrase("contents of its file"), width)]
            for text in _text_of(found[self._place][1]).splitlines():
                lines += wrapped(display_text(text, 400), width) if text else [line("")]
        self.query_one("#sheet", sheet.Sheet).show(lines)
        self.refresh_bindings()

    def check_action(self, action: str, parameters: tuple[object, ...]) -> bool | None:
        """Offer what needs a lesson only where there is one."""
        return action not in ("point", "throw_away") or bool(self._lessons()[0])

    def action_point(self, by: int) -> None:
        """Look at another lesson."""
        self._place += by
        self.draw()

    def action_throw_away(self) -> None:
        """Delete the file of the one that is looked at, once that was said in a word."""
        each, path = self._lessons()[0][self._place]

        def check(typed: str) -> str:
            if typed.strip().casefold() != "yes":
                raise BadInput("Type yes, or press Escape to keep it.")
            return phrase("Enter deletes it.")

        def use(*_: object) -> None:
            try:
                path.unlink()
            except OSError as error:
                raise MachineRefused("'{name}' cannot be deleted: {why}.", name=path.name, why=error.strerror) from None

        sentence = phrase(
            "Delete '{name}'? Units that were set by “{kind_name}” stay as they are. Type yes.",
            name=path.name,
            kind_name=each.kind.name,
        )
        self.query_one(entry_line.EntryLine).ask(Question(sentence, "", check, use))


def _text_of(path: Path) -> str:
    """Return what a file says, or why it cannot be read: it may have gone since it was listed."""
    try:
        return path.read_text(encoding="utf-8", errors="replace")
    except OSError as error:
        return phrase("{name} cannot be read: {why}.", name=path.name, why=error.strerror)
