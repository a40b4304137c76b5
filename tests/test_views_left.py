"""What stays in memory of a view that was left."""

import asyncio
import gc

from textual.app import App, ComposeResult
from textual.strip import Strip

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
