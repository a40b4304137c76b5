"""Addresses in the order in which a device of unknown kind is likely to have them."""

from collections.abc import Iterable, Iterator
from ipaddress import IPv4Address, IPv4Network
from itertools import chain

_NETWORKS = tuple(
    IPv4Address(each)
    for each in (
        "192.168.1.0", "192.168.0.0", "10.0.0.0", "192.168.2.0", "192.168.10.0", "192.168.100.0", "172.16.0.0",
        "10.10.10.0", "192.168.3.0", "192.168.4.0", "192.168.5.0", "192.168.8.0", "192.168.20.0", "192.168.50.0",
        "192.168.127.0", "192.168.178.0", "192.168.200.0", "192.168.250.0", "192.168.255.0", "10.0.1.0", "10.1.1.0",
        "10.10.0.0", "10.10.1.0", "10.100.0.0", "172.16.1.0", "172.17.0.0", "172.20.0.0", "172.31.0.0",
    )
)  # fmt: skip
"""Private /24s that makers use for defaults, commonest first: the first of each range, round numbers, repeats."""

_HOSTS = (1, 10, 100, 2, 254, 200, 20, 50, 3, 5, 99, 101, 11, 150, 250, 253, 4, 30, 64, 108, 110, 120, 180, 201, 240)
"""Host numbers that makers like, commonest first."""


def likely_addresses(known: Iterable[IPv4Address] = (), within: Iterable[IPv4Network] = ()) -> Iterator[IPv4Address]:
    """Yield addresses worth asking for, each once.

    Args:
        known: addresses that something speaks for (a label, a manual, the plan); they come first.
        within: ranges that the technician named; they come next, whole, and nothing outside them is asked for.
    """
    ranges = list(within)
    guesses: Iterable[IPv4Address] = chain.from_iterable(_usable(each) for each in ranges)
    if not ranges:
        guesses = chain(
            (network + host for host in _HOSTS for network in _NETWORKS),
            (network + host for network in _NETWORKS[:3] for host in range(1, 255)),
        )
    named = [each for each in known if not ranges or any(each in network for network in ranges)]
    seen: set[IPv4Address] = set()
    for address in chain(named, guesses):
        if address not in seen:
            seen.add(address)
            yield address


def _usable(network: IPv4Network) -> Iterator[IPv4Address]:
    """Yield every host address of a range, lowest first."""
    yield from network.hosts() if network.prefixlen < 31 else network
