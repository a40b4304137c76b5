"""The wire as the core sees it: frames with their time, and what every wire can do."""

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from functools import lru_cache
from ipaddress import IPv4Address, IPv4Interface
from typing import TYPE_CHECKING, Protocol

from askport.core.addresses import MacAddress
from askport.core.formats.packet import Packet, read_packet

if TYPE_CHECKING:
    from askport.core.register.entries import Entry


@dataclass(frozen=True, slots=True, kw_only=True)
class Frame:
    """One frame as it came off a wire."""

    at: float
    """When it arrived, in seconds of the wire's own monotonic clock."""
    data: bytes


@dataclass(frozen=True, slots=True)
class Heard:
    """A frame with its layers read: what clues, ways and proofs work on and keep as evidence."""

    at: float
    data: bytes
    packet: Packet


@lru_cache(maxsize=256)
def hear(frame: Frame) -> Heard:
    """Read a frame once for everybody, several that run side by side included."""
    return Heard(frame.at, frame.data, read_packet(frame.data))


@dataclass(frozen=True, slots=True, kw_only=True)
class Link:
    """Whether the cable carries a signal."""

    up: bool
    since: float
    """When it came up or went down, in the wire's clock; the moment of opening where that is not known."""
    speed_mbps: int | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class Counts:
    """What has passed a wire since it was opened, in frames."""

    seen: int
    sent: int
    lost: int = 0
    """Frames that the kernel took off the wire and we were too slow for."""
    behind_s: float = 0.0
    """How late frames were read at the most, where reading never came to an end; 0 where the laptop kept up."""
    shed: Mapping[str, int] = field(default_factory=dict)
    """Frames of a flood that were left unread, by the protocol that they belong to."""


OnDrop = Callable[[Heard, str], None]
"""Takes a frame that tells nothing, and why."""
OnPass = Callable[[bool], None]
"""Takes whether the frame goes to the device."""


class Wire(Protocol):
    """What carries frames: a real adapter, a capture file, or the practice bench."""

    on_pass: OnPass
    """Called for every frame that passes, for whoever draws the cable."""

    @property
    def heard_until(self) -> float:
        """Up to when everything that has come was handed over, in the wire's time: nobody is silent before that."""

    @property
    def name(self) -> str:
        """The adapter's name, or what stands in its place."""

    @property
    def mac(self) -> MacAddress:
        """The laptop's own MAC address on it."""

    def require_present(self) -> None:
        """See that it is still there.

        Raises:
            MachineRefused: the adapter was pulled out.
        """

    def now(self) -> float:
        """Return the wire's time in monotonic seconds."""

    def wall(self, at: float) -> datetime:
        """Return a moment of the wire's time as aware UTC."""

    def link(self) -> Link:
        """Return the state of the link."""

    def counts(self) -> Counts:
        """Return how many frames have passed."""

    def send(self, data: bytes) -> None:
        """Put one frame on the wire; without link it is lost, as on a real one."""

    def send_many(self, frames: Sequence[bytes]) -> None:
        """Put frames on the wire one after the other, as fast as it takes them."""

    async def wait(self, deadline: float | None) -> list[Frame]:
        """Return the frames that have come, or none when the deadline has come first or the link has changed."""

    def look(self) -> list[Frame]:
        """Return what has come by now, without waiting."""

    def give_way(self, seconds: float) -> None:
        """In a flood, leave frames unread for so long; their time of arrival is kept."""

    def wake(self) -> None:
        """Let a ``wait`` under way return now, because there is something new to do."""


class AdapterAndJob(Protocol):
    """What carries out the effects that are not frames: the adapter and the job."""

    async def borrow(self, interface: IPv4Interface, *, on_adapter: bool = False) -> str:
        """Take an address; return why it is on the adapter and not beside it as it was to be, or nothing.

        Raises:
            AskPortError: the machine would not.
        """

    async def speak_ipv6(self) -> None:
        """Have the laptop speak IPv6 here.

        Raises:
            AskPortError: the machine would not.
        """

    async def pin(self, address: IPv4Address, mac: MacAddress) -> None:
        """Have an address mean one MAC address, until everything is given back.

        Raises:
            AskPortError: the machine would not.
        """

    async def give_back(self) -> None:
        """Put the adapter back as it was."""

    def write(self, entry: "Entry", at: datetime) -> None:
        """Append to the journal, durably.

        Raises:
            AskPortError: the machine would not, and nothing was lost of what was there.
        """

    def keep(self, unit: int, frames: Sequence[tuple[datetime, bytes]]) -> None:
        """Keep the frames behind a unit with the job, each with its time.

        Raises:
            AskPortError: the machine would not.
        """
