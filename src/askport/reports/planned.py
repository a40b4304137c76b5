"""What the plan has of a device beside its addresses: place, kind, and whatever else its line said."""

from askport.core.plan import planned_device, site_plan


def planned_values(planned: planned_device.PlannedDevice | None) -> dict[str, str]:
    """Return them by their heads, those that are filled."""
    if planned is None:
        return {}
    told = {"place": planned.place, "kind": planned.kind, **planned.columns}
    return {head: text for head, text in told.items() if text}


def planned_heads(plan: site_plan.Plan) -> list[str]:
    """Return every head that any device of a plan has something under, in the order in which they first appear."""
    return list(dict.fromkeys(head for each in plan.devices for head in planned_values(each)))


def planned_words(planned: planned_device.PlannedDevice | None) -> str:
    """Return them as one line."""
    return ", ".join(f"{head}: {text}" for head, text in planned_values(planned).items())
