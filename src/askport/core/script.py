"""A machine that is written from top to bottom: a coroutine that awaits what it needs next.

No event loop runs it. Whoever runs the machine calls its verbs as those of any other; each looks whether what has come
is what the coroutine waits for, and sends it in. So it reads no clock, never sleeps, and time is the wire's.
"""

from collections.abc import Callable, Coroutine, Generator
from dataclasses import dataclass
from typing import Any, Generic, TypeVar

from askport.core import machine, wire
from askport.core.channels import Channel, ChannelEvent, CloseChannel, Closed, FarEnd, OpenChannel, Received, SendOn

T = TypeVar("T")


@dataclass
class Wait(Generic[T]):
    """What a script waits for: the first of these that gives something, or None once its time is over."""

    until: float | None = None
    frame: Callable[[wire.Heard], T | None] = lambda _: None
    """Returns what it is waited for, where a frame has it; is called with every frame meanwhile."""
    event: Callable[[ChannelEvent], T | None] = lambda _: None
    """The same for what becomes of channels."""

    def __await__(self) -> Generator["Wait[T]", T | None, T | None]:
        return (yield self)


class Script(machine.Machine):
    """Runs the coroutine ``steps``; done when that has come to its end."""

    def __init__(self, *, now: float) -> None:
        super().__init__()
        self.now = now
        """The wire's time."""
        self._steps: Coroutine[Wait[Any], Any, None] | None = self.steps()
        self._wait = Wait[Any](until=now)

    async def steps(self) -> None:
        """Go through it; begins with the first moment that is due."""
        raise NotImplementedError

    async def pause(self, seconds: float) -> None:
        """Let time pass."""
        await Wait[bool](until=self.now + seconds)

    @property
    def done(self) -> bool:
        return self._steps is None

    def _go_on(self, with_: object, now: float) -> None:
        if self._steps is None:
            return
        self.now = now
        try:
            self._wait = self._steps.send(with_)
        except StopIteration:
            self._steps = None

    def receive(self, heard: wire.Heard) -> None:
        if self._steps and (found := self._wait.frame(heard)) is not None:
            self._go_on(found, heard.at)

    def channel_event(self, event: ChannelEvent, now: float) -> None:
        if self._steps and (found := self._wait.event(event)) is not None:
            self._go_on(found, now)

    def handle_timer(self, now: float) -> None:
        # Several pauses may be over by now; each was to end at its own moment.
        while self._steps and self._wait.until is not None and now >= self._wait.until:
            self._go_on(None, now)

    def next_deadline(self) -> float | None:
        return self._wait.until if self._steps else None

    def drop(self) -> list[machine.Effect]:
        """End here: what the coroutine has opened is closed by its ``finally``."""
        if self._steps:
            self._steps.close()
            self._steps = None
        return self.poll()


class Ended(Exception):
    """A connection could not be opened, or has ended, or its time is over; the text is the end of a sentence."""


class Connection:
    """A stream that a script has open while it is inside of ``async with``."""

    def __init__(self, script: Script, far: FarEnd, *, until: float, silent: str) -> None:
        """Connect at once.

        Args:
            far: where it leads.
        """
        self._script, self._channel, self._until, self._silent = script, Channel(far), until, silent
        self._came, self._is_open = b"", True
        script._effects.append(OpenChannel(self._channel))

    async def __aenter__(self) -> "Connection":
        await self._event(self._until)
        return self

    async def __aexit__(self, *_: object) -> None:
        if self._is_open:
            self._script._effects.append(CloseChannel(self._channel))

    def send(self, data: bytes) -> None:
        """Send bytes."""
        self._script._effects.append(SendOn(self._channel, data))

    async def answer(self, take: Callable[[bytes], tuple[T | None, bytes]], until: float) -> T | None:
        """Return what ``take`` finds first in what has come and comes, or None where nothing does until then.

        Raises:
            Ended: it ended, or all of its time is over.
        """
        while True:
            found, self._came = take(self._came)
            if found is not None:
                return found
            event = await self._event(min(until, self._until))
            if event is None:
                return None
            if isinstance(event, Received):
                self._came += event.data

    async def _event(self, until: float) -> ChannelEvent | None:
        mine = Wait[ChannelEvent](until=until, event=lambda event: event if event.channel is self._channel else None)
        event = await mine
        if isinstance(event, Closed):
            self._is_open = False
            raise Ended(event.because or "it ended the connection")
        if event is None and until >= self._until:
            raise Ended(self._silent)
        return event
