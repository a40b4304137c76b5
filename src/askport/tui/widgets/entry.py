"""One line to type something into, with its check said while it is typed."""

from collections.abc import Callable

from textual.app import ComposeResult
from textual.containers import Vertical
from textual.content import Content
from textual.events import Key
from textual.message import Message
from textual.widgets import Input, Static

from askport.core.errors import AskPortError


class EntryLine(Vertical):
    """Appears above the bottom line, and goes when it was used or left."""

    class Entered(Message):
        """Something sound was typed."""

        def __init__(self, purpose: str, text: str) -> None:
            super().__init__()
            self.purpose, self.text = purpose, text

    class Left(Message):
        """It was closed."""

    def __init__(self) -> None:
        super().__init__()
        self._purpose = ""
        self._check: Callable[[str], str] = lambda _: ""

    def compose(self) -> ComposeResult:
        """Make the question, the line and the check."""
        yield Static(id="question")
        yield Input(id="typed", compact=True, select_on_focus=False)
        yield Static(id="check")

    def ask(self, purpose: str, question: str, text: str, check: Callable[[str], str]) -> None:
        """Ask for something; ``check`` says what it means or raises what is wrong with it."""
        self._purpose, self._check = purpose, check
        self.query_one("#question", Static).update(Content(question))
        self.add_class("open")
        self.screen.add_class("-typing")
        line = self.query_one(Input)
        line.value = text
        line.cursor_position = len(text)
        line.focus()
        self._say(text)

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
        if self._say(event.value):
            self.close()
            self.post_message(self.Entered(self._purpose, event.value))

    def on_key(self, event: Key) -> None:
        """Leave on Escape."""
        if event.key == "escape":
            event.stop()
            self.close()

    def _say(self, text: str) -> bool:
        check = self.query_one("#check", Static)
        try:
            said, sound = self._check(text), True
        except AskPortError as error:
            said, sound = error.message, False
        check.update(Content(said if text else "Enter takes it, Escape leaves."))
        check.set_class(not sound and bool(text), "wrong")
        return sound
