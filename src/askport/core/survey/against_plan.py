"""Who holds which planned address, and who else is there."""

from collections.abc import Collection, Iterable, Mapping
from dataclasses import dataclass
from ipaddress import IPv4Address

from askport.core.addresses import MacAddress
from askport.core.finding import calling, clues, loudness
from askport.core.finding.finder import Finder
from askport.core.phrases import phrase
from askport.core.plan.site_plan import Plan

MOST_ASKED = 1024
"""Addresses of a subnet that are all asked for; of larger ones only those that are planned."""


@dataclass(frozen=True, slots=True)
class Surveyed:
    """One planned device beside what the network shows."""

    tag: str
    address: IPv4Address | None
    state: str
    """``free``, ``as-left``, ``held-by-another``, ``missing`` or ``not-asked``."""
    mac: MacAddress | None
    """Who answers there."""
    sentence: str


@dataclass(frozen=True, slots=True)
class Standing:
    """What the register has of one device."""

    mac: MacAddress
    left: IPv4Address | None
    """Where it was left; None where it is not recorded."""


def to_ask(plan: Plan, standings: Iterable[Standing]) -> list[IPv4Address]:
    """Return the addresses that a survey asks for: whole subnets where they are small, and all that are planned."""
    asked = dict.fromkeys(
        IPv4Address(number)
        for subnet in plan.subnets
        if subnet.network.num_addresses <= MOST_ASKED
        for number in range(int(subnet.network.network_address) + 1, int(subnet.network.broadcast_address))
    )
    asked |= dict.fromkeys(each.address for each in plan.devices if each.address)
    asked |= dict.fromkeys(each.left for each in standings if each.left)
    asked |= dict.fromkeys(each.gateway for each in plan.subnets if each.gateway)
    return list(asked)


def ask_all(finder: Finder, addresses: Iterable[IPv4Address], *, now: float, rate: float) -> None:
    """Have a finder ask for these addresses and no others, at a rate in questions a second."""
    finder.loudness = loudness.Loudness.CALL
    finder.calling = calling.Calling(finder.laptop_macs[0], addresses, now=now, rate=rate)


def holders_in(finder: Finder) -> dict[IPv4Address, set[MacAddress]]:
    """Return who showed to hold which address, for sure."""
    holders: dict[IPv4Address, set[MacAddress]] = {}
    for device in finder.devices():
        for belief in device.addresses:
            if belief.belief is clues.Belief.CERTAIN:
                holders.setdefault(belief.address, set()).add(device.mac)
    return holders


def against_plan(
    plan: Plan,
    standings: Mapping[str, Standing],
    holders: Mapping[IPv4Address, Collection[MacAddress]],
    asked: Collection[IPv4Address],
) -> list[Surveyed]:
    """Return each planned device with what holds its address.

    Args:
        standings: what the register has of devices, by their tags.
        asked: what was asked for; of all else nothing is known.
    """
    tag_of = {each.mac: tag for tag, each in standings.items()}
    found = []
    for device in plan.devices:
        standing = standings.get(device.tag)
        left = standing.left if standing else None
        address, known = left or device.address, standing.mac if standing else device.mac
        there = list(holders.get(address, ())) if address else []
        if address is None or address not in asked:
            state, mac, text = (
                "not-asked",
                None,
                phrase("has no address yet")
                if address is None
                else phrase("{address} was not asked for", address=address),
            )
        elif known in there and len(there) == 1:
            words = (
                phrase("is there as it was left") if left else phrase("is there by its label, and is not recorded yet")
            )
            state, mac, text = "as-left", known, f"{words}: {address}"
        elif there:
            other = next(each for each in there if each != known)
            who = f"{tag_of[other]}, {other}" if other in tag_of else str(other)
            state, mac, text = (
                "held-by-another",
                other,
                phrase(
                    "{address} is held by {who} as well" if known in there else "{address} is held by {who}",
                    address=address,
                    who=who,
                ),
            )
        elif left:
            state, mac, text = (
                "missing",
                None,
                phrase("was left at {address}, and nobody answers there", address=address),
            )
        else:
            state, mac, text = "free", None, phrase("{address} is free", address=address)
        found.append(Surveyed(device.tag, address, state, mac, f"{device.tag}: {text}."))
    return found


def gateways_said(plan: Plan, holders: Mapping[IPv4Address, Collection[MacAddress]]) -> list[str]:
    """Return a sentence for each planned gateway for which nobody answers."""
    gateways = [each.gateway for each in plan.subnets if each.gateway]
    return [
        phrase("Nobody answers for the planned gateway {each}.", each=each) for each in gateways if each not in holders
    ]
