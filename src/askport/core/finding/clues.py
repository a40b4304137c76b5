"""What one frame tells about one MAC address."""

from collections.abc import Iterator
from enum import Enum, auto
from ipaddress import IPv4Address
from typing import NamedTuple

from askport.core.addresses import MacAddress, host_fault_of
from askport.core.protocols import PROTOCOLS, words_of


class ClueKind(Enum):
    """The kinds of clue."""

    ANSWERS = auto()
    """It answered ARP for ``address``."""
    ANNOUNCES = auto()
    """It said by itself that it holds ``address``."""
    LOOKS_FOR = auto()
    """From ``address`` it asked by ARP who holds ``about``."""
    LOOKS_FOR_US = auto()
    """From ``address`` it asked by ARP for an address of the laptop: our doing, and no gateway."""
    CLAIMS = auto()
    """It asked whether ``address`` is free, to take it."""
    SENDS_ON_LINK = auto()
    """From ``address`` it sent an IPv4 packet to a destination that no router forwards to."""
    SENDS_TO_ALL = auto()
    """From ``address`` it sent a datagram to everybody: its own, or one that a relay passes on unchanged."""
    SENDS_FROM = auto()
    """It sent an IPv4 packet from ``address``, its own or one that it passes on unseen."""
    SENDS_THROUGH = auto()
    """From ``address`` it sent to ``about`` through somebody else's MAC address: ``about`` is not in its subnet."""
    FORWARDS = auto()
    """It passed on an IPv4 packet from ``address``, which belongs to somebody behind it."""
    REFLECTS = auto()
    """It sent the laptop's own packets back, from ``address``, which is the laptop's."""
    STATES = auto()
    """A message of ``source`` says that ``address`` is its own."""
    ASKS_BOOTP = auto()
    ASKS_DHCP = auto()
    """It asks for an address."""
    REMEMBERS = auto()
    """It asked to have ``address`` again."""
    ACCEPTS = auto()
    """It asked the address server ``about`` for ``address``, which that server had offered or given."""
    GIVEN = auto()
    """The server ``about`` gave it ``address``."""
    SERVES = auto()
    """It answers address requests, as ``address``, or passes on what the server ``about`` answers."""
    NAMED = auto()
    """It calls itself ``text``."""
    DESCRIBES = auto()
    """It says that it is a ``text``."""
    OFFERS = auto()
    """It offers the service ``text`` at ``port``."""
    USES = auto()
    """It is set to use the server ``about`` for ``text``."""
    HAS_IPV6 = auto()
    """It has the IPv6 address ``text``."""
    JOINS = auto()
    """It listens to the group ``about``."""
    SPEAKS_FOR = auto()
    """It is the MAC address that a group of routers shares, and the one at ``about`` speaks for it."""
    ROUTES_IPV6 = auto()
    """It says that it is an IPv6 router."""
    BRIDGES = auto()
    """It is a switch."""
    WANTS_LOGIN = auto()
    """It wants whoever is plugged in to log in."""
    SAYS_CONFLICT = auto()
    """It says that somebody else has its address."""
    TAKES_POWER = auto()
    """Its power comes through the cable (PoE)."""
    IDENTIFIES = auto()
    """It speaks the field protocol ``source``, with the numbers of ``identity``."""


SPEAKS_ARP = (ClueKind.ANNOUNCES, ClueKind.LOOKS_FOR, ClueKind.LOOKS_FOR_US)
"""Clues by which a device says with ARP of its own that it holds an address."""
SHOWS_HOLDING = (ClueKind.ANSWERS, *SPEAKS_ARP, ClueKind.SENDS_ON_LINK)
"""Clues by which a device itself shows that it holds an address: only these can make a belief certain, and an answer
only once it was checked."""


class Identity(NamedTuple):
    """By what a device is known to the association of one field protocol; None where it does not say."""

    protocol: str
    """Its name in :data:`askport.core.protocols.PROTOCOLS`."""
    vendor: int | None = None
    product: int | None = None
    serial: int | None = None
    text: str = ""
    """What it says in words."""
    where: str = ""
    """The URL at which it says that it speaks it, where that is not always the same."""

    @property
    def words(self) -> str:
        """The numbers, as people write them, and the words."""
        known = PROTOCOLS.get(self.protocol)
        number = known.number if known else "serial"
        named = (("vendor", self.vendor), ("product", self.product), (number, self.serial))
        numbers = [f"{name} {number}" for name, number in named if number is not None]
        return ", ".join([*numbers, *filter(None, [self.text])]) or "no numbers"

    @property
    def sentence(self) -> str:
        """The protocol and what it is known by there."""
        name = words_of(self.protocol)
        return f"{name}: {self.words}" if any(each not in (None, "") for each in self[1:5]) else name


class Clue(NamedTuple):
    """One thing that one frame tells about one MAC address. Equal clues add up."""

    mac: MacAddress
    kind: ClueKind
    address: IPv4Address | None = None
    about: IPv4Address | None = None
    text: str = ""
    source: str = ""
    """The protocol that says so, where it is not the kind of clue itself."""
    prefix: int | None = None
    """Stated with the address."""
    gateway: IPv4Address | None = None
    """Stated with the address."""
    port: int | None = None
    identity: Identity | None = None


def states(
    mac: MacAddress, address: IPv4Address, source: str, prefix: int | None = None, gateway: IPv4Address | None = None
) -> Iterator[Clue]:
    """Yield that a message of ``source`` gives this address as the device's own, where a host can have it at all."""
    if not host_fault_of(address):
        yield Clue(mac, ClueKind.STATES, address, source=source, prefix=prefix, gateway=gateway)
