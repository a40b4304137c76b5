"""One line to type something into, with its check said while it is typed."""

from textual.app import ComposeResult
from textual.containers import Vertical
from textual.content import Content
from textual.events import Key
from textual.message import Message
from textual.widgets import Input, Static

from askport.core.errors import AskPortError
from askport.core.phrases import phrase
from askport.tui.question import Question


class EntryLine(Vertical):
    """Appears above the bottom line, and goes when it was used or left."""

    DEFAULT_CSS = """
    EntryLine { display: none; height: auto; max-height: 8; padding: 0 2; }
    EntryLine { background: $panel; border-top: solid $theirs; }
    EntryLine.open { display: block; }
    EntryLine #question { text-style: bold; }
    EntryLine #check { color: $dim; }
    EntryLine #check.wrong { color: $conflict; }
    """

    class Entered(Message):
        """Something sound was typed."""

        def __init__(self, question: Question, text: str) -> None:
            super().__init__()
            self.question, self.text = question, text

    class Left(Message):
        """It was closed."""

    def __init__(self) -> None:
        super().__init__()
        self._question: Question | None = None

    def compose(self) -> ComposeResult:
        """Make the question, the line and the check."""
        yield Static(id="question")
        yield Input(id="typed", compact=True, select_on_focus=False)
        yield Static(id="check")

    def ask(self, question: Question) -> None:
        """Ask for something."""
        self._question = question
        self.query_one("#question", Static).update(Content(question.sentence))
        self.add_class("open")
        self.screen.add_class("-typing")
        line = self.query_one(Input)
        line.password = question.secret
        line.value = question.text
        line.cursor_position = len(question.text)
        self.screen.set_focus(line)  # at once: the next key is there already
        if question.replaces:
            line.action_select_all()
        self._say(question.text)

    def close(self) -> None:
        """Go away."""
        self.remove_class("open")
        self.screen.remove_class("-typing")
        self.screen.set_focus(None)
        self.post_message(self.Left())

    def on_input_changed(self, event: Input.Changed) -> None:
        """Say what is wrong while it is typed."""
        event.stop()
        self._say(event.value)

    def on_input_submitted(self, event: Input.Submitted) -> None:
        """Take it, if it is sound."""
        event.stop()
        if self._question and self._say(event.value):
            question = self._question
            self.close()
            self.post_message(self.Entered(question, event.value))
            if question.then:
                self.ask(question.then(event.value))

    def on_key(self, event: Key) -> None:
        """Leave on Escape."""
        if event.key == "escape":
            event.stop()
            self.close()

    def _say(self, text: str) -> bool:
        check = self.query_one("#check", Static)
        try:
            said, sound = self._question.check(text) if self._question else "", True
        except AskPortError as error:
            said, sound = error.message, False
        check.update(Content(said if text else phrase("Enter accepts, Escape cancels.")))
        check.set_class(not sound and bool(text), "wrong")
        return sound
