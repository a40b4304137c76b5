"""Listening on an adapter before anything is chosen: a device's first words come once."""

from collections import deque
from collections.abc import Sequence

from askport.core import addresses, machine, wire
from askport.core.finding.finder import Finder
from askport.edges import driver, keeper_client, log

MAX_KEPT = 4096
"""Frames kept for whoever goes on with the adapter: minutes of a device alone, and all that tells on a busy wire."""


class _Recording(machine.Machine):
    """Keeps what is heard, and adds it up."""

    def __init__(self, macs: Sequence[addresses.MacAddress], now: float) -> None:
        super().__init__()
        self.finder = Finder(macs, now=now)
        self.finder.on_drop = log.dropped
        self.kept: deque[wire.Heard] = deque(maxlen=MAX_KEPT)

    def receive(self, heard: wire.Heard) -> None:
        self.finder.receive(heard)
        self.kept.append(heard)

    def link_changed(self, link: wire.Link, now: float) -> None:
        self.finder.link_changed(link, now)

    def handle_timer(self, now: float) -> None:
        self.finder.handle_timer(now)

    def next_deadline(self) -> float | None:
        return self.finder.next_deadline()


class Ear:
    """One adapter that is listened on, and nothing is sent on."""

    def __init__(self, keeper: keeper_client.Keeper) -> None:
        """Begin to listen with a keeper that has taken its adapter."""
        self.keeper = keeper
        self.began_at = keeper.wire.now()
        self._recording = _Recording(keeper.wire.macs, self.began_at)
        self._recording.finder.laptop_addresses |= {each.ip for each in keeper.own}

    @property
    def finder(self) -> Finder:
        """What is heard, added up."""
        return self._recording.finder

    @property
    def heard(self) -> list[wire.Heard]:
        """The frames that were heard, the earliest first."""
        return list(self._recording.kept)

    async def listen(self) -> None:
        """Listen until cancelled.

        Raises:
            MachineRefused: the adapter has vanished.
        """
        await driver.Driver(self._recording, self.keeper.wire).run(until=lambda: False)
