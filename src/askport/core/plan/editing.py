"""Planned values changed in place, octet by octet: typing the last number is enough."""

from collections.abc import Collection
from ipaddress import IPv4Address, IPv4Interface

from askport.core import addresses, errors
from askport.core.phrases import phrase
from askport.core.plan.target import Pool, Target

_PREFIX = 1
"""The row of the prefix; all others are addresses of four numbers."""
ROWS = (
    phrase("IP address"),
    phrase("Prefix"),
    phrase("Gateway"),
    *(phrase("DNS server {place}", place=place) for place in (1, 2, 3)),
)


class TargetEdit:
    """The values as they stand while somebody types, with the number that is typed at."""

    def __init__(self, target: Target) -> None:
        dns = (*target.dns, None, None, None)[:3]
        prefix = [str(target.interface.network.prefixlen)]
        self.rows = [_numbers(target.interface.ip), prefix, _numbers(target.gateway), *map(_numbers, dns)]
        """Of each row its numbers as they are typed; all empty where there is none."""
        self.row, self.place = 0, 3
        self._is_fresh = True

    @property
    def numbers(self) -> list[str]:
        """The numbers of the row at hand."""
        return self.rows[self.row]

    def type(self, digit: str) -> None:
        """Type a digit: the first one takes the place of what stands there."""
        if not any(self.numbers):  # most of a gateway or server is like the address
            self.numbers[:] = [*self.rows[0][:3], ""] if self.row != _PREFIX else [""]
            self.place = len(self.numbers) - 1
        text = digit if self._is_fresh else self.numbers[self.place] + digit
        if int(text) <= (32 if self.row == _PREFIX else 255):
            self.numbers[self.place] = str(int(text))
            self._is_fresh = False

    def erase(self) -> None:
        """Take the last digit away."""
        self.numbers[self.place] = self.numbers[self.place][:-1]
        self._is_fresh = False

    def clear(self) -> None:
        """Say that there is none; an address and its prefix there must be."""
        if self.row > _PREFIX:
            self.numbers[:] = [""] * 4
        self._is_fresh = True

    def move(self, rows: int = 0, places: int = 0) -> None:
        """Go to another row, or to another number of this one."""
        if rows:
            self.row = (self.row + rows) % len(self.rows)
            self.place = len(self.numbers) - 1
        self.place = max(0, min(self.place + places, len(self.numbers) - 1))
        self._is_fresh = True

    def take(self, address: IPv4Address) -> None:
        """Have this be the address."""
        self.rows[0][:] = _numbers(address)
        self.row, self.place, self._is_fresh = 0, 3, True

    def target(self) -> Target:
        """Return the values.

        Raises:
            BadInput: one is not whole.
        """
        address, prefix, gateway, *dns = self.rows
        if not prefix[0]:
            raise errors.BadInput("The prefix is missing: type one from 1 to 32, such as 24.")
        interface = IPv4Interface((_address(address, ROWS[0]) or IPv4Address(0), int(prefix[0])))
        servers = (_address(each, name) for each, name in zip(dns, ROWS[3:], strict=True))
        return Target(interface=interface, gateway=_address(gateway, ROWS[2]), dns=tuple(filter(None, servers)))


def _numbers(address: IPv4Address | None) -> list[str]:
    return str(address).split(".") if address else [""] * 4


def _address(numbers: list[str], name: str) -> IPv4Address | None:
    if not any(numbers) and name != ROWS[0]:
        return None
    if not all(numbers):
        raise errors.BadInput("{name}: one of its four numbers is missing: type it.", name=name)
    return addresses.parse_address(".".join(numbers), name)


def next_free(after: IPv4Interface, avoid: Collection[IPv4Address], pools: Collection[Pool] = ()) -> IPv4Address | None:
    """Return the next address of the subnet that nobody has or is to have, going up from one; None at its end."""
    number = int(after.ip) + 1
    while number < int(after.network.broadcast_address):
        address = IPv4Address(number)
        if pool := next((each for each in pools if address in each), None):
            number = int(pool.last)
        elif address not in avoid and not addresses.host_fault(IPv4Interface((address, after.network.prefixlen))):
            return address
        number += 1
    return None
