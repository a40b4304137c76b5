"""What the clues about one device add up to."""

from collections import Counter, deque
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field
from enum import StrEnum
from ipaddress import IPv4Address

from askport.core.addresses import LINK_LOCAL, MacAddress, common_prefix
from askport.core.finding.clues import SHOWS_HOLDING, SPEAKS_ARP, Belief, Beside, Clue, ClueKind, Identity
from askport.core.finding.doubts import WIDEST_PREFIX, Holdings
from askport.core.finding.sentences import sentence_of
from askport.core.phrases import phrase
from askport.core.wire import Heard

MAX_OF_A_KIND = 96
"""Different clues of each kind kept of one device: no kind can crowd out another. A device looks for a handful of
addresses; a router that asks for a whole /22 (1,022) is no device to commission, and these tell as much as all."""
MAX_MOMENTS = 400
"""Moments kept for the time lanes: more than a screen is wide, so nothing that could be drawn is dropped."""


class Origin(StrEnum):
    """Where a device has its address from."""

    STATIC = "static"
    DHCP = "dhcp"
    BOOTP = "bootp"
    LINK_LOCAL = "link-local"
    UNKNOWN = "unknown"


class Basis(StrEnum):
    """Where a prefix or a gateway is known from."""

    MEASURED = "measured"
    STATED = "stated"
    BOUNDED = "bounded"
    HEARD = "heard"


@dataclass(slots=True)
class Tally:
    """How often one clue came, with the first and the last frame that gave it."""

    first: Heard
    last: Heard
    count: int = 1


@dataclass(frozen=True, slots=True)
class Reason:
    """One sentence for a belief, with frames that it rests on."""

    sentence: str
    frames: tuple[Heard, ...]
    clue: Clue | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class AddressBelief:
    """What is believed about one address of a device."""

    address: IPv4Address
    belief: Belief
    origin: Origin
    prefix: int | None
    prefix_basis: Basis | None
    prefix_range: tuple[int, int] | None
    """Shortest and longest prefix length that fits what was heard, or None where nothing narrows it."""
    gateway: IPv4Address | None
    gateway_basis: Basis | None
    because: tuple[Reason, ...]
    last_at: float


@dataclass(frozen=True, slots=True, kw_only=True)
class Measurement:
    """What measuring from outside told about one address of a device."""

    prefix: int | None
    gateway: IPv4Address | None
    because: str
    questions: int
    answered: bool = False
    """Whether it answered questions there itself that no router passes on."""
    why_no_gateway: str = ""
    """Where its mask was measured and its gateway was not, why."""
    gateways: tuple[IPv4Address, ...] = ()
    """Where it sends through more than one: those."""


@dataclass(frozen=True, slots=True)
class Service:
    """A service that a device says it offers."""

    transport: str
    port: int
    source: str


@dataclass(frozen=True, slots=True, kw_only=True)
class AddressRequest:
    """That a device asks for an address."""

    because: tuple[Reason, ...]

    protocol: str
    requests: int
    first_at: float
    last_at: float
    names: tuple[str, ...]


@dataclass(slots=True)
class Gathered:
    """All clues about one MAC address."""

    mac: MacAddress
    first_at: float
    last_at: float
    frames: int = 0
    tallies: dict[Clue, Tally] = field(default_factory=dict)
    moments: deque[tuple[float, Clue]] = field(default_factory=lambda: deque(maxlen=MAX_MOMENTS))
    holdings: Holdings = field(default_factory=Holdings)
    answers_for_all: bool = False
    """Whether it answers ARP for addresses that nobody holds, so that none of its answers counts."""
    vlans: set[int] = field(default_factory=set)
    """VLANs that its frames were tagged for; 0 carries only a priority and is left out (IEEE 802.1Q)."""
    restarted_at: float = float("-inf")
    """When the link last came up: what was heard before may no longer be so."""
    measured: dict[IPv4Address, Measurement] = field(default_factory=dict)
    revision: int = 0
    """Grows with every change, so that what it adds up to is worked out once for each."""
    _counts: Counter[ClueKind] = field(default_factory=Counter)

    @property
    def is_present(self) -> bool:
        """Whether it was heard since the link last came up: who was there before may hang elsewhere now."""
        return self.last_at >= self.restarted_at

    def is_of_this_cable(self, tally: Tally) -> bool:
        """Whether a clue came since the link last came up: one that came before may belong to another cable."""
        return tally.last.at >= self.restarted_at

    def add(self, clues: Iterable[Clue], heard: Heard) -> None:
        """Take in what one frame from or about it tells."""
        self.last_at = max(self.last_at, heard.at)
        self.revision += 1
        for clue in clues:
            self.moments.append((heard.at, clue))
            if clue.address and clue.kind in SHOWS_HOLDING:
                by_answer = clue.kind is ClueKind.ANSWERS
                begins = clue.kind is ClueKind.ANNOUNCES
                if clue.address in self.holdings.shown or len(self.holdings.shown) < MAX_OF_A_KIND:
                    asks = clue.kind in (ClueKind.LOOKS_FOR, ClueKind.LOOKS_FOR_US)
                    self.holdings.show(clue.address, heard.at, by_answer=by_answer, begins=begins, asks_others=asks)
            elif clue.kind is ClueKind.CLAIMS and clue.address:
                self.holdings.claim = (clue.address, heard.at)
            tally = self.tallies.get(clue)
            if tally:
                tally.count += 1
                tally.last = heard
            elif self._counts[clue.kind] < MAX_OF_A_KIND:
                self._counts[clue.kind] += 1
                self.tallies[clue] = Tally(heard, heard)

    def of(self, *kinds: ClueKind) -> Iterator[tuple[Clue, Tally]]:
        """Yield the clues of these kinds."""
        return ((clue, tally) for clue, tally in self.tallies.items() if clue.kind in kinds)

    @property
    def names(self) -> tuple[tuple[str, str], ...]:
        """What it calls itself, as harmless text, each with the protocol that says so."""
        return tuple(dict.fromkeys((clue.text, clue.source) for clue, _ in self.of(ClueKind.NAMED) if clue.text))

    @property
    def identities(self) -> tuple[Identity, ...]:
        """The numbers that it is known by, for each field protocol that it speaks."""
        found = (clue.identity for clue, _ in self.of(ClueKind.IDENTIFIES) if clue.identity)
        return tuple(dict.fromkeys(found))

    @property
    def services(self) -> tuple[Service, ...]:
        """What it says it offers."""
        found = (Service(clue.text, clue.port, clue.source) for clue, _ in self.of(ClueKind.OFFERS) if clue.port)
        return tuple(dict.fromkeys(found))

    def others(self) -> list[Reason]:
        """Return sentences for what it tells beside addresses, in the order in which it was first said."""
        clues = (each for each in self.tallies.items() if each[0].kind.adds is Beside.SAYS)
        return [Reason(sentence_of(clue, tally.count), frames_of(tally), clue) for clue, tally in clues]

    def request(self) -> AddressRequest | None:
        """Return its address requests, or None where it has made none, or has shown an address since."""
        asked = list(self.of(ClueKind.ASKS_BOOTP, ClueKind.ASKS_DHCP))
        if not asked:
            return None
        last_at = max(tally.last.at for _, tally in asked)
        if any(tally.last.at > last_at for clue, tally in self.of(*SHOWS_HOLDING) if clue.address not in LINK_LOCAL):
            return None
        return AddressRequest(
            protocol="dhcp" if any(clue.kind is ClueKind.ASKS_DHCP for clue, _ in asked) else "bootp",
            requests=sum(tally.count for _, tally in asked),
            first_at=min(tally.first.at for _, tally in asked),
            last_at=last_at,
            names=tuple(dict.fromkeys(name for name, _ in self.names)),
            because=tuple(Reason(sentence_of(clue, tally.count), frames_of(tally), clue) for clue, tally in asked),
        )

    def beliefs(self) -> list[AddressBelief]:
        """Return what is believed about each address, surest and most recent first."""
        found: dict[IPv4Address, list[tuple[Clue, Tally]]] = {}
        for clue, tally in self.tallies.items():
            if clue.address and isinstance(clue.kind.adds, Belief):
                found.setdefault(clue.address, []).append((clue, tally))
        beliefs = [self._believe(address, clues) for address, clues in found.items()]
        return sorted(beliefs, key=lambda each: (-each.belief, -each.last_at))

    def _believe(self, address: IPv4Address, clues: list[tuple[Clue, Tally]]) -> AddressBelief:
        belief = max(self._strength(clue) for clue, _ in clues)
        reasons = list(self._reasons(clues))
        measured = self.measured.get(address)
        prefix, prefix_basis, bounds = self._prefix(address, clues, measured)
        for doubt in self.holdings.doubts(address, prefix, bounds[1] if bounds else 30):
            belief = Belief(min(belief, Belief.LIKELY))
            reasons.append(Reason(doubt, ()))
        last_at = max(tally.last.at for _, tally in clues)
        if last_at < self.restarted_at and belief > Belief.POSSIBLE:
            belief = Belief.POSSIBLE if address in LINK_LOCAL else Belief(min(belief, Belief.LIKELY))
            reasons.append(Reason(phrase("It has not shown it again since the link came back."), ()))
        if measured:
            reasons.append(Reason(measured.because, ()))
        given = next(
            (clue for clue, tally in clues if clue.kind is ClueKind.GIVEN and self.is_of_this_cable(tally)), None
        )
        # A router, or a server that looks for those whom it serves, has no gateway in whom it asks for.
        serves = any(self.of(ClueKind.SERVES, ClueKind.ROUTES_IPV6, ClueKind.FORWARDS))
        gateway, gateway_basis = self._gateway(clues, measured, looks=not serves)
        return AddressBelief(
            address=address,
            belief=belief,
            origin=self._origin(address, clues, given),
            prefix=prefix,
            prefix_basis=prefix_basis,
            prefix_range=bounds,
            gateway=gateway,
            gateway_basis=gateway_basis,
            because=tuple(reasons),
            last_at=last_at,
        )

    def _prefix(
        self, address: IPv4Address, clues: list[tuple[Clue, Tally]], measured: Measurement | None
    ) -> tuple[int | None, Basis | None, tuple[int, int] | None]:
        """Return the prefix length, what it rests on, and the range that fits what was heard."""
        if measured and measured.prefix is not None:
            return measured.prefix, Basis.MEASURED, (measured.prefix, measured.prefix)
        stated = next((clue.prefix for clue, tally in clues if clue.prefix and self.is_of_this_cable(tally)), None)
        if stated:
            return stated, Basis.STATED, (stated, stated)
        inside = {clue.about for clue, _ in clues if clue.kind is ClueKind.LOOKS_FOR and clue.about}
        outside = {clue.about for clue, _ in clues if clue.kind is ClueKind.SENDS_THROUGH and clue.about}
        # The subnet that spans both addresses may have one of them as its own network or broadcast address.
        longest = min((common_prefix(address, each) for each in inside), default=32)
        shortest = max((common_prefix(address, each) + 1 for each in outside), default=WIDEST_PREFIX)
        bounds = max(shortest, WIDEST_PREFIX), min(longest, 30)
        if (not inside and not outside) or bounds[0] > bounds[1]:
            return None, None, None  # nothing narrows it, or it contradicts itself
        return None, Basis.BOUNDED, bounds

    def _gateway(
        self, clues: list[tuple[Clue, Tally]], measured: Measurement | None, *, looks: bool
    ) -> tuple[IPv4Address | None, Basis | None]:
        if measured and measured.gateway:
            return measured.gateway, Basis.MEASURED
        stated = next((clue.gateway for clue, tally in clues if clue.gateway and self.is_of_this_cable(tally)), None)
        if stated:
            return stated, Basis.STATED
        sought = _sought_most(clues) if looks else None
        return (sought, Basis.HEARD) if sought else (None, None)

    def _strength(self, clue: Clue) -> Belief:
        most = clue.kind.adds if isinstance(clue.kind.adds, Belief) else Belief.POSSIBLE
        if clue.address is None:
            return most
        if clue.kind is ClueKind.SENDS_ON_LINK and self._speaks_arp_elsewhere(clue.address):
            return Belief.LIKELY  # it may have come through it
        if clue.kind is not ClueKind.ANSWERS:
            return most
        passed_on = Clue(self.mac, ClueKind.FORWARDS, clue.address) in self.tallies
        if self.answers_for_all or passed_on or self.holdings.answers_for_others:
            return Belief.POSSIBLE
        if clue.address not in self.holdings.checked:
            return Belief.LIKELY
        # A box may answer for a single neighbour. That it answers questions there itself shows that it does not.
        measured = self.measured.get(clue.address)
        elsewhere = self.holdings.speaks_elsewhere(clue.address)
        return Belief.LIKELY if elsewhere and not (measured and measured.answered) else Belief.CERTAIN

    def _speaks_arp_elsewhere(self, address: IPv4Address) -> bool:
        """Whether it shows by ARP that it holds another address, and not this one."""
        by_arp = {clue.address for clue, _ in self.of(ClueKind.ANSWERS, *SPEAKS_ARP)}
        return bool(by_arp) and address not in by_arp

    def _origin(self, address: IPv4Address, clues: list[tuple[Clue, Tally]], given: Clue | None) -> Origin:
        if address in LINK_LOCAL:
            return Origin.LINK_LOCAL
        if given:
            return Origin(given.text)
        asked = {clue.kind for clue, _ in self.of(ClueKind.ASKS_BOOTP, ClueKind.ASKS_DHCP)}
        if asked:
            return Origin.DHCP if ClueKind.ASKS_DHCP in asked else Origin.BOOTP
        if any(clue.kind in (ClueKind.REMEMBERS, ClueKind.ACCEPTS) for clue, _ in clues):
            return Origin.DHCP
        # One that speaks may still live on a lease that it was given before: only its own word says static.
        return Origin.UNKNOWN

    def _reasons(self, clues: list[tuple[Clue, Tally]]) -> Iterator[Reason]:
        for clue, tally in sorted(clues, key=lambda each: (-self._strength(each[0]), each[1].first.at)):
            sentence = sentence_of(clue, tally.count, answers_for_all=self.answers_for_all)
            yield Reason(sentence, frames_of(tally), clue)


def frames_of(tally: Tally) -> tuple[Heard, ...]:
    """Return the frames that are kept of a tally."""
    return (tally.first,) if tally.count == 1 else (tally.first, tally.last)


def _sought_most(clues: list[tuple[Clue, Tally]]) -> IPv4Address | None:
    """Return the address that it keeps looking for, which is its gateway as a rule; once is no habit."""
    sought = [(tally.count, clue.about) for clue, tally in clues if clue.kind is ClueKind.LOOKS_FOR and tally.count > 1]
    return max(sought, key=lambda each: each[0])[1] if sought else None
