"""What an imported table changes about a plan: shown first, and then written down."""

from collections.abc import Sequence
from dataclasses import dataclass
from ipaddress import IPv4Network

from askport.core.plan import importing, site_plan
from askport.core.plan.planned_device import PlannedDevice
from askport.core.register.entries import DevicePlanned, Entry, SubnetPlanned


@dataclass(frozen=True, slots=True)
class Change:
    """One change, in a sentence; without an entry nothing is written for it."""

    sentence: str
    entry: Entry | None = None


def changes(plan: site_plan.Plan, imported: Sequence[importing.Imported], *, removes: bool = False) -> list[Change]:
    """Return what tables change: new, changed, and those that are in none of them any more.

    Args:
        removes: whether devices that the file does not have are taken out.
    """
    found: list[Change | None] = []
    for subnet in (subnet for each in imported for subnet in each.subnets):
        # The devices of a file name their subnet by their prefixes, and a sheet of its own says more of it.
        known = {entry.subnet.network: entry.subnet for each in found if each and (entry := _planned(each))}
        change = _subnet(plan, subnet, known.get(subnet.network))
        if change and (entry := _planned(change)):
            found = [each for each in found if not each or _network(each) != entry.subnet.network]
        found.append(change)
    devices = [device for each in imported for device in each.devices]
    found += [_device(plan, device) for device in devices]
    if devices:
        tags = {each.tag for each in devices}
        for device in plan.devices:
            if device.tag in tags:
                continue
            if removes:
                found.append(Change(f"{device.tag} is taken out.", DevicePlanned(device=device, removed=True)))
            else:
                found.append(Change(f"{device.tag} is not in the file: it stays planned."))
    return [each for each in found if each]


def _planned(change: Change) -> SubnetPlanned | None:
    return change.entry if isinstance(change.entry, SubnetPlanned) else None


def _network(change: Change) -> IPv4Network | None:
    return entry.subnet.network if (entry := _planned(change)) else None


def _subnet(plan: site_plan.Plan, subnet: site_plan.Subnet, also: site_plan.Subnet | None) -> Change | None:
    before = next((each for each in plan.subnets if each.network == subnet.network), None)
    subnet = _with(also, subnet) if also else subnet
    if before is None:
        return Change(f"The subnet {subnet.network} is new.", SubnetPlanned(subnet=subnet))
    merged = _with(before, subnet)
    if merged == before:
        return None
    return Change(f"The subnet {subnet.network}: {_differences(before, merged)}.", SubnetPlanned(subnet=merged))


def _with(before: site_plan.Subnet, said: site_plan.Subnet) -> site_plan.Subnet:
    """Return a subnet after more was said of it; what is not said stays as it is."""
    return before.model_copy(update={name: value for name, value in dict(said).items() if value not in (None, ())})


def _device(plan: site_plan.Plan, device: PlannedDevice) -> Change | None:
    before = plan.by_tag.get(device.tag)
    if before is None:
        return Change(f"{device.tag} is new: {_words(device)}.", DevicePlanned(device=device))
    if before == device:
        return None
    return Change(f"{device.tag}: {_differences(before, device)}.", DevicePlanned(device=device))


def _words(device: PlannedDevice) -> str:
    if device.address:
        return f"{device.address}/{device.prefix}" if device.prefix is not None else str(device.address)
    return f"the next free one of {device.within}" if device.within else "its address is decided on the spot"


def _differences(before: PlannedDevice | site_plan.Subnet, now: PlannedDevice | site_plan.Subnet) -> str:
    old, new = dict(before), dict(now)
    parts = []
    for name, value in new.items():
        if name == "columns":
            heads = dict.fromkeys((*old[name], *value))
            parts += [
                f"{head} {_shown(old[name].get(head))} becomes {_shown(value.get(head))}"
                for head in heads
                if old[name].get(head) != value.get(head)
            ]
        elif value != old[name]:
            parts.append(f"{name} {_shown(old[name])} becomes {_shown(value)}")
    return "; ".join(parts)


def _shown(value: object) -> str:
    if isinstance(value, tuple):
        return ", ".join(map(str, value)) or "none"
    return "none" if value in (None, "") else str(value)
