"""One wire for several that run side by side: each hears every frame, and time passes when all of them wait."""

import asyncio
from collections import deque
from collections.abc import Awaitable, Callable, Iterable, Sequence
from datetime import datetime
from typing import Protocol

from askport.core import addresses, errors, machine
from askport.core.wire import Counts, Frame, Link, OnPass, Wire

_FOR_ALL = frozenset({"no-adapter", "keeper-gone", "keeper-silent", "not-given-back"})
"""Refusals after which nobody can go on."""
_MAX_UNHEARD = 4096
"""Frames that are kept for one that does not run just now."""


class Runs(Protocol):
    """What runs on a wire: a driver, or several as one."""

    @property
    def is_idle(self) -> bool:
        """Whether everything that it took over to do is done."""

    def forget(self) -> None:
        """Do nothing of what was still to be done."""

    async def run(self, *, until: Callable[[], bool], longest_until: float | None = None) -> None:
        """Run until a condition holds or the wire's time is up."""


class WireView:
    """What one of several has of the wire; it is a ``Wire``."""

    def __init__(self, shared: "SharedWire", wire: Wire) -> None:
        self._shared, self._wire = shared, wire
        self.name, self.mac = wire.name, wire.mac
        self.require_present, self.now, self.wall, self.link = wire.require_present, wire.now, wire.wall, wire.link
        self.counts, self.send, self.send_many = wire.counts, wire.send, wire.send_many
        self.give_way, self.wake = wire.give_way, wire.wake
        self.unheard: deque[Frame] = deque(maxlen=_MAX_UNHEARD)
        self.wants: Callable[[bytes], bool] = lambda _: True
        """Says which frames are for this one: what is another's alone need not be read by all."""
        self.trouble: errors.AskPortError | None = None
        """What this one was refused, where the others can go on."""

    # mypy wants what a protocol has declared as methods to be seen as such
    require_present: Callable[[], None]
    now: Callable[[], float]
    wall: Callable[[float], datetime]
    link: Callable[[], Link]
    counts: Callable[[], Counts]
    send: Callable[[bytes], None]
    send_many: Callable[[Sequence[bytes]], None]
    give_way: Callable[[float], None]
    wake: Callable[[], None]
    name: str
    mac: addresses.MacAddress

    @property
    def heard_until(self) -> float:
        """Up to when everything that has come was handed over."""
        return self._wire.heard_until

    @property
    def on_pass(self) -> OnPass:
        """What is called for every frame that passes."""
        return self._wire.on_pass

    @on_pass.setter
    def on_pass(self, called: OnPass) -> None:
        self._wire.on_pass = called

    async def wait(self, deadline: float | None) -> list[Frame]:
        """Return the frames that have come for this one, or none when its deadline, or anybody's, has come."""
        if not self.unheard:
            await self._shared.pass_time(self, deadline)
        return self._taken()

    def look(self) -> list[Frame]:
        """Return what has come for this one by now; what has come for others waits for their turn."""
        self._shared.hand_out(self._wire.look())
        return self._taken()

    def _taken(self) -> list[Frame]:
        frames = list(self.unheard)
        self.unheard.clear()
        return frames


class SharedWire:
    """Hands every frame to every view."""

    def __init__(self, wire: Wire) -> None:
        """Share this wire; nobody else may wait on it meanwhile."""
        self._wire = wire
        self._views: list[WireView] = []
        self._running: set[WireView] = set()
        self._waiting: dict[WireView, tuple[float | None, asyncio.Future[None]]] = {}
        self._passing: asyncio.Task[None] | None = None

    def view(self) -> WireView:
        """Return one more view of the wire."""
        self._views.append(WireView(self, self._wire))
        return self._views[-1]

    async def run(self, drivers: Iterable[tuple[WireView, Runs]], longest_until: float) -> None:
        """Run several, each on its view, until a moment of the wire's time."""
        pairs = list(drivers)
        self._running = {view for view, _ in pairs}
        running = [asyncio.ensure_future(self._run(view, driver, longest_until)) for view, driver in pairs]
        try:
            await asyncio.gather(*running)
        finally:
            for each in (*running, *filter(None, [self._passing])):
                each.cancel()
            await asyncio.gather(*running, return_exceptions=True)
            self._running, self._waiting, self._passing = set(), {}, None

    async def _run(self, view: WireView, driver: Runs, longest_until: float) -> None:
        try:
            await driver.run(until=lambda: False, longest_until=longest_until)
        except errors.MachineRefused as error:
            if error.code in _FOR_ALL:
                raise
            view.trouble = error
            driver.forget()
        finally:
            self._running.discard(view)
            self._see()

    async def pass_time(self, view: WireView, deadline: float | None) -> None:
        """Wait until something has come; time passes as soon as everybody who runs waits."""
        told: asyncio.Future[None] = asyncio.get_running_loop().create_future()
        self._waiting[view] = deadline, told
        self._see()
        await told

    def _see(self) -> None:
        if self._waiting and self._passing is None and self._waiting.keys() >= self._running:
            self._passing = asyncio.ensure_future(self._pass())

    def hand_out(self, frames: Sequence[Frame]) -> None:
        """Have each frame wait for those whom it concerns."""
        for view in self._views:
            view.unheard.extend(frame for frame in frames if view.wants(frame.data))

    async def _pass(self) -> None:
        """Let time pass to the first deadline of all, or until a frame comes; then it is everybody's turn."""
        wrong: Exception | None = None
        frames: list[Frame] = []
        try:
            # What one has looked up for another meanwhile is there already.
            has_come = any(view.unheard for view in self._waiting)
            first = machine.earliest(*(deadline for deadline, _ in self._waiting.values()))
            frames = await self._wire.wait(self._wire.now() if has_come else first)
        except Exception as error:  # noqa: BLE001 - whoever waits is told, whatever it is
            wrong = error
        self.hand_out(frames)
        waiting, self._waiting, self._passing = self._waiting, {}, None
        for _, told in waiting.values():
            if not told.done():
                told.set_result(None) if wrong is None else told.set_exception(wrong)


Another = Callable[[], Awaitable[tuple[WireView, Callable[[], Runs]] | None]]
"""Makes one more that runs: its view, and what returns its driver of this moment; None where none is to be had."""


class SideBySide:
    """Runs several drivers on one wire as if they were one; more come while it runs."""

    def __init__(self, shared: SharedWire, now: Callable[[], float]) -> None:
        self._shared, self._now = shared, now
        self._drivers: list[tuple[WireView, Callable[[], Runs]]] = []
        self._asked: list[Another] = []

    def add(self, another: Another) -> None:
        """Have one more run, as soon as it is made."""
        self._asked.append(another)

    @property
    def is_idle(self) -> bool:
        """Whether everything that they took over to do is done."""
        return not self._asked and all(each().is_idle for _, each in self._drivers)

    def forget(self) -> None:
        """Each forgets its own."""

    async def run(self, *, until: Callable[[], bool], longest_until: float | None = None) -> None:
        """Run until a condition holds or the wire's time is up.

        Args:
            until: asked a few times a second.
            longest_until: a moment of the wire's time, or None for no limit.
        """
        while not until() and (longest_until is None or self._now() < longest_until):
            while self._asked:
                if made := await self._asked.pop(0)():
                    self._drivers.append(made)
            stop = self._now() + _SLICE_S
            await self._shared.run(
                ((view, each()) for view, each in self._drivers),
                stop if longest_until is None else min(stop, longest_until),
            )


_SLICE_S = 0.1
"""How often more can come and the whole can end."""
