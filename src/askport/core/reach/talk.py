"""Can they talk: both ends must take each other for a neighbour, each by its own mask."""

from collections.abc import Iterable
from dataclasses import dataclass
from ipaddress import IPv4Address, IPv4Interface, IPv4Network


@dataclass(frozen=True, slots=True, kw_only=True)
class Verdict:
    """Whether two ends can talk, and in one sentence why or why not."""

    can: bool
    sentence: str
    laptop: IPv4Interface | None = None
    """The laptop's address that is used, or the one that comes closest."""


def can_talk(laptop: Iterable[IPv4Interface], device: IPv4Address, prefix: int | None) -> Verdict:
    """Judge whether any of the laptop's addresses can talk with a device without a router between them.

    Args:
        laptop: the addresses on the cable's adapter.
        device: the device's address.
        prefix: its prefix length, or None where it is not known: then only the laptop's side is judged.
    """
    interfaces = list(laptop)
    if not interfaces:
        return Verdict(can=False, sentence="cannot talk: the laptop has no address on this adapter")
    network = IPv4Network((int(device), prefix), strict=False) if prefix is not None else None
    for mine in interfaces:
        if mine.ip == device:
            return Verdict(can=False, sentence=f"cannot talk: the laptop itself has {device}", laptop=mine)
    for mine in interfaces:
        if device in mine.network and (network is None or mine.ip in network):
            return Verdict(can=True, sentence=f"can talk: both are in {_narrower(mine.network, network)}", laptop=mine)
    for mine in interfaces:
        if device in mine.network:
            sentence = f"cannot talk: the device is in {network} and sends its answers for {mine.ip} to a gateway"
            return Verdict(can=False, sentence=sentence, laptop=mine)
        if network and mine.ip in network:
            sentence = f"cannot talk: the laptop's {mine} leaves out {device}; the device's mask is /{prefix}"
            return Verdict(can=False, sentence=sentence, laptop=mine)
    where = f"in {network}" if network else f"at {device}"
    sentence = f"cannot talk: laptop is in {interfaces[0].network}, device {where}"
    return Verdict(can=False, sentence=sentence, laptop=interfaces[0])


def _narrower(mine: IPv4Network, other: IPv4Network | None) -> IPv4Network:
    return other if other is not None and other.prefixlen > mine.prefixlen else mine
