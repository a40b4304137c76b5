"""Can they talk: both ends must take each other for a neighbour, each by its own mask."""

from collections.abc import Iterable
from dataclasses import dataclass
from ipaddress import IPv4Address, IPv4Interface, IPv4Network

from askport.core.addresses import common_prefix
from askport.core.phrases import phrase


@dataclass(frozen=True, slots=True, kw_only=True)
class Verdict:
    """Whether two ends can talk, and in one sentence why or why not."""

    can: bool
    sentence: str
    laptop: IPv4Interface | None = None
    """The laptop's address that is used, or the one that comes closest."""
    waits: bool = False
    """Whether nothing is in the way: an address was given back, or is only borrowed yet."""


def can_talk(laptop: Iterable[IPv4Interface], device: IPv4Address, prefix: int | None) -> Verdict:
    """Judge whether any of the laptop's addresses can talk with a device without a router between them.

    Args:
        prefix: its prefix length, or None where it is not known: then only the laptop's side is judged.
    """
    interfaces = list(laptop)
    if not interfaces:
        return Verdict(can=False, sentence=phrase("cannot talk: the laptop has no address on this adapter"))
    network = IPv4Network((int(device), prefix), strict=False) if prefix is not None else None
    for mine in interfaces:
        if mine.ip == device:
            return Verdict(
                can=False, sentence=phrase("cannot talk: the laptop itself has {device}", device=device), laptop=mine
            )
    for mine in interfaces:
        if device in mine.network and (network is None or mine.ip in network):
            return Verdict(
                can=True,
                sentence=phrase("can talk: both are in {narrower}", narrower=_narrower(mine.network, network)),
                laptop=mine,
            )
    for mine in interfaces:
        if device in mine.network:
            sentence = phrase(
                "cannot talk: the device is in {network} and sends its answers for {ip} to a gateway",
                network=network,
                ip=mine.ip,
            )
            return Verdict(can=False, sentence=sentence, laptop=mine)
        if network and mine.ip in network:
            sentence = phrase(
                "cannot talk: the laptop's {mine} leaves out {device}; the device's mask is /{prefix}",
                mine=mine,
                device=device,
                prefix=prefix,
            )
            return Verdict(can=False, sentence=sentence, laptop=mine)
    where = phrase("in {network}", network=network) if network else phrase("at {device}", device=device)
    sentence = phrase("cannot talk: laptop is in {network}, device {where}", network=interfaces[0].network, where=where)
    return Verdict(can=False, sentence=sentence, laptop=interfaces[0])


def _narrower(mine: IPv4Network, other: IPv4Network | None) -> IPv4Network:
    return other if other is not None and other.prefixlen > mine.prefixlen else mine


@dataclass(frozen=True, slots=True, kw_only=True)
class Explanation:
    """Why two ends can or cannot talk, bit by bit."""

    agree: int
    """Leading bits in which the two addresses agree."""
    laptop_sends: bool
    """Whether the laptop takes the device for a neighbour, by its own mask."""
    device_answers: bool | None
    """Whether the device takes the laptop for one, by its; None where its mask is not known."""
    lines: tuple[str, ...]
    against: tuple[str, ...]
    """Those of the lines that say why they cannot."""

    @property
    def can(self) -> bool:
        """Whether both can."""
        return self.laptop_sends and self.device_answers is not False


def explain(
    laptop: IPv4Interface, device: IPv4Address, prefix: int | None, gateway: IPv4Address | None = None
) -> Explanation:
    """Say in words and numbers whether these two ends can talk without a router between them."""
    agree = common_prefix(laptop.ip, device)
    mine = laptop.network.prefixlen
    sends = device in laptop.network
    lines = [_parts(phrase("The laptop's"), laptop)]
    if prefix is None:
        answers = None
        lines.append(phrase("The device's {device}: its mask is not known.", device=device))
    else:
        far = IPv4Interface((device, prefix))
        answers = laptop.ip in far.network
        lines.append(_parts(phrase("The device's"), far))
    needs = (
        phrase("the laptop's mask requires {mine} equal bits", mine=mine)
        if prefix is None
        else phrase("the laptop's mask requires {mine} equal bits, the device's {prefix}", mine=mine, prefix=prefix)
    )
    both = (
        phrase("agree in their first {agree} bits", agree=agree) if agree else phrase("differ from their first bit on")
    )
    lines.append(phrase("The two addresses {both}; {needs}.", both=both, needs=needs))
    against = []
    if sends:
        lines.append(phrase("By its mask, the laptop sees the device in its subnet: it sends straight to it."))
    else:
        against.append(
            phrase("By its mask, the laptop sees the device as outside its subnet: it sends to a gateway, if any.")
        )
    if answers is True:
        lines.append(phrase("By its mask, the device sees the laptop in its subnet: it replies straight to it."))
    elif answers is False:
        where = phrase("its gateway {gateway}", gateway=gateway) if gateway else phrase("its gateway, if any")
        against.append(
            phrase(
                "By its mask, the device sees the laptop as outside its subnet: it replies via {where}.", where=where
            )
        )
    return Explanation(
        agree=agree, laptop_sends=sends, device_answers=answers, lines=(*lines, *against), against=tuple(against)
    )


def _parts(whose: str, interface: IPv4Interface) -> str:
    network = interface.network
    host = IPv4Address(int(interface.ip) & int(network.hostmask))
    return phrase(
        "{whose} {interface}: network {network_address}, host {host}, broadcast {broadcast_address}.",
        whose=whose,
        interface=interface,
        network_address=network.network_address,
        host=host,
        broadcast_address=network.broadcast_address,
    )
