"""Every check of a whole plan: one table, each finding a sentence that names both sides."""

import re
from collections import Counter
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from ipaddress import IPv4Address, IPv4Interface

from askport.core.addresses import LINK_LOCAL, transposed
from askport.core.plan import planned_device, site_plan
from askport.core.plan.target import Target, check_target, site_among
from askport.core.text import listed


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
            yield Finding("same-address", f"{listed(tags)} are all to be {address}: give each its own.", tuple(tags))
    for mac, tags in by_mac.items():
        if len(tags) > 1:
            yield Finding("same-mac", f"{listed(tags)} have the same label {mac}: one of them is wrong.", tuple(tags))


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
                yield Finding("no-address", f"{device.tag} has no address yet: it is decided on the spot.", tag, True)
            elif plan.subnet_of(device.within.first) is None:
                yield Finding("no-subnet", f"{device.tag}: {device.within} lies in no subnet of the plan: add it.", tag)
            elif plan.next_address(device, ()) is None:
                yield Finding("range-full", f"{device.tag}: nothing is left of {device.within}: name another.", tag)
            continue
        target = plan.target_of(device)
        if target is None:
            text = f"{device.tag}: {device.address} lies in no subnet of the plan, so its mask is not known: "
            meant = next((other for each in plan.subnets if (other := transposed(device.address, each.network))), None)
            slip = f"was {meant} meant (digits swapped)?" if meant else "add the subnet, or its prefix."
            yield Finding("no-subnet", text + slip, tag)
            continue
        if target.gateway == target.interface.ip:
            yield Finding("own-gateway", f"{device.tag} is to be its own gateway: is that meant?", tag, True)
        for check in check_target(target, site_among(plan.sites, device.address)):
            if not check.passed:
                yield Finding(check.about, f"{device.tag}: {check.sentence}", tag)


def _subnets(plan: site_plan.Plan) -> Iterator[Finding]:
    for place, subnet in enumerate(plan.subnets):
        for other in plan.subnets[place + 1 :]:
            if subnet.network.overlaps(other.network):
                text = f"The subnets {subnet.network} and {other.network} overlap: correct one of their prefixes."
                yield Finding("overlap", text)
        name = f"The subnet {subnet.network}"
        if subnet.gateway is None:
            yield Finding("no-gateway", f"{name} has no gateway: its devices reach nothing outside it.", (), True)
        elif subnet.gateway not in subnet.network:
            yield Finding(
                "gateway", f"{name} has the gateway {subnet.gateway}, which is outside it: correct one of them."
            )
        elif pool := next((each for each in subnet.pools if subnet.gateway in each), None):
            yield Finding("gateway", f"{name}: its gateway {subnet.gateway} lies in its pool {pool}: one is wrong.")
        for what, ranges in (("pool", subnet.pools), ("reserved range", subnet.reserved)):
            for each in ranges:
                if each.first not in subnet.network or each.last not in subnet.network:
                    yield Finding("range", f"{name}: its {what} {each} reaches outside it: correct one of them.")


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
                text = f"{tag} is to be {address}; the other {stem}… count on with their number: was {meant} meant?"
                yield Finding("numbering", text, (tag,), True)


CHECKS: tuple[Callable[[site_plan.Plan], Iterator[Finding]], ...] = (_subnets, _twice, _each_device, _numbering)
"""In the order in which their findings are told."""


def check_plan(plan: site_plan.Plan) -> list[Finding]:
    """Return everything that is wrong with a plan, or may be."""
    return [finding for check in CHECKS for finding in check(plan)]
