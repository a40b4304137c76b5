"""Typing planned values in place: takes the keys while the picture shows them, and says what they do."""

from collections.abc import Callable
from ipaddress import IPv4Address

from textual.content import Content
from textual.events import Key
from textual.message import Message
from textual.widgets import Static

from askport.core.errors import AskPortError
from askport.core.phrases import phrase
from askport.core.plan.editing import TargetEdit
from askport.core.plan.target import Target

NextFree = Callable[[Target], IPv4Address | None]


class OctetKeys(Static, can_focus=True):
    """Appears in place of the bottom line, and goes when the values were taken or left."""

    class Taken(Message):
        """The values are whole."""

        def __init__(self, target: Target) -> None:
            super().__init__()
            self.target = target

    class Changed(Message):
        """A key has changed something, or it was closed."""

    edit: TargetEdit | None = None
    _next_free: NextFree = staticmethod(lambda _: None)

    def begin(self, target: Target, next_free: NextFree) -> None:
        """Begin with these values; ``next_free`` offers the address behind others."""
        self.edit, self._next_free = TargetEdit(target), next_free
        self.add_class("open")
        self.screen.add_class("-typing")
        self.focus()
        self._say()

    def close(self) -> None:
        """Go away."""
        self.edit = None
        self.remove_class("open")
        self.screen.remove_class("-typing")
        self.screen.set_focus(None)
        self.post_message(self.Changed())

    def _offer(self) -> IPv4Address | None:
        try:
            return self._next_free(self.edit.target()) if self.edit else None
        except AskPortError:
            return None

    def _say(self) -> None:
        offer = self._offer()
        said = phrase("Type the number; ← → for another one, ↑ ↓ for another value, x for none")
        free = "   " + phrase("space: {offer}, the next free one", offer=offer) if offer else ""
        ends = phrase("Enter accepts, Escape cancels, / edits the whole line")
        self.update(Content(f"{said}{free}\n{ends}"))

    def on_key(self, event: Key) -> None:
        """Do what a key says; none of them is anybody else's meanwhile."""
        edit = self.edit
        if edit is None:
            return
        event.stop()
        match event.key:
            case "escape":
                self.close()
                return
            case "enter":
                self._take(edit)
                return
            case "left" | "right":
                edit.move(places=-1 if event.key == "left" else 1)
            case "full_stop" | "comma":
                edit.move(places=1)
            case "up" | "down" | "tab" | "shift+tab":
                edit.move(rows=1 if event.key in ("down", "tab") else -1)
                event.prevent_default()
            case "backspace":
                edit.erase()
            case "x" | "delete":
                edit.clear()
            case "space":
                if offer := self._offer():
                    edit.take(offer)
            case "slash":
                self.close()
                self.post_message(self.WholeLine())
                return
            case key if key.isascii() and key.isdigit():
                edit.type(key)
        self._say()
        self.post_message(self.Changed())

    class WholeLine(Message):
        """The whole line is to be typed instead."""

    def _take(self, edit: TargetEdit) -> None:
        try:
            target = edit.target()
        except AskPortError as error:
            self.notify(error.message, severity="error", markup=False)
            return
        self.close()
        self.post_message(self.Taken(target))
