"""Starts the full screen on this laptop's adapters."""

import os
from contextlib import ExitStack
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING

from platformdirs import user_data_path

from askport.bench.defaults import PACE
from askport.cli import full_screen, saying
from askport.core.errors import MachineRefused
from askport.core.phrases import listed, phrase
from askport.core.reach.in_the_way import CABLE_KINDS, Adapter
from askport.edges import invoker, keeper_client, keeper_start
from askport.edges.by_group import ASKS_FOR_A_WORD
from askport.tui.app import AskPortApp
from askport.tui.screens.plug_screen import Choice, PlugScreen

if TYPE_CHECKING:
    from askport.edges.ear import Ear
    from askport.tui.workplace import Workplace

_KEEPERS = 8
"""How often an adapter can be chosen, one that was plugged in meanwhile included: the right to start more keepers is
given up before the screen opens."""


def start_on_adapters(job: Path | None, *, on_adapter: bool = False) -> None:
    """Start on this laptop's adapters, or say what to do where that is not permitted."""
    full_screen.require_terminal()
    with ExitStack() as keeping:
        refused, first_words = keeper_start.no_rights(), _give_back_leftovers() if os.geteuid() == 0 else ""
        spare = None if refused else keeper_client.Spare(_KEEPERS)
        if spare:
            keeping.callback(spare.close)
        invoker.drop_to_invoker()
        path = job or user_data_path("askport") / f"{datetime.now().astimezone():%Y-%m-%d}.askport"
        if job:
            from askport.edges.jobfile import JobFile

            JobFile(job, create=True).close()  # what is wrong with it is said before the screen opens
        ears = Ears(spare)
        taken: list[keeper_client.Keeper] = []

        def unusable(adapter: Adapter) -> str | None:
            return _unfit(adapter) or (None if refused else ears.why_not(adapter.name))

        def plug(fault: str) -> PlugScreen:
            if app.workplace:
                app.workplace.run.close()
            while taken:
                taken.pop().close()
            ears.try_again()
            return PlugScreen(unusable, ears.on, ears.word_for, refused, fault or first_words)

        def fit(choice: Choice) -> "Workplace":
            if choice.adapter is None:
                ears.close()
                from askport.cli.practising import bench_workplace

                return bench_workplace(PACE)
            ear = ears.take(choice.adapter, choice.word)
            ears.close()
            taken.append(ear.keeper)
            return _cable_workplace(ear, path, on_adapter=on_adapter)

        app = AskPortApp(None, plug, fit)
        try:
            full_screen.run_screen(app)
        finally:
            for keeper in taken:
                _give_back(keeper)
                keeper.close()
            ears.close()
            keeping.close()
            if app.workplace:
                app.workplace.run.close()
                full_screen.tell_job(app.workplace)
    if refused and not app.workplace:
        raise MachineRefused(refused, code="no-permission")


class Ears:
    """Listens on adapters from the start, so that nothing that is said while one is chosen is missed."""

    def __init__(self, spare: keeper_client.Spare | None) -> None:
        """Use these keepers, one for each adapter that is listened on; None where none can be had."""
        self._spare, self._open = spare, dict[str, "Ear"]()
        self._refused: dict[str, str] = {}
        self._words: dict[str, str] = {}
        """Adapters that are had only where their name is said once more, each with the reason."""

    def on(self, adapter: Adapter) -> "Ear | None":
        """Return what listens on an adapter, beginning now where nothing does yet, or None where it cannot be."""
        is_shut = adapter.name in self._words or not adapter.switched_on
        return None if is_shut or _unfit(adapter) else self._on(adapter.name)

    def _on(self, name: str, word: str = "") -> "Ear | None":
        if name in self._open and self._open[name].keeper.is_alive:
            return self._open[name]
        if name in self._refused or not self._spare:
            return None
        from askport.edges.ear import Ear  # what it hears with is loaded behind the first paint

        try:
            self._open[name] = Ear(self._spare.pop().take(name, word))
        except MachineRefused as error:
            (self._words if error.code == ASKS_FOR_A_WORD else self._refused)[name] = error.message
            return None
        return self._open[name]

    def word_for(self, name: str) -> str | None:
        """Say why an adapter is had only where its name is said once more, or return None."""
        return self._words.get(name)

    def why_not(self, name: str) -> str | None:
        """Say why an adapter cannot be had, or return None where it can."""
        if name in self._refused:
            return self._refused[name]
        return None if name in self._open or self._spare else phrase("Start Ask Port again to use it.")

    def try_again(self) -> None:
        """Forget what could not be had: it may be free now."""
        self._refused.clear()
        self._words.clear()

    def forget(self, name: str) -> None:
        """Let go of an adapter that has vanished."""
        if ear := self._open.pop(name, None):
            ear.keeper.close()

    def take(self, name: str, word: str = "") -> "Ear":
        """Hand over what listens on an adapter, which is switched on first where it is off.

        Raises:
            MachineRefused: it cannot be had.
        """
        ear = self._on(name, word)
        if ear is None:  # pulled and plugged in again since the last look, it is another to the kernel
            raise MachineRefused(
                self.why_not(name) or phrase("There is no adapter '{name}' any more: plug it in again.", name=name)
            )
        if not ear.keeper.switched_on:
            ear.keeper.switch_on()
        return self._open.pop(name)

    def close(self) -> None:
        """Let go of all adapters."""
        for name in list(self._open):
            self.forget(name)


def _give_back(keeper: keeper_client.Keeper) -> None:
    """Give back at the end, and say what the keeper confirms, or that it does not."""
    try:
        if given := keeper.give_back_now():
            saying.say("Gave {given} on {adapter} back.", given=listed(given), adapter=keeper.adapter)
    except MachineRefused as error:
        saying.say("askport: {message}", message=error.message)


def _give_back_leftovers() -> str:
    """Give back what interrupted runs have left on any adapter, and say so."""
    from askport.edges.restoring import give_back_all

    try:
        given = give_back_all()
    except MachineRefused:
        return ""  # another run is at work, and its own
    said = [
        phrase("{given} on {name}", given=listed(each.given), name=name) for name, each in given.items() if each.given
    ]
    left = [phrase("{what} on {name}", what=what, name=name) for name, each in given.items() for what in each.left]
    sentences = [phrase("Gave back what an interrupted run had left: {said}.", said=listed(said))] if said else []
    sentences += [phrase("Not given back: {left}. 'askport restore' tries again.", left=listed(left))] if left else []
    return " ".join(sentences)


def _unfit(adapter: Adapter) -> str | None:
    """Say why an adapter is not one that a cable to a device could be in, or return None."""
    if adapter.kind not in CABLE_KINDS or adapter.mac is None:
        return phrase("A {kind} adapter has no socket for a cable.", kind=adapter.kind)
    return None


def _cable_workplace(ear: "Ear", path: Path, *, on_adapter: bool) -> "Workplace":
    from askport.cli.cable_run import run_on
    from askport.edges.footing import Footing
    from askport.edges.jobfile import JobFile
    from askport.tui.workplace import Workplace

    keeper = ear.keeper
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise MachineRefused(
            "'{parent}' cannot be made: {why}. Name a job file with --job.",
            parent=path.parent,
            why=error.strerror,
        ) from None
    job = JobFile(path, create=True)
    cable = Footing(keeper, on_adapter=on_adapter)
    run, wrong = run_on(cable, job, heard=ear.heard, began_at=ear.began_at, meets=True)
    return Workplace(run=run, title=path.stem, place=keeper.adapter, notes=tuple(wrong), over=cable)
