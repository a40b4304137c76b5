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
    FORWARDS = auto()
    """It passed on an IPv4 packet from ``address``, which belongs to somebody behind it."""
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


SHOWS_HOLDING = (Tells.ANSWERS, Tells.ANNOUNCES, Tells.LOOKS_FOR, Tells.LOOKS_FOR_US, Tells.SENDS_FROM)
"""Clues by which the device itself shows that it holds an address: only these can make a belief certain."""


@dataclass(frozen=True, slots=True)
class Clue:
    """One thing that one frame tells about one MAC address. Equal clues add up."""

    mac: MacAddress
    tells: Tells
    address: IPv4Address | None = None
    about: IPv4Address | None = None
    text: str = ""
    prefix: int | None = None
    """Stated by the server, with GIVEN."""
    gateway: IPv4Address | None = None
    """Stated by the server, with GIVEN."""
