"""What a way is started with."""

from collections.abc import Collection, Mapping
from dataclasses import dataclass, field
from ipaddress import IPv4Address, IPv4Interface, IPv6Address

from askport.core import addresses, machine
from askport.core.kinds.model import Kind
from askport.core.phrases import phrase
from askport.core.plan.target import Target
from askport.core.ways.log_in import NO_LOG_IN, LogIn


@dataclass(frozen=True, slots=True, kw_only=True)
class Start:
    """What a way can be started with."""

    mac: addresses.MacAddress
    target: Target
    laptop_mac: addresses.MacAddress
    laptop: IPv4Interface | None
    """The laptop's address in the target's subnet, where it has one."""
    old: IPv4Address | None
    """Where the device is now, where that is known."""
    now: float
    xid: machine.Xid
    door: IPv6Address | None = None
    """Its link-local IPv6 address, where its console or page is talked to by that: it stays while all else changes."""
    servers: Collection[IPv4Address] = ()
    """Other address servers that this wire has told of."""
    landings: Collection[IPv4Address] = ()
    """Where it may be instead, once it is not where it was."""
    free: IPv4Interface | None = None
    """An address in the target's subnet that nobody holds, where the laptop has none there."""
    kind: Kind | None = None
    """What is known of devices like it."""
    log_in: LogIn = NO_LOG_IN
    """What its console or page is entered with."""
    over: str | None = None
    """How its console is reached, where it is not the kind's first."""
    port: int | None = None
    """Its TCP port, where it is another than the kind's."""
    line: str = ""
    """The serial line of its console, where it has one."""
    name: str = ""
    """What it is to be called."""
    known_key: str | None = None
    """The key that its console or page showed the last time."""
    columns: Mapping[str, str] = field(default_factory=dict)
    """Whatever else the plan says of it, by the heads of its columns."""
    ours: Collection[IPv4Interface] = ()
    """All of the laptop's addresses on the cable."""
    places: Mapping[str, str] = field(default_factory=dict)
    """The URLs at which it says that it speaks field protocols, by their names; where they differ from the usual."""
    speaks: Collection[str] = ()
    """Which field protocols it was heard to speak, by the names of their ways."""
    temporary: bool = False
    """Whether it is to keep its address until the next power cycle only, where the way lets one say that."""
    allow_others: bool = False
    """Whether the technician said that other devices on this wire are in order."""

    @property
    def talks_at(self) -> addresses.Address | None:
        """Where its console or page is talked to."""
        return self.door or self.old

    @property
    def beside(self) -> IPv4Interface | None:
        """The laptop's address from which the device is reached where it is now."""
        return next((each for each in self.ours if self.old and self.old in each.network), None)

    @property
    def reached(self) -> tuple[IPv4Interface, IPv4Address]:
        """The laptop's address where it will be, and where it is now.

        Raises:
            ValueError: it cannot be reached, before and after.
        """
        if self.laptop is None or self.old is None:
            raise ValueError(phrase("this way needs the device to be reached, before and after"))
        return self.laptop, self.old
