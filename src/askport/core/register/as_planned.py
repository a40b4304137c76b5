"""The register held against the plan as it is now: a device is proven with its values, and not with its tag."""

from collections.abc import Iterable, Iterator

from askport.core.plan.site_plan import Plan
from askport.core.plan.target import Target
from askport.core.register.visits import Otherwise, Row, Visit


def held_against(plan: Plan, rows: Iterable[Row]) -> list[Row]:
    """Return rows that say what the plan has for them now and their last visit has not shown."""
    found = []
    for row in rows:
        planned = plan.by_tag.get(row.tag)
        target = plan.target_of(planned) if planned else None
        otherwise = tuple(_otherwise(row.last, target)) if target and row.last.recorded_at else ()
        found.append(row if otherwise == row.otherwise else row.model_copy(update={"otherwise": otherwise}))
    return found


def _otherwise(visit: Visit, target: Target) -> Iterator[Otherwise]:
    """Yield each value that is another one, or that nobody asked for; one that could not be shown is named already.

    Which DNS servers it has not every device tells: of one that keeps that to itself nothing is said to differ.
    """
    left = visit.as_left
    values = (
        ("address", target.interface.ip, left.address.value),
        ("mask", target.interface.network.prefixlen, left.prefix.value),
        ("gateway", target.gateway, left.gateway.value),
        ("dns", target.dns or None, left.dns.value),
    )
    for name, planned, value in values:
        is_shown = value is not None or (name != "dns" and name not in visit.proofs)
        if planned is not None and planned != value and is_shown:
            yield Otherwise(name=name, planned=_words(planned), left=_words(value))


def _words(value: object) -> str:
    if isinstance(value, tuple):
        return ", ".join(map(str, value)) or "none"
    return "" if value is None else str(value)
