"""The plan of a site: its subnets, and the devices that are to join them, in working order."""

from collections.abc import Collection, Iterable, Iterator
from functools import cached_property
from ipaddress import IPv4Address, IPv4Interface, IPv4Network

from askport.core.plan import target, working_order
from askport.core.plan.planned_device import PlannedDevice, PlanPart, Range


class Subnet(PlanPart):
    """One network of the site."""

    network: IPv4Network
    gateway: IPv4Address | None = None
    dns: tuple[IPv4Address, ...] = ()
    pools: tuple[Range, ...] = ()
    """What the site's address server gives out."""
    reserved: tuple[Range, ...] = ()
    """What is kept for something else."""
    vlan: int | None = None


class Plan(PlanPart):
    """All of it."""

    name: str = ""
    subnets: tuple[Subnet, ...] = ()
    devices: tuple[PlannedDevice, ...] = ()

    @cached_property
    def by_tag(self) -> dict[str, PlannedDevice]:
        """The devices by their tags."""
        return {each.tag: each for each in self.devices}

    def subnet_of(self, address: IPv4Address) -> Subnet | None:
        """Return the smallest subnet that an address lies in, or None."""
        found = (each for each in self.subnets if address in each.network)
        return max(found, key=lambda each: each.network.prefixlen, default=None)

    def target_of(self, device: PlannedDevice) -> target.Target | None:
        """Return what a device is to become, as far as its line and its subnet say; None without address or prefix."""
        if device.address is None:
            return None
        subnet = self.subnet_of(device.address)
        prefix = device.prefix if device.prefix is not None else subnet.network.prefixlen if subnet else None
        if prefix is None:
            return None
        gateway = device.gateway or (subnet.gateway if subnet else None)
        dns = device.dns if device.dns is not None else subnet.dns if subnet else ()
        return target.Target(interface=IPv4Interface((int(device.address), prefix)), gateway=gateway, dns=dns)

    @cached_property
    def sites(self) -> tuple[target.Site, ...]:
        """The subnets as checks take them."""
        return tuple(
            target.Site(
                name=self.name,
                network=subnet.network,
                gateway=subnet.gateway,
                pools=tuple(each.pool for each in subnet.pools),
                reserved=tuple(each.pool for each in subnet.reserved),
                dns=subnet.dns,
            )
            for subnet in self.subnets
        )

    def next_address(
        self, device: PlannedDevice, taken: Iterable[IPv4Address], block: Collection[IPv4Address] | None = None
    ) -> IPv4Address | None:
        """Return the address of a device, or the next free one of its range; None where there is none left.

        Args:
            block: in a crew, the addresses that this laptop may give away; None for all.
        """
        if device.address or device.within is None:
            return device.address
        planned = {each.address for each in self.devices if each.address} | set(taken)
        subnet = self.subnet_of(device.within.first)
        avoid = [*subnet.pools, *subnet.reserved] if subnet else []
        for number in range(int(device.within.first), int(device.within.last) + 1):
            address = IPv4Address(number)
            is_ours = block is None or address in block
            if is_ours and address not in planned and not any(address in each for each in avoid):
                return address
        return None

    def work(
        self, taken: Iterable[IPv4Address] = (), block: Collection[IPv4Address] | None = None
    ) -> Iterator[working_order.WorkItem]:
        """Yield the devices as they are taken to the cable.

        Args:
            block: in a crew, the addresses that this laptop may give away; None for all.
        """
        used = set(taken)
        for device in self.devices:
            address = self.next_address(device, used, block)
            used |= {address} if address else set()
            yield self.item_of(device, address)

    def item_of(self, device: PlannedDevice, address: IPv4Address | None = None) -> working_order.WorkItem:
        """Return a device as it is taken to the cable, with the address that it gets of a range."""
        placed = device.model_copy(update={"address": address}) if address else device
        return working_order.WorkItem(
            tag=device.tag,
            description=", ".join(filter(None, (device.kind, device.place))),
            target=self.target_of(placed),
            mac=device.mac,
            planned=device,
        )


def remaining(
    plan: Plan, recorded: Collection[str], left: Iterable[IPv4Address], block: Collection[IPv4Address] | None = None
) -> Iterator[working_order.WorkItem]:
    """Yield the planned devices that are not recorded yet, in working order.

    Args:
        block: in a crew, the addresses that this laptop may give away; None for all.
    """
    return (item for item in plan.work(left, block) if item.tag not in recorded)
