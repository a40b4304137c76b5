"""The devices that are to be commissioned, in working order."""

from dataclasses import dataclass
from ipaddress import IPv4Interface

from askport.core.addresses import MacAddress
from askport.core.plan.target import Target


@dataclass(frozen=True, slots=True, kw_only=True)
class WorkItem:
    """One device of the work list."""

    tag: str
    description: str = ""
    target: Target | None = None
    """None where the technician decides on the spot."""
    delivered: IPv4Interface | None = None
    """The address that its label or manual gives, if any."""
    mac: MacAddress | None = None
    """From its label, if it was written down."""
    ports: tuple[int, ...] = ()
    """TCP ports that must open in the end."""
