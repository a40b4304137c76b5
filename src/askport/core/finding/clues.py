"""What one frame tells about one MAC address."""

from collections.abc import Iterator
from enum import Enum, IntEnum
from ipaddress import IPv4Address
from typing import NamedTuple

from askport.core.addresses import MacAddress, host_fault_of
from askport.core.phrases import phrase
from askport.core.protocols import PROTOCOLS, words_of


class Belief(IntEnum):
    """How sure it is that a device holds an address; higher is surer."""

    POSSIBLE = 1
    LIKELY = 2
    CERTAIN = 3

    def __str__(self) -> str:
        return self.name.lower()

    @property
    def words(self) -> str:
        """How people say it."""
        match self:
            case Belief.CERTAIN:
                return phrase("certain")
            case Belief.LIKELY:
                return phrase("likely")
        return phrase("possible")


class Beside(Enum):
    """What a clue adds to where it is no reason to believe in an address."""

    SAYS = "a sentence about the device"
    ASKS = "its requests for an address"


class ClueKind(Enum):
    """The kinds of clue, each with all that is made of one: nothing can be declared in part."""

    def __init__(self, sentence: str, lane: str, adds: Belief | Beside, by_what_they_are: tuple[str, ...] = ()) -> None:
        """Declare a kind.

        Args:
            sentence: a clue of it in words, with how often it came.
            lane: the same in a few words, beside its moments.
            adds: how sure it makes at most that its address is held, or what it adds to instead.
            by_what_they_are: fields of its frame that say so, beside those that hold its address or text.
        """
        self.sentence, self.lane, self.adds, self.by_what_they_are = sentence, lane, adds, by_what_they_are

    ANSWERS = (
        "It answered when asked for {address} (ARP, {times}).",
        "answers for {address}",
        Belief.CERTAIN,
        ("ARP operation", "sender's MAC address"),
    )
    """It answered ARP for ``address``."""
    ANNOUNCES = (
        "It announced that {address} is its own (ARP, {times}).",
        "announces {address}",
        Belief.CERTAIN,
        ("ARP operation", "sender's MAC address"),
    )
    """It said by itself that it holds ``address``."""
    LOOKS_FOR = (
        "It asked for {about} from {address} (ARP, {times}).",
        "looks for {about}",
        Belief.CERTAIN,
        ("ARP operation",),
    )
    """From ``address`` it asked by ARP who holds ``about``."""
    LOOKS_FOR_US = (
        "It asked for the laptop from {address} (ARP, {times}).",
        "looks for the laptop",
        Belief.CERTAIN,
        ("ARP operation",),
    )
    """From ``address`` it asked by ARP for an address of the laptop: our doing, and no gateway."""
    CLAIMS = (
        "It asked whether {address} is free, to take it (ARP probe, {times}).",
        "wants to take {address}",
        Belief.LIKELY,
        ("ARP operation", "sender's address"),
    )
    """It asked whether ``address`` is free, to take it."""
    SENDS_ON_LINK = (
        "It sent from {address} to everybody on this wire (IPv4, {times}).",
        "speaks from {address}",
        Belief.CERTAIN,
        ("destination address",),
    )
    """From ``address`` it sent an IPv4 packet to a destination that no router forwards to."""
    SENDS_TO_ALL = (
        "It sent a datagram from {address} to everybody, its own or a relayed one (UDP, {times}).",
        "to all from {address}",
        Belief.LIKELY,
        ("destination address",),
    )
    """From ``address`` it sent a datagram to everybody: its own, or one that a relay passes on unchanged."""
    SENDS_FROM = "It sent packets from {address} (IPv4, {times}).", "sends from {address}", Belief.LIKELY
    """It sent an IPv4 packet from ``address``, its own or one that it passes on unseen."""
    SENDS_THROUGH = (
        "It sent to {about} through another device, so that is outside its subnet (IPv4, {times}).",
        "sends to {about}",
        Belief.LIKELY,
        ("to MAC address",),
    )
    """From ``address`` it sent to ``about`` through somebody else's MAC address: ``about`` is not in its subnet."""
    FORWARDS = (
        "It passed on packets from {address}, which may be behind it (IPv4, {times}).",
        "passes on from {address}",
        Belief.POSSIBLE,
        ("time to live",),
    )
    """It passed on an IPv4 packet from ``address``, which belongs to somebody behind it."""
    REFLECTS = "It sent the laptop's own packets back (IPv4, {times}).", "sends our packets back", Beside.SAYS
    """It sent the laptop's own packets back, from ``address``, which is the laptop's."""
    STATES = "It says that its address is {address} ({source}, {times}).", "says it has {address}", Belief.LIKELY
    """A message of ``source`` says that ``address`` is its own."""
    ASKS_BOOTP = (
        "It asked for an address (BOOTP, {times}).",
        "asks for an address, BOOTP",
        Beside.ASKS,
        ("operation", "client's MAC address"),
    )
    """It asks for an address by BOOTP."""
    ASKS_DHCP = (
        "It asked for an address (DHCP, {times}).",
        "asks for an address, DHCP",
        Beside.ASKS,
        ("operation", "client's MAC address", "option 53"),
    )
    """It asks for an address by DHCP."""
    REMEMBERS = "It asked to have {address} again (DHCP, {times}).", "asks for {address} again", Belief.POSSIBLE
    """It asked to have ``address`` again."""
    ACCEPTS = (
        "It asked the address server {about} for {address} (DHCP, {times}).",
        "takes {address} from a server",
        Belief.LIKELY,
    )
    """It asked the address server ``about`` for ``address``, which that server had offered or given."""
    GIVEN = "The address server {about} gave it {address} ({protocol}, {times}).", "was given {address}", Belief.LIKELY
    """The server ``about`` gave it ``address``."""
    SERVES = (
        "It answers address requests, or passes on the answers of {about} (DHCP, {times}).",
        "offers DHCP addresses",
        Belief.LIKELY,
        ("operation",),
    )
    """It answers address requests, as ``address``, or passes on what the server ``about`` answers."""
    NAMED = "It calls itself {text} ({source}, {times}).", "calls itself {text}", Beside.SAYS
    """It calls itself ``text``."""
    DESCRIBES = "It says that it is: {text} ({source}, {times}).", "says what it is", Beside.SAYS
    """It says that it is a ``text``."""
    OFFERS = "It offers {protocol} port {port} ({source}, {times}).", "offers port {port}", Beside.SAYS
    """It offers the service ``text`` at ``port``."""
    USES = "It uses {about} for {text} ({times}).", "uses {about}", Beside.SAYS
    """It is set to use the server ``about`` for ``text``."""
    HAS_IPV6 = "It uses {text} (IPv6, {times}).", "uses an IPv6 address", Beside.SAYS
    """It has the IPv6 address ``text``."""
    JOINS = "It listens to the group {about} (IGMP, {times}).", "listens to {about}", Beside.SAYS
    """It listens to the group ``about``."""
    SPEAKS_FOR = (
        "It is the shared MAC address of a group of routers; {about} speaks for it ({times}).",
        "shared by routers",
        Beside.SAYS,
    )
    """It is the MAC address that a group of routers shares, and the one at ``about`` speaks for it."""
    ROUTES_IPV6 = "It says that it is a router (IPv6, {times}).", "says it is a router", Beside.SAYS
    """It says that it is an IPv6 router."""
    BRIDGES = "It is a switch ({source}, {times}).", "is a switch", Beside.SAYS
    """It is a switch."""
    WANTS_LOGIN = "It wants a log-in before it passes anything on (802.1X, {times}).", "wants a log-in", Beside.SAYS
    """It wants whoever is plugged in to log in."""
    SAYS_CONFLICT = (
        "It says that somebody else has its address ({source}, {times}).",
        "says its address is taken",
        Beside.SAYS,
    )
    """It says that somebody else has its address."""
    TAKES_POWER = "It takes its power through the cable ({source}, {times}).", "takes power by cable", Beside.SAYS
    """Its power comes through the cable (PoE)."""
    IDENTIFIES = "It speaks {source}: {text} ({times}).", "says its numbers", Beside.SAYS
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
        return ", ".join([*numbers, *filter(None, [self.text])]) or phrase("no numbers")

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
