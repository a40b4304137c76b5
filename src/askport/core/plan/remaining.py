"""The work that is left of a plan: what was recorded before is not taken up again."""

from collections.abc import Collection, Iterable, Iterator
from ipaddress import IPv4Address

from askport.core.plan.site_plan import Plan
from askport.core.plan.working_order import WorkItem


def remaining(plan: Plan, recorded: Collection[str], left: Iterable[IPv4Address]) -> Iterator[WorkItem]:
    """Yield the planned devices that are not recorded yet, in working order.

    Args:
        plan: the site's.
        recorded: tags of devices that were recorded.
        left: addresses that devices have by now.
    """
    return (item for item in plan.work(left) if item.tag not in recorded)
