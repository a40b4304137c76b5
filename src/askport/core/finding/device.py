"""What is known about one MAC address on the wire, at one moment."""

from dataclasses import dataclass
from ipaddress import IPv4Address, IPv6Address

from askport.core.addresses import MacAddress
from askport.core.finding import clues, doubts
from askport.core.finding.beliefs import AddressBelief, AddressRequest, Basis, Gathered, Reason, Service
from askport.core.phrases import listed, phrase


@dataclass(frozen=True, slots=True, kw_only=True)
class Device:
    """One MAC address, seen from all that was heard of it."""

    mac: MacAddress
    addresses: tuple[AddressBelief, ...]
    request: AddressRequest | None
    names: tuple[tuple[str, str], ...]
    """What it calls itself, and the protocol that says so."""
    services: tuple[Service, ...]
    identities: tuple[clues.Identity, ...]
    """The numbers that it is known by, for each field protocol that it speaks."""
    others: tuple[Reason, ...]
    """What it tells beside addresses."""
    frames: int
    first_at: float
    last_at: float
    vlans: tuple[int, ...]
    is_present: bool
    """Whether it was heard since the link last came up."""
    answers_for_all: bool
    holdings: doubts.Holdings
    """What it has shown to hold, and what was learned about that."""
    servers: tuple[IPv4Address, ...]
    """Address servers that answer through it, or that it took an address from; the laptop is none of them."""
    speaks_for: tuple[IPv4Address, ...]
    """Where it is the MAC address that a group of routers shares: those that speak for it."""
    sent_from: tuple[IPv4Address, ...]
    """Addresses of packets that it sent, its own or not."""
    moments: tuple[tuple[float, clues.Clue], ...]
    said: frozenset[clues.ClueKind]
    ipv6: tuple[IPv6Address, ...] = ()
    """The IPv6 addresses that it uses, in the order in which they were heard."""

    @property
    def best(self) -> AddressBelief | None:
        """Its surest address."""
        return self.addresses[0] if self.addresses else None

    @property
    def link_local(self) -> IPv6Address | None:
        """Where it can be talked to on this cable whatever its IPv4 address is, where it has shown that."""
        return next((each for each in self.ipv6 if each.is_link_local), None)

    @property
    def is_found(self) -> bool:
        """Whether its address is certain, or it asks for one: nothing more is needed to go on."""
        return self.request is not None or (self.best is not None and self.best.belief is clues.Belief.CERTAIN)

    @property
    def is_contested(self) -> bool:
        """Whether it has shown its address, and others have shown the same one."""
        return self.best is not None and self.best.address in self.holdings.rivals

    @property
    def is_crowded(self) -> bool:
        """Whether it speaks from addresses that may be those of several hosts behind it."""
        return self.best is not None and self.best.address in self.holdings.mixed

    @property
    def sureness(self) -> int:
        """How much is known, for putting devices in order."""
        if self.best and self.best.belief is clues.Belief.CERTAIN:
            return 4
        return 3 if self.request else int(self.best.belief) if self.best else 0

    def gateway_heard_from(self, address: IPv4Address) -> IPv4Address | None:
        """Return whom it keeps looking for from one of its addresses; what it was given or told shows no use of it."""
        heard = (each for each in self.addresses if each.address == address and each.gateway_basis is Basis.HEARD)
        return next((each.gateway for each in heard), None)

    def reasons(self) -> list[Reason]:
        """Return every sentence about it, addresses first."""
        asked = self.request.because if self.request else ()
        return [*(each for belief in self.addresses for each in belief.because), *asked, *self.others]

    def speaks(self, protocol: str) -> bool:
        """Whether it speaks a field protocol."""
        return any(each.protocol == protocol for each in self.identities)

    def tells(self, kind: clues.ClueKind) -> bool:
        """Whether it gave a clue of this kind."""
        return kind in self.said


_SENT = (clues.ClueKind.SENDS_FROM, clues.ClueKind.SENDS_THROUGH, clues.ClueKind.FORWARDS)


def view(gathered: Gathered) -> Device:
    """Return what was gathered of a device, added up as it is now."""
    return Device(
        mac=gathered.mac,
        addresses=tuple(gathered.beliefs()),
        request=gathered.request(),
        names=gathered.names,
        services=gathered.services,
        identities=gathered.identities,
        others=tuple(gathered.others()),
        frames=gathered.frames,
        first_at=gathered.first_at,
        last_at=gathered.last_at,
        vlans=tuple(sorted(gathered.vlans)),
        is_present=gathered.is_present,
        answers_for_all=gathered.answers_for_all,
        holdings=gathered.holdings,
        servers=tuple(
            {
                clue.about: None
                for clue, tally in gathered.of(clues.ClueKind.SERVES, clues.ClueKind.ACCEPTS)
                if gathered.is_of_this_cable(tally) and clue.about and clue.about not in gathered.holdings.ours
            }
        ),
        speaks_for=tuple({clue.about: None for clue, _ in gathered.of(clues.ClueKind.SPEAKS_FOR) if clue.about}),
        sent_from=tuple({clue.address: None for clue, _ in gathered.of(*_SENT) if clue.address}),
        moments=tuple(gathered.moments),
        said=frozenset(clue.kind for clue, tally in gathered.tallies.items() if gathered.is_of_this_cable(tally)),
        ipv6=tuple(dict.fromkeys(IPv6Address(clue.text) for clue, _ in gathered.of(clues.ClueKind.HAS_IPV6))),
    )


def device_words(device: Device, maker: str | None) -> str:
    """Return the maker of a device and what it calls itself."""
    names = list(dict.fromkeys(name for name, _ in device.names))[:2]
    maker = maker or phrase("maker unknown")
    return phrase("{maker}, calls itself {names}", maker=maker, names=listed(names)) if names else maker
