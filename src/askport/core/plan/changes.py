"""What an imported table changes about a plan: shown first, and then written down."""

from collections.abc import Sequence
from dataclasses import dataclass
from ipaddress import IPv4Network

from askport.core.phrases import phrase
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
                found.append(
                    Change(phrase("{tag} is removed.", tag=device.tag), DevicePlanned(device=device, removed=True))
                )
            else:
                found.append(Change(phrase("{tag} is not in the file: it stays planned.", tag=device.tag)))
    return [each for each in found if each]


def _planned(change: Change) -> SubnetPlanned | None:
    return change.entry if isinstance(change.entry, SubnetPlanned) else None


def _network(change: Change) -> IPv4Network | None:
    return entry.subnet.network if (entry := _planned(change)) else None


def _subnet(plan: site_plan.Plan, subnet: site_plan.Subnet, also: site_plan.Subnet | None) -> Change | None:
    before = next((each for each in plan.subnets if each.network == subnet.network), None)
    subnet = _with(also, subnet) if also else subnet
    if before is None:
        return Change(phrase("The subnet {network} is new.", network=subnet.network), SubnetPlanned(subnet=subnet))
    merged = _with(before, subnet)
    if merged == before:
        return None
    return Change(
        phrase(
            "The subnet {network}: {differences}.", network=subnet.network, differences=_differences(before, merged)
        ),
        SubnetPlanned(subnet=merged),
    )


def _with(before: site_plan.Subnet, said: site_plan.Subnet) -> site_plan.Subnet:
    """Return a subnet after more was said of it; what is not said stays as it is."""
    return before.model_copy(update={name: value for name, value in dict(said).items() if value not in (None, ())})


def _device(plan: site_plan.Plan, device: PlannedDevice) -> Change | None:
    before = plan.by_tag.get(device.tag)
    if before is None:
        return Change(
            phrase("{tag} is new: {words}.", tag=device.tag, words=_words(device)), DevicePlanned(device=device)
        )
    if before == device:
        return None
    return Change(f"{device.tag}: {_differences(before, device)}.", DevicePlanned(device=device))


def _words(device: PlannedDevice) -> str:
    if device.address:
        return f"{device.address}/{device.prefix}" if device.prefix is not None else str(device.address)
    return (
        phrase("the next free one of {within}", within=device.within)
        if device.within
        else phrase("its address is decided on the spot")
    )


def _differences(before: PlannedDevice | site_plan.Subnet, now: PlannedDevice | site_plan.Subnet) -> str:
    old, new = dict(before), dict(now)
    parts = []
    for name, value in new.items():
        if name == "columns":
            heads = dict.fromkeys((*old[name], *value))
            parts += [
                phrase(
                    "{head} {shown} becomes {shown_2}",
                    head=head,
                    shown=_shown(old[name].get(head)),
                    shown_2=_shown(value.get(head)),
                )
                for head in heads
                if old[name].get(head) != value.get(head)
            ]
        elif value != old[name]:
            parts.append(
                phrase("{name} {shown} becomes {shown_2}", name=name, shown=_shown(old[name]), shown_2=_shown(value))
            )
    return "; ".join(parts)


def _shown(value: object) -> str:
    if isinstance(value, tuple):
        return ", ".join(map(str, value)) or "none"
    return "none" if value in (None, "") else str(value)
