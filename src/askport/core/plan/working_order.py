"""The devices that are to be commissioned, in working order."""

import re
from dataclasses import dataclass, replace
from ipaddress import IPv4Interface

from askport.core import addresses, errors
from askport.core.plan.planned_device import PlannedDevice
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
    mac: addresses.MacAddress | None = None
    """From its label, if it was written down."""
    ports: tuple[int, ...] = ()
    """TCP ports that must open in the end."""
    planned: PlannedDevice | None = None
    """Its line of the job's plan, where it has one."""


MAX_TAG = 40
"""Characters: what fits on a label and in a column."""


def clean_tag(text: str) -> str:
    """Return a tag as it is kept.

    Raises:
        BadInput: it is empty, too long, or has characters that cannot be printed.
    """
    tag = " ".join(text.split())
    if not tag or len(tag) > MAX_TAG or not tag.isprintable():
        raise errors.BadInput("A tag has 1 to {max_tag} printable characters, such as TG-01.", max_tag=MAX_TAG)
    return tag


def following(item: WorkItem) -> WorkItem:
    """Return the next device of a crate: the tag's number and the address counted on by one.

    The gateway's address is passed over. The address is left open where the next one cannot be a host's.
    """
    target = item.target
    if target:
        by = 2 if target.interface.ip + 1 == target.gateway else 1
        onward = IPv4Interface((target.interface.ip + by, target.interface.network.prefixlen))
        fits = onward.network == target.interface.network and not addresses.host_fault(onward)
        target = replace(target, interface=onward) if fits else None
    number = re.search(r"\d+(?=\D*$)", item.tag)
    tag = item.tag
    if number:
        counted = str(int(number[0]) + 1).zfill(len(number[0]))
        tag = f"{tag[: number.start()]}{counted}{tag[number.end() :]}"
    return replace(item, tag=tag, target=target, mac=None, planned=None)
