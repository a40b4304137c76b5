"""One cable as the laptop sees it: what outlives the device at its other end."""

from collections.abc import Callable, Collection, Mapping, MutableMapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from ipaddress import IPv4Address, IPv4Interface

from askport.core import addresses, machine, wire
from askport.core.crew.in_hand import ALONE, Others
from askport.core.finding import finder, search
from askport.core.kinds.model import Kind
from askport.core.plan import target, working_order
from askport.core.reach.laptop import Laptop
from askport.core.register.known import Known
from askport.core.ways.log_in import LogIn

_SHUTS_S = 10.0
"""How soon after a second MAC address a port goes down that takes one only."""


@dataclass(frozen=True, kw_only=True)
class Surroundings:
    """What the job knows beside the device at hand."""

    sites: Sequence[target.Site] = ()
    """The networks that devices join."""
    used: Mapping[IPv4Address, addresses.MacAddress]
    """Addresses of the register with the MAC addresses of those that were left with them."""
    rows: Sequence[working_order.WorkItem] = ()
    """Every device of the job, recorded or not."""
    known: Mapping[addresses.MacAddress, Known]
    """Devices that the register has already."""
    found_before: Sequence[tuple[str | None, IPv4Address]] = ()
    """Makers and addresses of devices that were found earlier, the latest last."""
    laptop_before: Collection[IPv4Address] = ()
    """Addresses that the laptop had borrowed for devices before this one."""
    others: Callable[[], Others] = lambda: ALONE
    """Tells what the others of the crew have in hand now."""
    maker: Callable[[addresses.MacAddress], str | None] = lambda _: None
    """Names the maker of a MAC address."""
    kinds: Sequence[Kind] = ()
    """What is known of devices of one kind, the nearest to the job first."""
    log_ins: MutableMapping[str, LogIn] = field(default_factory=dict)
    """What kinds are entered with, by their names; only for as long as the program runs."""
    serial_lines: MutableMapping[str, str] = field(default_factory=dict)
    """On which serial line the consoles of kinds are, by their names."""

    @cached_property
    def planned(self) -> dict[IPv4Address, str]:
        """Addresses that devices of the job are to get, with their tags."""
        return {each.target.interface.ip: each.tag for each in self.rows if each.target}

    def row_of(self, tag: str) -> working_order.WorkItem | None:
        """Return the device of the job with a tag, however it is written."""
        return next((each for each in self.rows if each.tag.casefold() == tag.casefold()), None)

    def tag_of(self, mac: addresses.MacAddress) -> str:
        """Return the tag that the register has for a device, or its MAC address."""
        known = self.known.get(mac)
        return known.tag if known and known.tag else str(mac)

    def in_pool(self, interface: IPv4Interface) -> bool:
        """Whether the site's server may give this address to somebody."""
        return any(each.pool_of(interface.ip) for each in self.sites)

    def site_of(self, address: IPv4Address) -> target.Site | None:
        """Return the network that an address joins: the smallest that it lies in, or the first there is."""
        return target.site_among(self.sites, address)


class Cable:
    """The laptop's end, who is heard at the other, and which of them is looked for."""

    def __init__(
        self,
        laptop: Laptop,
        link: wire.Link,
        surroundings: Surroundings,
        *,
        label_mac: addresses.MacAddress | None,
        delivered: IPv4Address | None,
        now: float,
        xid: machine.Xid,
    ) -> None:
        """Begin to hear.

        Args:
            label_mac: the MAC address of the device that is meant, where it is known.
            delivered: the address that it was delivered with, where it is known.
        """
        self.laptop, self.link, self.around, self.xid = laptop, link, surroundings, xid
        self.began_at = now
        self.elsewhere: set[IPv4Address] = set()
        """Addresses that are borrowed beside the adapter by others than this visit."""
        self.shut_at_beside = 0
        """How often the link has gone down just after the laptop's second MAC address was shown."""
        self.laptop_was = {each.ip for each in laptop.own} | set(surroundings.laptop_before)
        """Addresses that the laptop has or had: who looks for one of them was made to."""
        self.finder = finder.Finder(laptop.macs, now=now)
        self.finder.laptop_addresses |= self.laptop_was
        self.finder.own_addresses = lambda: [each.ip for each in (laptop.own if laptop.is_beside else laptop.addresses)]
        self.finder.somebodys = self.somebodys
        self.search = search.Search(
            self.finder,
            label_mac=label_mac,
            delivered=delivered,
            found_before=surroundings.found_before,
            maker=surroundings.maker,
        )
        self.search.speed_mbps = lambda: self.link.speed_mbps

    @property
    def had_link(self) -> bool:
        """Whether there has been a link since it was begun to hear, if only one that has gone."""
        return self.link.since > self.began_at

    def link_changed(self, link: wire.Link, now: float) -> None:
        """Take in that the link went up or down."""
        shown = self.laptop.borrowed_at if self.laptop.is_beside else None
        if not link.up and shown is not None and now - max(shown, self.link.since) <= _SHUTS_S:
            self.shut_at_beside += 1
        self.link = link
        self.finder.link_changed(link, now)

    def borrowed(self, interface: IPv4Interface, now: float) -> bool:
        """Take in that an address was borrowed; say whether it is a new one, and not one that was put back."""
        if not self.laptop.take(interface, now):
            return False
        self.finder.laptop_addresses.add(interface.ip)
        self.laptop_was.add(interface.ip)
        return True

    def somebodys(self) -> set[IPv4Address]:
        """Return the addresses that are somebody's, heard, left or planned: the laptop borrows none of them."""
        heard = [belief for device in self.finder.devices() for belief in device.addresses]
        found = {each.address for each in heard} | {each.gateway for each in heard if each.gateway}
        found |= self.around.planned.keys() | self.around.used.keys() | self.elsewhere
        found |= self.around.others().addresses.keys() | self.around.others().dealt.keys()
        for site in self.around.sites:
            found |= {*site.dns, *filter(None, (site.gateway,))}
        return found
