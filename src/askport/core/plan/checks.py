"""Every check of a whole plan: one table, each finding a sentence that names both sides."""

import re
from collections import Counter
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from ipaddress import IPv4Address, IPv4Interface

from askport.core.addresses import LINK_LOCAL, transposed
from askport.core.phrases import listed, phrase
from askport.core.plan import planned_device, site_plan
from askport.core.plan.target import Target, check_target, site_among


@dataclass(frozen=True, slots=True)
class Finding:
    """What is wrong with a plan, or may be."""

    code: str
    sentence: str
    tags: tuple[str, ...] = ()
    is_hint: bool = False
    """Whether it may be meant."""


def _twice(plan: site_plan.Plan) -> Iterator[Finding]:
    by_address: dict[IPv4Address, list[str]] = {}
    by_mac: dict[str, list[str]] = {}
    for each in plan.devices:
        if each.address:
            by_address.setdefault(each.address, []).append(each.tag)
        if each.mac:
            by_mac.setdefault(str(each.mac), []).append(each.tag)
    for address, tags in by_address.items():
        if len(tags) > 1:
            yield Finding(
                "same-address",
                phrase("{tags} are all to be {address}: give each its own.", tags=listed(tags), address=address),
                tuple(tags),
            )
    for mac, tags in by_mac.items():
        if len(tags) > 1:
            yield Finding(
                "same-mac",
                phrase("{tags} have the same label {mac}: one of them is wrong.", tags=listed(tags), mac=mac),
                tuple(tags),
            )


_WIDEST, _NARROWEST = 8, 30
"""Prefix lengths of subnets that lie in one range of addresses, and have a network and a broadcast address."""


class _Plain:
    """Devices of which can be seen by their numbers alone that no check finds anything: nearly all of a large plan."""

    def __init__(self, plan: site_plan.Plan) -> None:
        self._subnets = []
        for subnet in plan.subnets:
            network = subnet.network
            if not _WIDEST <= network.prefixlen <= _NARROWEST:
                continue
            first = IPv4Interface((int(network.network_address) + 1, network.prefixlen))
            if not any(other is not subnet and other.network.overlaps(network) for other in plan.subnets):
                # What is not the device's own address is checked once, on the first host of the subnet.
                target = Target(interface=first, gateway=subnet.gateway, dns=subnet.dns)
                taken = {*subnet.dns, *filter(None, (subnet.gateway,))}
                if first.ip not in taken and all(each.passed for each in check_target(target)):
                    ranges = [(int(each.first), int(each.last)) for each in (*subnet.pools, *subnet.reserved)]
                    self._subnets.append((subnet, set(map(int, taken)), ranges))

    def __contains__(self, device: object) -> bool:
        if not isinstance(device, planned_device.PlannedDevice) or device.address is None:
            return False
        number = int(device.address)
        for subnet, taken, ranges in self._subnets:
            network = subnet.network
            if not int(network.network_address) < number < int(network.broadcast_address):
                continue
            return (
                device.prefix in (None, network.prefixlen)
                and device.gateway in (None, subnet.gateway)
                and device.dns in (None, subnet.dns)
                and number not in taken
                and not any(first <= number <= last for first, last in ranges)
                and device.address not in LINK_LOCAL
            )
        return False


def _each_device(plan: site_plan.Plan) -> Iterator[Finding]:
    plain = _Plain(plan)
    for device in plan.devices:
        if device in plain:
            continue
        tag = (device.tag,)
        if device.address is None:
            if device.within is None:
                yield Finding(
                    "no-address",
                    phrase("{tag} has no address yet: it is decided on the spot.", tag=device.tag),
                    tag,
                    True,
                )
            elif plan.subnet_of(device.within.first) is None:
                yield Finding(
                    "no-subnet",
                    phrase(
                        "{tag}: {within} lies in no subnet of the plan: add it.", tag=device.tag, within=device.within
                    ),
                    tag,
                )
            elif plan.next_address(device, ()) is None:
                yield Finding(
                    "range-full",
                    phrase("{tag}: nothing is left of {within}: name another.", tag=device.tag, within=device.within),
                    tag,
                )
            continue
        target = plan.target_of(device)
        if target is None:
            meant = next((other for each in plan.subnets if (other := transposed(device.address, each.network))), None)
            text = (
                "{tag}: {address} lies in no subnet of the plan, so its mask is not known. Was {meant} "
                "meant (digits swapped)?"
                if meant
                else "{tag}: {address} lies in no subnet of the plan, so its mask is not known. Add the "
                "subnet, or its prefix."
            )
            yield Finding("no-subnet", phrase(text, tag=device.tag, address=device.address, meant=meant), tag)
            continue
        if target.gateway == target.interface.ip:
            yield Finding(
                "own-gateway", phrase("{tag} is to be its own gateway: is that meant?", tag=device.tag), tag, True
            )
        for check in check_target(target, site_among(plan.sites, device.address)):
            if not check.passed:
                yield Finding(check.about, f"{device.tag}: {check.sentence}", tag)


def _subnets(plan: site_plan.Plan) -> Iterator[Finding]:
    for place, subnet in enumerate(plan.subnets):
        for other in plan.subnets[place + 1 :]:
            if subnet.network.overlaps(other.network):
                text = phrase(
                    "The subnets {network} and {other_network} overlap: correct one of their prefixes.",
                    network=subnet.network,
                    other_network=other.network,
                )
                yield Finding("overlap", text)
        name = phrase("The subnet {network}", network=subnet.network)
        if subnet.gateway is None:
            yield Finding(
                "no-gateway",
                phrase("{name} has no gateway: its devices reach nothing outside it.", name=name),
                (),
                True,
            )
        elif subnet.gateway not in subnet.network:
            yield Finding(
                "gateway",
                phrase(
                    "{name} has the gateway {gateway}, which is outside it: correct one of them.",
                    name=name,
                    gateway=subnet.gateway,
                ),
            )
        elif pool := next((each for each in subnet.pools if subnet.gateway in each), None):
            yield Finding(
                "gateway",
                phrase(
                    "{name}: its gateway {gateway} lies in its pool {pool}: one is wrong.",
                    name=name,
                    gateway=subnet.gateway,
                    pool=pool,
                ),
            )
        for what, ranges in (("pool", subnet.pools), (phrase("reserved range"), subnet.reserved)):
            for each in ranges:
                if each.first not in subnet.network or each.last not in subnet.network:
                    yield Finding(
                        "range",
                        phrase(
                            "{name}: its {what} {each} reaches outside it: correct one of them.",
                            name=name,
                            what=what,
                            each=each,
                        ),
                    )


_COUNTED = re.compile(r"(.*?)(\d+)$")
_MEMBERS = 3
"""From how many devices on that count on alike a rule is seen."""


def _numbering(plan: site_plan.Plan) -> Iterator[Finding]:
    """Find the one whose address does not count on with its tag as those of the others do."""
    families: dict[tuple[str, int], list[tuple[str, int, IPv4Address]]] = {}
    for device in plan.devices:
        match = _COUNTED.match(device.tag)
        if match and device.address:
            family = match[1], int(device.address) >> 8
            families.setdefault(family, []).append((device.tag, int(match[2]), device.address))
    for (stem, _), members in families.items():
        steps = Counter(int(address) - number for _, number, address in members)
        step, often = steps.most_common(1)[0]
        if often < _MEMBERS or often == len(members):
            continue
        for tag, number, address in members:
            if int(address) - number != step:
                meant = IPv4Address(step + number)
                text = phrase(
                    "{tag} is to be {address}; the other {stem}… count on with their number: was {meant} meant?",
                    tag=tag,
                    address=address,
                    stem=stem,
                    meant=meant,
                )
                yield Finding("numbering", text, (tag,), True)


CHECKS: tuple[Callable[[site_plan.Plan], Iterator[Finding]], ...] = (_subnets, _twice, _each_device, _numbering)
"""In the order in which their findings are told."""


def check_plan(plan: site_plan.Plan) -> list[Finding]:
    """Return everything that is wrong with a plan, or may be."""
    return [finding for check in CHECKS for finding in check(plan)]
