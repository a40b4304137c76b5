"""Joins a machine of the core to a wire: the only place where waiting happens."""

from collections import deque
from collections.abc import Callable

from askport.core.channels import Channels, CloseChannel, Fetch, OpenChannel, SendOn
from askport.core.errors import AskPortError
from askport.core.machine import (
    Borrow,
    Borrower,
    Effect,
    GiveBack,
    KeepFrames,
    Machine,
    Pin,
    Send,
    SendMany,
    SpeakIpv6,
    WriteEntry,
)
from askport.core.wire import AdapterAndJob, Link, Wire, hear


class Driver:
    """Runs one machine on one wire and carries out its effects in order."""

    def __init__(
        self,
        machine: Machine,
        wire: Wire,
        adapter_and_job: AdapterAndJob | None = None,
        channels: Channels | None = None,
    ) -> None:
        self.machine = machine
        self._wire, self._adapter_and_job = wire, adapter_and_job
        self._channels = channels
        self._link = wire.link()
        self._pending: deque[Effect] = deque()

    @property
    def is_idle(self) -> bool:
        """Whether everything that it took over to do is done."""
        return not self._pending

    def forget(self) -> None:
        """Do nothing of what was still to be done: the machine refused it."""
        self._pending.clear()

    async def run(self, *, until: Callable[[], bool], longest_until: float | None = None) -> None:
        """Run until a condition holds or the wire's time is up.

        Args:
            until: asked after every step.
            longest_until: a moment of the wire's time, or None for no limit.
        """
        while True:
            await self._carry_out()
            now = self._wire.now()
            if until() or (longest_until is not None and now >= longest_until):
                return
            deadlines = [each for each in (self.machine.next_deadline(), longest_until) if each is not None]
            for frame in await self._wire.wait(min(deadlines, default=None)):
                self.machine.receive(hear(frame))
            self._see_link()
            for event in self._channels.channel_events() if self._channels else ():
                self.machine.channel_event(event, self._wire.now())
            # Nobody is silent whose answer lies unread: a busy laptop would find that the device has failed. And time
            # is what it is now: of a question that is asked late, the answer is waited for from then on.
            for frame in self._wire.look():
                self.machine.receive(hear(frame))
            self.machine.handle_timer(self._wire.heard_until)

    def _see_link(self) -> None:
        link = self._wire.link()
        if link.up != self._link.up or link.since != self._link.since:
            if link.up and self._link.up:  # it went and came back between two looks
                self.machine.link_changed(Link(up=False, since=link.since, speed_mbps=None), self._wire.now())
            self._link = link
            self.machine.link_changed(link, self._wire.now())

    async def _carry_out(self) -> None:
        """Do what is due, in order; what the machine refuses stays first in line for the next run."""
        self._pending.extend(self.machine.poll())
        while self._pending:
            await self._do(self._pending[0])
            self._pending.popleft()
            self._pending.extend(self.machine.poll())

    async def _do(self, effect: Effect) -> None:
        match effect:
            case Send(data):
                self._wire.send(data)
            case SendMany(frames):
                self._wire.send_many(frames)
            case WriteEntry(entry) if self._adapter_and_job:
                self._adapter_and_job.write(entry, self._wire.wall(self._wire.now()))
            case KeepFrames(unit, frames) if self._adapter_and_job and frames:
                self._adapter_and_job.keep(unit, [(self._wire.wall(each.at), each.data) for each in frames])
            case Borrow(interface, on_adapter) if self._adapter_and_job and isinstance(self.machine, Borrower):
                try:
                    why_on_adapter = await self._adapter_and_job.borrow(interface, on_adapter=on_adapter)
                except AskPortError as error:
                    self.machine.borrow_failed(error, self._wire.now())
                else:
                    self.machine.borrow_done(interface, self._wire.now(), why_on_adapter)
            case SpeakIpv6() if self._adapter_and_job and isinstance(self.machine, Borrower):
                try:
                    await self._adapter_and_job.speak_ipv6()
                except AskPortError as error:
                    self.machine.ipv6_failed(error)
            case OpenChannel(channel) if self._channels:
                self._channels.open_channel(channel)
            case SendOn(channel, data) if self._channels:
                self._channels.send_on(channel, data)
            case Fetch(call) if self._channels:
                self._channels.fetch(call)
            case CloseChannel(channel) if self._channels:
                self._channels.close_channel(channel)
            case Pin(address, mac) if self._adapter_and_job:
                await self._adapter_and_job.pin(address, mac)
            case GiveBack() if self._adapter_and_job and isinstance(self.machine, Borrower):
                await self._adapter_and_job.give_back()
                self.machine.gave_back()
