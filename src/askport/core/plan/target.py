"""What a device is meant to become, and every check of that before it is set."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from ipaddress import IPv4Address, IPv4Interface, IPv4Network

from askport.core.addresses import LINK_LOCAL, host_fault, host_fault_of, mask_of_prefix, transposed, usable_range
from askport.core.errors import BadInput


@dataclass(frozen=True, slots=True, kw_only=True)
class Pool:
    """The addresses that the site's DHCP server gives out, both ends included."""

    first: IPv4Address
    last: IPv4Address

    def __contains__(self, address: object) -> bool:
        return isinstance(address, IPv4Address) and self.first <= address <= self.last


@dataclass(frozen=True, slots=True, kw_only=True)
class Site:
    """The network that devices join."""

    name: str
    network: IPv4Network
    gateway: IPv4Address | None = None
    pools: tuple[Pool, ...] = ()
    reserved: tuple[Pool, ...] = ()
    """Ranges that are kept for something else."""
    dns: tuple[IPv4Address, ...] = ()

    def target_at(self, interface: IPv4Interface) -> "Target":
        """Return what a device of this network is to become at an address."""
        return Target(interface=interface, gateway=self.gateway, dns=self.dns)

    def pool_of(self, address: IPv4Address) -> Pool | None:
        """Return the pool that an address lies in, or None."""
        return next((each for each in self.pools if address in each), None)


def site_among(sites: Sequence[Site], address: IPv4Address) -> Site | None:
    """Return the network that an address joins: the smallest that it lies in, or the first there is."""
    around = [each for each in sites if address in each.network]
    return max(around, key=lambda each: each.network.prefixlen) if around else next(iter(sites), None)


@dataclass(frozen=True, slots=True, kw_only=True)
class Target:
    """The final settings of one device."""

    interface: IPv4Interface
    gateway: IPv4Address | None = None
    dns: tuple[IPv4Address, ...] = ()

    def moved_to(self, interface: IPv4Interface) -> "Target":
        """Return the same values at another address."""
        return replace(self, interface=interface)

    def typed(self) -> list[tuple[str, str]]:
        """Return the values as a person types them into a page or keypad, with the usual names of the fields."""
        rows = [
            ("IP address", str(self.interface.ip)),
            ("Subnet mask", str(mask_of_prefix(self.interface.network.prefixlen))),
        ]
        if self.gateway:
            rows.append(("Default gateway", str(self.gateway)))
        rows += [(f"DNS server {place}", str(address)) for place, address in enumerate(self.dns, 1)]
        return rows


@dataclass(frozen=True, slots=True, kw_only=True)
class TargetCheck:
    """One check of a planned value."""

    about: str
    passed: bool
    sentence: str


def check_target(
    target: Target,
    site: Site | None = None,
    used: Mapping[IPv4Address, str] | None = None,
    planned: Mapping[IPv4Address, str] | None = None,
) -> list[TargetCheck]:
    """Return every check of the planned values, passed or not; the caller decides nothing on a failed one.

    Args:
        site: the network it joins, where it is known.
        used: addresses of the register that other devices have, with their tags.
        planned: addresses that other devices are to get, with their tags.
    """
    checks = [_check_host(target), _check_gateway(target), _check_dns(target)]
    if site:
        checks.append(_check_site(target, site))
        checks += _check_ranges(target.interface.ip, site)
    checks.append(_check_others(target.interface.ip, used or {}, planned or {}))
    return checks


def _check_ranges(address: IPv4Address, site: Site) -> list[TargetCheck]:
    checks = []
    for about, ranges, name, why in (
        ("pool", site.pools, "the DHCP pool", "the server will give it to something else"),
        ("reserved", site.reserved, "the reserved range", "it is kept for something else"),
    ):
        if not ranges:
            continue
        inside = next((each for each in ranges if address in each), None)
        where = " and ".join(f"{each.first} to {each.last}" for each in ([inside] if inside else ranges))
        sentence = f"{address} lies in {name} {where}: {why}." if inside else f"Outside {name} {where}."
        checks.append(TargetCheck(about=about, passed=not inside, sentence=sentence))
    return checks


def _check_others(
    address: IPv4Address, used: Mapping[IPv4Address, str], planned: Mapping[IPv4Address, str]
) -> TargetCheck:
    if tag := used.get(address):
        return TargetCheck(about="register", passed=False, sentence=f"{tag} already has it.")
    if tag := planned.get(address):
        return TargetCheck(about="register", passed=False, sentence=f"{address} is planned for {tag}.")
    return TargetCheck(about="register", passed=True, sentence="No other device of this job has it.")


def _check_dns(target: Target) -> TargetCheck:
    for each in target.dns:
        if fault := host_fault_of(each):
            return TargetCheck(about="DNS", passed=False, sentence=f"{each} cannot be a DNS server: {fault}.")
        if each == target.interface.ip:
            return TargetCheck(
                about="DNS", passed=False, sentence=f"{each} is the DNS server: the device cannot have it."
            )
    sentence = "Addresses that hosts can have." if target.dns else "No servers: it looks up no names."
    return TargetCheck(about="DNS", passed=True, sentence=sentence)


def require_sound(target: Target) -> None:
    """Refuse values that no device can have.

    Raises:
        BadInput: with the sentence of the first check that failed.
    """
    for check in check_target(target):
        if not check.passed:
            raise BadInput(check.sentence)


def _check_host(target: Target) -> TargetCheck:
    address, fault = target.interface.ip, host_fault(target.interface)
    if fault is None and address in LINK_LOCAL:
        fault = "169.254.0.0/16 is a device's fallback and may change at every start, so it is never a final address"
    if fault:
        return TargetCheck(
            about="address", passed=False, sentence=f"{target.interface} cannot be its address: {fault}."
        )
    sentence = (
        f"A host address of {target.interface.network}, whose hosts are {usable_range(target.interface.network)}."
    )
    return TargetCheck(about="address", passed=True, sentence=sentence)


def _check_gateway(target: Target) -> TargetCheck:
    gateway, network = target.gateway, target.interface.network
    if gateway is None:
        return TargetCheck(about="gateway", passed=True, sentence="No gateway: it talks inside its own subnet only.")
    if gateway == target.interface.ip:
        sentence = "Its own address, as devices want it that insist on a gateway where the site has none."
        return TargetCheck(about="gateway", passed=True, sentence=sentence)
    if gateway not in network:
        return TargetCheck(about="gateway", passed=False, sentence=_outside(target, gateway))
    if fault := host_fault_of(gateway, network.prefixlen):
        return TargetCheck(about="gateway", passed=False, sentence=f"{gateway} cannot be its gateway: {fault}.")
    return TargetCheck(about="gateway", passed=True, sentence=f"Inside {network}.")


def _outside(target: Target, gateway: IPv4Address) -> str:
    network, address = target.interface.network, target.interface.ip
    sentence = f"Gateway {gateway} is outside the subnet {network} of {address}, so it could not reach it"
    if meant := transposed(gateway, network):
        return f"{sentence}: was {meant} meant (digits swapped)?"
    around = IPv4Network((int(gateway), network.prefixlen), strict=False)
    if meant := transposed(address, around):
        return f"{sentence}: was the address {meant} meant (digits swapped)?"
    return f"{sentence}: name one from {usable_range(network)}."


def _check_site(target: Target, site: Site) -> TargetCheck:
    address = target.interface.ip
    servers = dict.fromkeys(site.dns, "DNS server") | ({site.gateway: "gateway"} if site.gateway else {})
    if role := servers.get(address):
        return TargetCheck(
            about="site", passed=False, sentence=f"{address} is the site's {role}: the device cannot have it."
        )
    if target.interface.network == site.network:
        return TargetCheck(about="site", passed=True, sentence=f"The site's own subnet {site.network}.")
    if address in site.network:
        sentence = f"The site's mask is /{site.network.prefixlen}, not /{target.interface.network.prefixlen}."
        return TargetCheck(about="site", passed=False, sentence=sentence)
    meant = transposed(address, site.network)
    hint = f" Was {meant} meant (digits swapped)?" if meant else ""
    return TargetCheck(
        about="site", passed=False, sentence=f"{address} is outside the site's subnet {site.network}.{hint}"
    )
