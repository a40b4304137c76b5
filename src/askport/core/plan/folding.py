"""The plan as the journal has it: entries added up, in the order in which devices were first written down."""

from collections.abc import Iterable
from ipaddress import IPv4Network

from askport.core.plan import planned_device, site_plan
from askport.core.register.entries import DevicePlanned, Entry, SubnetPlanned


def plan_of(entries: Iterable[Entry], name: str = "") -> site_plan.Plan:
    """Return the plan after these entries; others than those of the plan are passed over."""
    return planned_after(site_plan.Plan(name=name), entries)


def planned_after(plan: site_plan.Plan, entries: Iterable[Entry]) -> site_plan.Plan:
    """Return what a plan becomes by more entries."""
    subnets: dict[IPv4Network, site_plan.Subnet] = {each.network: each for each in plan.subnets}
    devices: dict[str, planned_device.PlannedDevice] = dict(plan.by_tag)
    for entry in entries:
        match entry:
            case SubnetPlanned(removed=True):
                subnets.pop(entry.subnet.network, None)
            case SubnetPlanned():
                subnets[entry.subnet.network] = entry.subnet
            case DevicePlanned(removed=True):
                devices.pop(entry.device.tag, None)
            case DevicePlanned():
                devices[entry.device.tag] = entry.device
    return site_plan.Plan(name=plan.name, subnets=tuple(subnets.values()), devices=tuple(devices.values()))
