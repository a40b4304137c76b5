"""What one frame tells about one MAC address."""

from dataclasses import dataclass
from enum import Enum, auto
from ipaddress import IPv4Address

from askport.core.addresses import MacAddress


class Tells(Enum):
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
    SENDS_FROM = auto()
    """It sent an IPv4 packet of its own from ``address``."""
    SENDS_THROUGH = auto()
    """From ``address`` it sent to ``about`` through somebody else's MAC address: ``about`` is not in its subnet."""
    FORWARDS = auto()
    """It passed on an IPv4 packet from ``address``, which belongs to somebody behind it."""
    STATES = auto()
    """A message of ``source`` says that ``address`` is its own."""
    ASKS_BOOTP = auto()
    ASKS_DHCP = auto()
    """It asks for an address."""
    REMEMBERS = auto()
    """It asked to have ``address`` again."""
    GIVEN = auto()
    """The server ``about`` gave it ``address``."""
    SERVES = auto()
    """It answers address requests, as ``address``."""
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
    ROUTES_IPV6 = auto()
    """It says that it is an IPv6 router."""
    BRIDGES = auto()
    """It is a switch."""
    WANTS_LOGIN = auto()
    """It wants whoever is plugged in to log in."""


SHOWS_HOLDING = (
    Tells.ANSWERS,
    Tells.ANNOUNCES,
    Tells.LOOKS_FOR,
    Tells.LOOKS_FOR_US,
    Tells.SENDS_FROM,
    Tells.SENDS_THROUGH,
)
"""Clues by which the device itself shows that it holds an address: only these can make a belief certain."""


@dataclass(frozen=True, slots=True)
class Clue:
    """One thing that one frame tells about one MAC address. Equal clues add up."""

    mac: MacAddress
    tells: Tells
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
