"""Plug: which adapter is the cable in."""

import asyncio
from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING

from textual import work
from textual.app import ComposeResult
from textual.binding import Binding
from textual.containers import VerticalScroll
from textual.message import Message
from textual.screen import Screen

from askport.core.errors import AskPortError, BadInput
from askport.core.phrases import phrase
from askport.core.reach.in_the_way import Adapter
from askport.core.text import speed_words
from askport.edges.adapters import list_adapters
from askport.tui.ink import CONFLICT, DIM, OURS, STRONG, Ink, blank, line, wrapped
from askport.tui.pictures.plug_picture import heard_lines
from askport.tui.question import Question
from askport.tui.widgets import key_line, sheet
from askport.tui.widgets.entry_line import EntryLine

if TYPE_CHECKING:  # it is loaded behind the first paint
    from askport.edges.ear import Ear

_LOOKS_A_SECOND = 2
_FIRST_SEEN_S = 0.15
"""What it listens with is loaded once its first words stand there."""


@dataclass(frozen=True, slots=True)
class Choice:
    """What came of choosing: the name of an adapter, or the practice bench."""

    adapter: str | None
    word: str = ""
    """The adapter's name, said once more where that was asked for."""


def _goes_on(*_: object) -> None:
    """The screen itself does what follows."""


class PlugScreen(Screen[None]):
    """Shows the adapters and follows the one whose link changes."""

    CSS_PATH = "plug_screen.tcss"
    BINDINGS = [
        Binding("enter", "take", phrase("Use adapter"), id="plug.take"),
        Binding("up,k", "point(-1)", phrase("Point up"), id="plug.up", show=False),
        Binding("down,j", "point(1)", phrase("Point down"), id="plug.down", show=False),
        Binding(
            "p",
            "practise",
            phrase("Practice bench"),
            id="plug.practise",
            tooltip=phrase("Practise on stand-in devices"),
        ),
    ]

    class Chosen(Message):
        """An adapter was taken, or the practice bench."""

        def __init__(self, choice: Choice) -> None:
            super().__init__()
            self.choice = choice

    def __init__(
        self,
        unusable: Callable[[Adapter], str | None],
        ear: "Callable[[Adapter], Ear | None]",
        word_for: Callable[[str], str | None],
        refused: str | None,
        said: str = "",
    ) -> None:
        """Offer adapters.

        Args:
            unusable: says why an adapter cannot be taken, or None where it can.
            ear: gives what listens on an adapter, or None where nothing can.
            word_for: says why an adapter's name is to be said once more before it is used, or None where it is not.
            refused: why none can be, in a sentence, or None.
            said: what is to be known before choosing, in a sentence.
        """
        super().__init__()
        self._unusable, self._ear, self._word_for = unusable, ear, word_for
        self._refused, self._said = refused, said
        self._listening: dict[str, Ear] = {}
        self._adapters: list[Adapter] = []
        self._links: dict[str, bool] = {}
        self._pointed: str | None = None
        self._points_by_itself = False
        self._followed: str | None = None
        self._fault: str | None = None
        self._has_chosen = False

    def compose(self) -> ComposeResult:
        """Lay out the list."""
        yield sheet.Sheet(id="heading")
        with VerticalScroll(id="adapters"):
            yield sheet.Sheet(id="list")
        yield sheet.Sheet(id="next")
        yield EntryLine()
        yield key_line.KeyLine()

    async def on_mount(self) -> None:
        """Look at the adapters now, and behind the first paint listen on them, again and again."""
        await self._look(listens=False)
        self.set_timer(_FIRST_SEEN_S, self._look)
        self.set_interval(1 / _LOOKS_A_SECOND, self._look)

    async def _look(self, *, listens: bool = True) -> None:
        try:
            # In a thread of its own, because the netlink library brings its own event loop.
            self._adapters = [each for each in await asyncio.to_thread(list_adapters) if each.kind != "loopback"]
        except AskPortError as error:
            self._fault = error.message
        if self._has_chosen:
            return  # in the meantime: nothing is listened on twice
        for adapter in self._adapters:
            ear = self._ear(adapter) if listens else None
            if ear and self._listening.get(adapter.name) is not ear:
                self._listening[adapter.name] = ear
                self.listen(ear)
        for adapter in self._adapters:
            was = self._links.get(adapter.name, adapter.link_up if not self._links else False)
            if adapter.link_up and not was and self._unusable(adapter) is None:
                self._pointed = self._followed = adapter.name
        self._links = {adapter.name: adapter.link_up for adapter in self._adapters}
        takable = [each for each in self._adapters if self._unusable(each) is None]
        if self._pointed not in {each.name for each in takable}:
            # One that carries the laptop's own network is pointed at by the technician or by its link, never by itself.
            own = (each for each in takable if not each.gateway and not each.taken_by)
            apart = sorted(own, key=lambda each: (not each.link_up, not each.switched_on))
            self._pointed = next((each.name for each in apart), None)
            self._points_by_itself = True
        self._draw()

    @work(group="ears", exit_on_error=False)
    async def listen(self, ear: "Ear") -> None:
        """Hear what is said on an adapter, until one is chosen or it vanishes."""
        try:
            await ear.listen()
        except AskPortError:
            self._listening.pop(ear.keeper.adapter, None)
            ear.keeper.close()

    def _draw(self) -> None:
        width = max(60, self.size.width - 9)
        self.query_one("#heading", sheet.Sheet).show(
            [Ink().put("  " + phrase("Which adapter is the cable in?"), STRONG)]
        )
        lines = [*wrapped(phrase("Plug the cable in now: the adapter whose link comes up is the one."), width), blank()]
        if self._refused:
            more = phrase("{refused} 'askport doctor' says what else is missing.", refused=self._refused)
            lines += [*wrapped(more, width, CONFLICT), blank()]
        if self._said:
            lines += [*wrapped(self._said, width, CONFLICT), blank()]
        for adapter in self._adapters:
            lines += [*self._adapter(adapter, width), blank()]
        if not self._adapters:
            lines.append(line(phrase("The laptop has no adapter for a cable.")))
        self.query_one("#list", sheet.Sheet).show(lines)
        self.query_one("#next", sheet.Sheet).show([self._next(), blank()])
        self.refresh_bindings()

    def _adapter(self, adapter: Adapter, width: int) -> list[Ink]:
        why_not = self._unusable(adapter)
        pointed = adapter.name == self._pointed and not self._refused
        style = f"{STRONG} {OURS}" if pointed else "" if why_not is None else DIM
        speed = f", {speed_words(adapter.speed_mbps)}" if adapter.speed_mbps and adapter.link_up else ""
        head = Ink().put("▸ " if pointed else "  ", STRONG).put(adapter.name, style).to(20).put(adapter.kind, DIM)
        head.to(34).put("━━" if adapter.link_up else "╌╌", OURS if adapter.link_up else DIM)
        link = phrase("link up") if adapter.link_up else phrase("no link")
        head.put(f" {link}{speed}", "" if adapter.link_up else DIM)
        addresses = "  ".join(f"{each.interface} ({each.origin})" for each in adapter.addresses)
        words = addresses or phrase("no address")
        fits = 62 + len(words) <= width
        lines = [head.to(62).put(words, DIM)] if fits else [head, Ink().to(34).put(words, DIM)]
        facts = [
            phrase("gateway {gateway}", gateway=adapter.gateway) if adapter.gateway else "",
            phrase("DNS {dns}", dns=" ".join(adapter.dns)) if adapter.dns else "",
            phrase("managed by {manager}", manager=adapter.manager) if adapter.manager else "",
            adapter.driver or "",
        ]
        if any(facts):
            lines.append(Ink().to(34).put(", ".join(each for each in facts if each), DIM))
        if pointed and (why := self._why(adapter)):
            lines += wrapped(why, width, OURS, 34)
        if ear := self._listening.get(adapter.name):
            lines += heard_lines(ear.finder, ear.began_at, ear.keeper.wire.now(), width)
        if not adapter.switched_on and not why_not and not self._refused:
            lines += wrapped(phrase("Switched off: Enter switches it on, and off again at the end."), width, DIM, 34)
        for code, text in adapter.hazards:
            if code != "link-down" and not why_not:
                lines += wrapped(text, width, CONFLICT, 34)
        if why_not:
            lines += wrapped(why_not, width, DIM, 34)
        return lines

    def _why(self, adapter: Adapter) -> str:
        """Say why the adapter is pointed at, where the technician did not do that."""
        if adapter.name == self._followed:
            return phrase("Its link has just come up: the cable is in this one.")
        if not self._points_by_itself or not adapter.link_up:
            return ""
        linked = sum(each.link_up and self._unusable(each) is None for each in self._adapters)
        if linked == 1:
            return phrase("Proposed: no other has a link.")
        return phrase(
            "Proposed: the first of {linked} with a link. To be sure, pull the cable and plug it in again.",
            linked=linked,
        )

    def _next(self) -> Ink:
        if self._fault:
            return Ink().put("      ·   ", DIM).put(self._fault, CONFLICT)
        if self._refused:
            said = phrase("Practise on stand-in devices meanwhile.")
        elif self._pointed is None:
            point = phrase("Plug the cable in, or point at an adapter with ↑ and ↓.")
            return (
                Ink().put("      ·   ", DIM).put(point if self._adapters else phrase("Plug in a USB or dock adapter."))
            )
        else:
            is_on = all(each.switched_on for each in self._adapters if each.name == self._pointed)
            said = (
                phrase("Use {pointed}.", pointed=self._pointed)
                if is_on
                else phrase("Switch {pointed} on, and use it.", pointed=self._pointed)
            )
            if self._word_for(self._pointed):
                said = phrase("Use {pointed} (you will be asked to type its name).", pointed=self._pointed)
        return Ink().put("  Enter ▸ ", STRONG).put(said, STRONG)

    def check_action(self, action: str, parameters: tuple[object, ...]) -> bool | None:
        """Offer to take an adapter only where there is one to take."""
        if action == "point":
            return not self._refused
        return bool(self._refused or self._pointed) or None if action == "take" else True

    def action_take(self) -> None:
        """Take the adapter that is pointed at, where its name is said once more if that is asked for."""
        name = None if self._refused else self._pointed
        why = self._word_for(name) if name else None
        if name is None or why is None:
            self._choose(name)
            return

        def check(typed: str) -> str:
            if typed.strip() != name:
                raise BadInput("That is not '{name}'.", name=name)
            return phrase("Enter uses {name} all the same.", name=name)

        self.query_one(EntryLine).ask(
            Question(phrase("{why} Type {name} to use it all the same.", why=why, name=name), "", check, _goes_on)
        )

    def on_entry_line_entered(self, event: EntryLine.Entered) -> None:
        """Take the adapter whose name was said."""
        self._choose(event.text.strip(), event.text.strip())

    def action_practise(self) -> None:
        """Go to the practice bench."""
        self._choose(None)

    def _choose(self, adapter: str | None, word: str = "") -> None:
        self._has_chosen = True
        self.workers.cancel_group(self, "ears")
        self.post_message(self.Chosen(Choice(adapter, word)))

    def action_point(self, by: int) -> None:
        """Point at another adapter."""
        names = [each.name for each in self._adapters if self._unusable(each) is None]
        if names:
            here = names.index(self._pointed) if self._pointed in names else 0
            self._pointed, self._points_by_itself = names[(here + by) % len(names)], False
            self._draw()
