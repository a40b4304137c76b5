"""Rows of a table that can be read and cannot be right: beside other rows, and in the plan that they come to."""

from collections.abc import Iterator, Sequence
from ipaddress import IPv4Address, IPv4Network

from askport.core.addresses import MacAddress
from askport.core.phrases import phrase
from askport.core.plan import importing, site_plan
from askport.core.plan.planned_device import PlannedDevice


def move_bad_rows(plan: site_plan.Plan, tables: Sequence[importing.Imported], *, new_subnet: bool = False) -> None:
    """Put rows among the bad ones that have what another has, or lie where nothing is planned.

    Args:
        new_subnet: whether rows may make subnets beside those that are planned.
    """
    tags = {each.tag for table in tables for each in table.devices}
    holders: dict[IPv4Address | MacAddress, str] = {}
    for device in plan.devices:
        if device.tag not in tags:
            holders |= dict.fromkeys(_own(device), phrase("{tag}, which is planned", tag=device.tag))
    said = [each for table in tables if table.is_subnets for each in table.subnets]
    subnets = [each.network for each in (*plan.subnets, *said)]
    for table in tables:
        good = []
        for device in table.devices:
            line = table.lines.get(device.tag, 0)
            if why := next(_faults(device, holders, plan), ""):
                table.bad.append(importing.BadRow(line, why))
            elif device.address and subnets and not new_subnet and not any(device.address in each for each in subnets):
                text = phrase(
                    "{tag}: {address} lies in no subnet of the plan: correct it, or say --new-subnet.",
                    tag=device.tag,
                    address=device.address,
                )
                table.bad.append(importing.BadRow(line, text))
            else:
                holders |= dict.fromkeys(_own(device), phrase("{tag}, line {line}", tag=device.tag, line=line))
                good.append(device)
        table.devices, table.subnets = good, table.subnets if table.is_subnets else importing.subnets_of(good)
        table.bad.sort(key=lambda each: each.line)


def _own(device: PlannedDevice) -> Iterator[IPv4Address | MacAddress]:
    yield from filter(None, (device.address, device.mac))


def _faults(device: PlannedDevice, holders: dict[IPv4Address | MacAddress, str], plan: site_plan.Plan) -> Iterator[str]:
    """Yield why a row cannot be right."""
    for each in _own(device):
        if holder := holders.get(each):
            yield phrase(
                "{tag}: {each} is that of {holder}: give each its own.", tag=device.tag, each=each, holder=holder
            )
    subnet = plan.subnet_of(device.address) if device.address else None
    network = subnet.network if subnet else None
    if device.address and device.prefix is not None:
        network = IPv4Network((int(device.address), device.prefix), strict=False)
    if device.gateway and network and device.gateway not in network:
        yield phrase(
            "{tag}: its gateway {gateway} lies outside its subnet {network}: correct one of them.",
            tag=device.tag,
            gateway=device.gateway,
            network=network,
        )
