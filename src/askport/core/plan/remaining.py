"""The work that is left of a plan: what was recorded before is not taken up again."""

from collections.abc import Iterable, Iterator

from askport.core.plan.site_plan import Plan
from askport.core.plan.work import WorkItem
from askport.core.register.fold import Row


def remaining(plan: Plan, rows: Iterable[Row]) -> Iterator[WorkItem]:
    """Yield the planned devices that are not recorded yet, in working order."""
    kept = list(rows)
    recorded = {row.tag for row in kept if row.last.recorded_at}
    for item in plan.work(row.left for row in kept if row.left):
        if item.tag not in recorded:
            yield item
