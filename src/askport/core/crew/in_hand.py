"""What members of a crew have in hand at the moment: units and addresses that nobody else is to take."""

from collections.abc import Mapping
from dataclasses import dataclass, field
from ipaddress import AddressValueError, IPv4Address

_UNIT, _ADDRESS = "unit ", "address "
HELD_S = 1800
"""How long something stays in hand of a laptop that is not heard of any more, in seconds."""


@dataclass(frozen=True, slots=True)
class Others:
    """What the others of a crew have in hand, and what is this laptop's to give."""

    units: Mapping[str, str] = field(default_factory=dict)
    """Their tags, without regard to case, each with the member."""
    addresses: Mapping[IPv4Address, str] = field(default_factory=dict)
    """Addresses that they are giving to a unit now, each with the member."""
    dealt: Mapping[IPv4Address, str] = field(default_factory=dict)
    """Free addresses that were dealt to them, each with the member."""
    block: frozenset[IPv4Address] | None = None
    """The free addresses that were dealt to this laptop; None where it gives any, because there is no crew."""

    def holder_of(self, tag: str) -> str | None:
        """Return who else has a unit in hand, or None."""
        return self.units.get(tag.casefold())


ALONE = Others()
"""Where there is no crew."""


def claims_of(tag: str, address: IPv4Address | None) -> frozenset[str]:
    """Return what a unit in hand is called in the database."""
    named = [f"{_UNIT}{tag}"] if tag else []
    return frozenset([*named, *([f"{_ADDRESS}{address}"] if address else [])])


def others_of(
    claims: Mapping[str, str], blocks: Mapping[IPv4Address, str], own: str, block: frozenset[IPv4Address]
) -> Others:
    """Return what others have in hand.

    Args:
        claims: all that members have in hand, each with the member.
        blocks: all addresses that were dealt, each with the member.
    """
    theirs = {what: member for what, member in claims.items() if member != own}
    units = {what[len(_UNIT) :].casefold(): member for what, member in theirs.items() if what.startswith(_UNIT)}
    dealt = {address: member for address, member in blocks.items() if member != own}
    addresses = {}
    for what, member in theirs.items():
        if what.startswith(_ADDRESS):
            try:
                addresses[IPv4Address(what[len(_ADDRESS) :])] = member
            except AddressValueError:
                continue  # what another member writes there is its own
    return Others(units, addresses, dealt, block)
