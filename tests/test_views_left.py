"""What stays in memory of a view that was left, and which keys reach one that opens."""

import asyncio
import gc
from random import Random

import pytest
from textual.app import App, ComposeResult
from textual.events import Key
from textual.screen import Screen
from textual.strip import Strip
from textual.widgets import Input

from askport.tui.app import AskPortApp
from askport.tui.ink import line
from askport.tui.screens.drawn_screen import DrawnScreen
from askport.tui.widgets.sheet import Sheet


class _View(DrawnScreen[None]):
    def compose(self) -> ComposeResult:
        yield Sheet()

    def draw(self) -> None:
        self.query_one(Sheet).show([line("a row of a view that was left")])


async def _rows_after_views() -> int:
    app: App[None] = App()
    async with app.run_test() as pilot:
        for _ in range(5):
            app.push_screen(_View())
            await pilot.pause()
            app.pop_screen()
            await pilot.pause()
        gc.collect()
        return sum(isinstance(each, Strip) and "was left" in each.text for each in gc.get_objects())


def test_nothing_of_a_view_that_was_left_stays() -> None:
    """The rows of views that were left would slow down every key of a long day."""
    assert asyncio.run(_rows_after_views()) == 0


class _Opens(Screen[None]):
    """A view whose line opens at a key."""

    AUTO_FOCUS = "Input"
    BINDINGS = [("n", "open", "Open")]

    def compose(self) -> ComposeResult:
        yield Input()

    def on_mount(self) -> None:
        self.put_away()

    def put_away(self) -> None:
        line = self.query_one(Input)
        line.display, line.value = False, ""
        self.set_focus(None)

    def action_open(self) -> None:
        line = self.query_one(Input)
        line.display = True
        self.call_later(line.focus)


async def _typed(label: str, seed: int, app: AskPortApp) -> str:
    """Type a label right after the key that opens the line, as unevenly as a busy machine takes it in."""
    dice, view = Random(seed), app.screen
    assert isinstance(view, _Opens)
    view.put_away()
    await asyncio.sleep(0.01)
    for each in "n" + label:
        app.post_message(Key(each, each))
        for _ in range(dice.choice((0, 0, 1, 2, 3, 5, 8))):
            await asyncio.sleep(0)
    line = view.query_one(Input)
    for _ in range(200):
        await asyncio.sleep(0.005)
        if len(line.value) >= len(label):
            break
    return line.value


async def _labels() -> list[str]:
    app = AskPortApp(None)
    async with app.run_test() as pilot:
        app.push_screen(_Opens())
        await pilot.pause()
        return [await _typed("r6pt+x-q", seed, app) for seed in range(60)]


class _Commands(_Opens):
    """A view where keys are commands."""

    KEYS_ARE_COMMANDS = True
    BINDINGS = [("l", "count", "Count")]
    counted = 0

    def action_count(self) -> None:
        self.counted += 1


async def _commands(apart_s: float) -> int:
    """Type eight keys that reach the app all at once, as after a drawing that held it up."""
    app, view = AskPortApp(None), _Commands()
    async with app.run_test() as pilot:
        app.push_screen(view)
        await pilot.pause()
        view.put_away()
        keys = [Key("l", "l") if number % 2 else Key("k", "k") for number in range(8)]
        for number, each in enumerate(keys):
            each.time += 1 + number * apart_s
            app.post_message(each)
        await pilot.pause(0.3)
        return view.counted


def test_fingers_are_no_barcode_reader_because_a_drawing_held_them_up() -> None:
    assert (asyncio.run(_commands(0.2)), asyncio.run(_commands(0.005))) == (4, 0)


async def _scanned_into_an_open_line(label: str) -> str:
    app, view = AskPortApp(None), _Commands()
    async with app.run_test() as pilot:
        app.push_screen(view)
        await pilot.pause()
        view.put_away()
        view.action_open()
        await pilot.pause(0.6)  # longer than a line takes to open
        for each in label:
            app.post_message(Key(each, each))
        await pilot.pause(0.3)
        return view.query_one(Input).value


def test_a_label_that_is_scanned_into_a_line_that_stands_open_is_in_it() -> None:
    assert asyncio.run(_scanned_into_an_open_line("r6pt+x-q")) == "r6pt+x-q"


@pytest.mark.long
def test_a_label_is_never_read_in_another_order_than_it_was_typed_in() -> None:
    """Some of its keys are on their way to the view as the line opens, and the next go straight to the line."""
    assert asyncio.run(_labels()) == ["r6pt+x-q"] * 60
