"""Which adapters are listened on while one is chosen, and whose."""

import asyncio
import threading
from types import SimpleNamespace

import pytest
from textual.app import App

from askport.cli.on_adapters import Ears
from askport.core.reach.in_the_way import Adapter
from askport.tui.screens import plug_screen
from askport.tui.themes import DARK

ADAPTER = Adapter(
    name="zl5",
    kind="wired",
    link_up=True,
    switched_on=True,
    speed_mbps=1000,
    mac="02:00:00:00:00:01",
    addresses=(),
    gateway=None,
    dns=(),
    manager=None,
)


class _Keeper:
    """Stands in for a keeper: alive until it ends, or its adapter goes."""

    def __init__(self) -> None:
        self.is_alive, self.own = True, ()
        self.wire = SimpleNamespace(now=lambda: 0.0, macs=(), require_present=lambda: None)

    switched_on = True

    def take(self, _name: str, _word: str) -> "_Keeper":
        return self

    def close(self) -> None:
        self.is_alive = False


def test_an_adapter_that_was_pulled_and_plugged_in_again_is_taken_by_a_new_keeper() -> None:
    """The look that would have seen it comes half a second later; the technician's Enter may come before."""
    first, second = _Keeper(), _Keeper()
    ears = Ears([second, first])  # type: ignore[arg-type]
    ears.on(ADAPTER)
    first.close()
    assert ears.take("zl5").keeper is second


async def _looks_after_choosing(monkeypatch: pytest.MonkeyPatch) -> list[str]:
    may_answer, asked = threading.Event(), list[str]()
    may_answer.set()

    def adapters() -> list[Adapter]:
        assert may_answer.wait(60)
        return [ADAPTER]

    monkeypatch.setattr(plug_screen, "list_adapters", adapters)

    def listen_on(adapter: Adapter) -> None:
        asked.append(adapter.name)

    class _App(App[None]):
        def on_mount(self) -> None:
            self.register_theme(DARK)
            self.theme = DARK.name

        def on_plug_screen_chosen(self) -> None:
            asked.clear()

    # Its own looks would wait for the answer too, and the keys for them.
    monkeypatch.setattr(plug_screen, "_FIRST_SEEN_S", 1e6)
    monkeypatch.setattr(plug_screen, "_LOOKS_A_SECOND", 1e-6)
    app = _App()
    async with app.run_test() as pilot:
        await app.push_screen(
            screen := plug_screen.PlugScreen(lambda _adapter: None, listen_on, lambda _name: None, None)
        )
        may_answer.clear()
        look = asyncio.create_task(screen._look())
        await pilot.press("enter")
        may_answer.set()
        await look
    return asked


def test_a_look_that_ends_after_the_choice_listens_on_nothing_more(monkeypatch: pytest.MonkeyPatch) -> None:
    """It would hold the adapter a second time, until long after it was pulled out."""
    assert asyncio.run(_looks_after_choosing(monkeypatch)) == []
