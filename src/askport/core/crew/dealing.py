"""Free addresses are dealt out beforehand, so that two laptops that are offline never give the same one."""

from collections.abc import Collection, Iterable, Iterator
from ipaddress import IPv4Address, IPv4Network
from itertools import islice
from typing import NamedTuple

from askport.core.plan import site_plan, target

_ALL = IPv4Network("0.0.0.0/0")
BLOCK = 16
"""Free addresses that each member holds of each area."""


class Area(NamedTuple):
    """A subnet, or a range of one that the plan takes addresses from."""

    site: target.Site
    first: int
    last: int

    def __contains__(self, address: object) -> bool:
        return isinstance(address, IPv4Address) and self.first <= int(address) <= self.last

    def free(self, taken: Collection[IPv4Address]) -> Iterator[IPv4Address]:
        """Yield addresses that are nobody's, lowest first, outside pools and whatever is reserved."""
        site = self.site
        ours = {*site.dns, *([site.gateway] if site.gateway else [])}
        for number in range(self.first, self.last + 1):
            address = IPv4Address(number)
            kept = site.pool_of(address) or any(address in each for each in site.reserved)
            if not kept and address not in ours and address not in taken:
                yield address


def areas_of(plan: site_plan.Plan) -> list[Area]:
    """Return where devices of a plan may get an address of their own choosing."""
    areas = []
    for site in plan.sites:
        network = site.network
        inside = int(network.prefixlen < 31)
        areas.append(Area(site, int(network[0]) + inside, int(network[-1]) - inside))
    for within in dict.fromkeys(each.within for each in plan.devices if each.within and each.address is None):
        site = next((each for each in plan.sites if within.first in each.network), target.Site(name="", network=_ALL))
        areas.append(Area(site, int(within.first), int(within.last)))
    return areas


def to_deal(
    areas: Iterable[Area], taken: Collection[IPv4Address], held: Collection[IPv4Address], dealt: Collection[IPv4Address]
) -> list[IPv4Address]:
    """Return what a member asks for, so that it holds a whole block of each area.

    Args:
        areas: where addresses are free to be given.
        taken: addresses that are planned, used, or somebody's otherwise.
    """
    wanted: list[IPv4Address] = []
    for area in areas:
        has = sum(each in area and each not in taken for each in (*held, *wanted))
        wanted += islice(area.free({*taken, *dealt, *wanted}), max(0, BLOCK - has))
    return wanted
