"""What every stand-in device has: power, a boot time, non-volatile settings and hands that can reach it."""

from dataclasses import dataclass
from ipaddress import IPv4Address, IPv4Interface
from typing import Protocol

from askport.bench.host import Host
from askport.core import addresses, errors
from askport.core.plan.target import Target

LINK_AFTER_S = 0.8
"""From power to link: the time that two Ethernet ends take to agree."""


@dataclass(frozen=True, slots=True)
class Settings:
    """What a device keeps in its memory."""

    interface: IPv4Interface | None = None
    gateway: IPv4Address | None = None
    dns: tuple[IPv4Address, ...] = ()


class Talk(Protocol):
    """One conversation on a TCP port of a stand-in."""

    over: bool
    """Whether the stand-in has ended it."""

    def greets(self) -> bytes:
        """Return what it says first."""

    def receives(self, data: bytes, now: float) -> bytes:
        """Take bytes; return what it answers."""


class StandIn:
    """One stand-in: a state machine in virtual time that speaks bytes.

    The bench calls ``power``, ``receive`` and ``tick``; all return the frames that the device sends.
    """

    boot_s = 5.0
    hand = "page"
    """What a person types into: its page, its keypad, its console."""

    def __init__(self, mac: addresses.MacAddress, factory: Settings) -> None:
        self.host = Host(mac)
        self.saved = factory
        """Survives a power cycle."""
        self.outbox: list[bytes] = []
        """Frames that it sends because of what it was told on a stream."""
        self.powered = False
        self.up = False
        self.next_at: float | None = None
        self._link_at: float | None = None
        self._up_at: float | None = None

    @property
    def mac(self) -> addresses.MacAddress:
        """Its MAC address."""
        return self.host.mac

    def has(self, mac: addresses.MacAddress) -> bool:
        """Whether a MAC address is its own."""
        return mac == self.host.mac

    @property
    def unsaved(self) -> str | None:
        """What a person still has to do at it so that a power cycle does not undo the change, or None."""
        return None

    @property
    def needs_restart(self) -> bool:
        """Whether it uses what was saved only after its power was pulled."""
        return False

    def link(self, now: float) -> bool:
        """Whether its port gives a link."""
        return self.powered and self._link_at is not None and now >= self._link_at

    def power(self, on: bool, now: float) -> None:
        """Pull its power, or put it back."""
        if on == self.powered:
            return
        self.powered, self.up = on, False
        self.host.take(None, None)
        self._link_at = now + LINK_AFTER_S if on else None
        self._up_at = now + self.boot_s if on else None
        self.next_at = self._up_at

    def link_change_at(self, now: float) -> float | None:
        """Return when its link will come up, if that is still ahead."""
        return self._link_at if self._link_at is not None and self._link_at > now else None

    def receive(self, data: bytes, now: float) -> list[bytes]:
        """Take a frame, if it is up."""
        self.host.up_for_s = now - (self._up_at or 0.0)
        return self.host.receive(data) if self.up else []

    def tick(self, now: float) -> list[bytes]:
        """Do what is due."""
        self.next_at = None
        if not self.up and self._up_at is not None and now >= self._up_at:
            self.up = True
            return self.started(now)
        return self.due(now)

    def started(self, now: float) -> list[bytes]:
        """Come up with the saved settings."""
        self.host.take(self.saved.interface, self.saved.gateway)
        return []

    def due(self, now: float) -> list[bytes]:
        """Do what the device does by itself."""
        return []

    def talk(self, port: int) -> Talk | None:
        """Return the conversation that one of its open TCP ports begins, or None where it only opens."""
        return None

    def type_in(self, target: Target, now: float, *, over_the_cable: bool) -> str:
        """Type values into it and save, as a person does; return what the person sees.

        Args:
            over_the_cable: whether the laptop can reach the device's page now.

        Raises:
            Refused: the person cannot do that now.
        """
        raise NotImplementedError

    def _need_power(self) -> None:
        if not self.up:
            raise errors.Refused("It has no power or is still starting: there is nothing to type into yet.")

    def _need_page(self, over_the_cable: bool) -> None:
        self._need_power()
        if not over_the_cable:
            raise errors.Refused("Its page does not open: the laptop cannot talk to it yet. Borrow an address first.")
