"""What the plan has of a device beside its addresses: place, kind, and whatever else its line said."""

from askport.core.plan.planned_device import PlannedDevice
from askport.core.plan.site_plan import Plan


def planned_values(planned: PlannedDevice | None) -> dict[str, str]:
    """Return them by their heads, those that are filled."""
    if planned is None:
        return {}
    told = {"place": planned.place, "kind": planned.kind, **planned.columns}
    return {head: text for head, text in told.items() if text}


def planned_heads(plan: Plan) -> list[str]:
    """Return every head that any device of a plan has something under, in the order in which they first appear."""
    return list(dict.fromkeys(head for each in plan.devices for head in planned_values(each)))


def planned_words(planned: PlannedDevice | None) -> str:
    """Return them as one line."""
    return ", ".join(f"{head}: {text}" for head, text in planned_values(planned).items())
