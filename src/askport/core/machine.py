"""The shape of everything that runs over time: frames and moments go in, effects and the next deadline come out."""

from collections.abc import Callable, Iterable
from dataclasses import dataclass
from ipaddress import IPv4Address, IPv4Interface
from typing import TYPE_CHECKING

from askport.core import addresses, channels, errors, wire

if TYPE_CHECKING:
    from askport.core.register.entries import Entry

Xid = Callable[[], int]
"""Draws a fresh 32-bit number; injected, so that the core has no randomness of its own."""


@dataclass(frozen=True, slots=True)
class Send:
    """Put a frame on the wire."""

    data: bytes


@dataclass(frozen=True, slots=True)
class SendMany:
    """Put many frames on the wire in one go."""

    frames: tuple[bytes, ...]


@dataclass(frozen=True, slots=True)
class Borrow:
    """Have the laptop take a temporary address; its inverse is to take exactly that away."""

    interface: IPv4Interface
    on_adapter: bool = False
    """Whether on the adapter, though others are borrowed beside it: a device answers there only."""


@dataclass(frozen=True, slots=True)
class GiveBack:
    """Put the adapter back as it was."""


@dataclass(frozen=True, slots=True)
class SpeakIpv6:
    """Have the laptop speak IPv6 from its place beside the adapter, until everything is given back."""


@dataclass(frozen=True, slots=True)
class Pin:
    """Have an address mean one MAC address on the laptop's adapter, for as long as something is borrowed."""

    address: IPv4Address
    mac: addresses.MacAddress


@dataclass(frozen=True, slots=True)
class WriteEntry:
    """Append to the job's journal, durably, before anything else happens."""

    entry: "Entry"


@dataclass(frozen=True, slots=True)
class KeepFrames:
    """Keep frames with the job, as the evidence behind a unit."""

    unit: int
    frames: tuple[wire.Heard, ...]


Effect = (
    Send | SendMany | Borrow | SpeakIpv6 | Pin | GiveBack | WriteEntry | KeepFrames
    | channels.OpenChannel | channels.SendOn | channels.CloseChannel | channels.Fetch
)  # fmt: skip


class Machine:
    """A plain object that never sleeps, reads no clock and opens nothing.

    The driver calls ``receive`` for every frame and ``handle_timer`` when ``next_deadline`` has come, and carries
    out what ``poll`` returns after each.
    """

    is_aside = False
    """Whether what runs beside it goes on without waiting for its end."""

    def __init__(self) -> None:
        self._effects: list[Effect] = []

    @property
    def done(self) -> bool:
        """Whether it has nothing left to do."""
        return False

    @property
    def children(self) -> Iterable["Machine"]:
        """What runs inside of it; what is not done otherwise goes to each."""
        return ()

    def receive(self, heard: wire.Heard) -> None:
        """Take in one frame."""
        for each in self.children:
            each.receive(heard)

    def link_changed(self, link: wire.Link, now: float) -> None:
        """Take in that the link went up or down."""
        for each in self.children:
            each.link_changed(link, now)

    def channel_event(self, event: channels.ChannelEvent, now: float) -> None:
        """Take in what has become of a channel, its own or another machine's."""
        for each in self.children:
            each.channel_event(event, now)

    def handle_timer(self, now: float) -> None:
        """Do what is due. Called with any moment, it does nothing early."""
        for each in self.children:
            each.handle_timer(now)

    def next_deadline(self) -> float | None:
        """Return when ``handle_timer`` wants to be called next, or None."""
        return earliest(*(each.next_deadline() for each in self.children))

    def poll(self) -> list[Effect]:
        """Return what is to be done now, once."""
        effects, self._effects = self._effects, []
        for each in self.children:
            effects += each.poll()
        return effects

    def drop(self) -> list[Effect]:
        """End here, because something else is to run; return what is still to be done, closing what it opened."""
        return [*self.poll(), *(effect for each in self.children for effect in each.drop())]

    def _send(self, data: bytes) -> None:
        self._effects.append(Send(data))


class Together(Machine):
    """Several machines that hear the same wire; done when the first of them is."""

    def __init__(self, *machines: Machine) -> None:
        super().__init__()
        self._machines = machines

    @property
    def children(self) -> Iterable[Machine]:
        return self._machines

    @property
    def done(self) -> bool:
        return self._machines[0].done


class Borrower(Machine):
    """A machine that borrows addresses, and is told what came of it."""

    def borrow_done(self, interface: IPv4Interface, now: float, why_on_adapter: str = "") -> None:
        """Take in that the laptop has the borrowed address, and why on the adapter where it was to be beside it."""
        raise NotImplementedError

    def borrow_failed(self, error: errors.AskPortError, now: float) -> None:
        """Take in that the adapter could not be given the address."""
        raise NotImplementedError

    def ipv6_failed(self, error: errors.AskPortError) -> None:
        """Take in that the laptop cannot speak IPv6 here: nobody answers it over that."""
        raise NotImplementedError

    def gave_back(self) -> None:
        """Take in that the adapter is as it was."""
        raise NotImplementedError


def earliest(*deadlines: float | None) -> float | None:
    """Return the first of several deadlines, or None where there is none."""
    return min((each for each in deadlines if each is not None), default=None)
