"""What a device is meant to become, and every check of that before it is set."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from ipaddress import IPv4Address, IPv4Interface, IPv4Network

from askport.core.addresses import LINK_LOCAL, host_fault, host_fault_of, mask_of_prefix, transposed, usable_range
from askport.core.errors import BadInput
from askport.core.phrases import phrase, together


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
            (phrase("IP address"), str(self.interface.ip)),
            (phrase("Subnet mask"), str(mask_of_prefix(self.interface.network.prefixlen))),
        ]
        if self.gateway:
            rows.append((phrase("Default gateway"), str(self.gateway)))
        rows += [(phrase("DNS server {place}", place=place), str(address)) for place, address in enumerate(self.dns, 1)]
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
        ("pool", site.pools, phrase("the DHCP pool"), phrase("the server will give it to something else")),
        ("reserved", site.reserved, phrase("the reserved range"), phrase("it is kept for something else")),
    ):
        if not ranges:
            continue
        inside = next((each for each in ranges if address in each), None)
        where = " and ".join(
            phrase("{first} to {last}", first=each.first, last=each.last) for each in ([inside] if inside else ranges)
        )
        sentence = (
            phrase("{address} lies in {name} {where}: {why}.", address=address, name=name, where=where, why=why)
            if inside
            else phrase("Outside {name} {where}.", name=name, where=where)
        )
        checks.append(TargetCheck(about=about, passed=not inside, sentence=sentence))
    return checks


def _check_others(
    address: IPv4Address, used: Mapping[IPv4Address, str], planned: Mapping[IPv4Address, str]
) -> TargetCheck:
    if tag := used.get(address):
        return TargetCheck(about="register", passed=False, sentence=phrase("{tag} already has it.", tag=tag))
    if tag := planned.get(address):
        return TargetCheck(
            about="register", passed=False, sentence=phrase("{address} is planned for {tag}.", address=address, tag=tag)
        )
    return TargetCheck(about="register", passed=True, sentence=phrase("No other device of this job has it."))


def _check_dns(target: Target) -> TargetCheck:
    for each in target.dns:
        if fault := host_fault_of(each):
            return TargetCheck(
                about="DNS",
                passed=False,
                sentence=phrase("{each} cannot be a DNS server: {fault}.", each=each, fault=fault),
            )
        if each == target.interface.ip:
            return TargetCheck(
                about="DNS",
                passed=False,
                sentence=phrase("{each} is the DNS server: the device cannot have it.", each=each),
            )
    sentence = phrase("Addresses that hosts can have.") if target.dns else phrase("No servers: it looks up no names.")
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
        fault = phrase(
            "169.254.0.0/16 is a device's fallback and may change at every start, so it is never a final address"
        )
    if fault:
        return TargetCheck(
            about="address",
            passed=False,
            sentence=phrase("{interface} cannot be its address: {fault}.", interface=target.interface, fault=fault),
        )
    sentence = phrase(
        "A host address of {network}, whose hosts are {usable_range}.",
        network=target.interface.network,
        usable_range=usable_range(target.interface.network),
    )
    return TargetCheck(about="address", passed=True, sentence=sentence)


def _check_gateway(target: Target) -> TargetCheck:
    gateway, network = target.gateway, target.interface.network
    if gateway is None:
        return TargetCheck(
            about="gateway", passed=True, sentence=phrase("No gateway: it talks inside its own subnet only.")
        )
    if gateway == target.interface.ip:
        sentence = phrase("Its own address, as devices want it that insist on a gateway where the site has none.")
        return TargetCheck(about="gateway", passed=True, sentence=sentence)
    if gateway not in network:
        return TargetCheck(about="gateway", passed=False, sentence=_outside(target, gateway))
    if fault := host_fault_of(gateway, network.prefixlen):
        return TargetCheck(
            about="gateway",
            passed=False,
            sentence=phrase("{gateway} cannot be its gateway: {fault}.", gateway=gateway, fault=fault),
        )
    return TargetCheck(about="gateway", passed=True, sentence=phrase("Inside {network}.", network=network))


def _outside(target: Target, gateway: IPv4Address) -> str:
    network, address = target.interface.network, target.interface.ip
    sentence = phrase(
        "Gateway {gateway} is outside the subnet {network} of {address}, so it could not reach it",
        gateway=gateway,
        network=network,
        address=address,
    )
    if meant := transposed(gateway, network):
        return phrase("{sentence}: was {meant} meant (digits swapped)?", sentence=sentence, meant=meant)
    around = IPv4Network((int(gateway), network.prefixlen), strict=False)
    if meant := transposed(address, around):
        return phrase("{sentence}: was the address {meant} meant (digits swapped)?", sentence=sentence, meant=meant)
    return phrase("{sentence}: give one from {usable_range}.", sentence=sentence, usable_range=usable_range(network))


def _check_site(target: Target, site: Site) -> TargetCheck:
    address = target.interface.ip
    servers = dict.fromkeys(site.dns, phrase("DNS server")) | ({site.gateway: "gateway"} if site.gateway else {})
    if role := servers.get(address):
        return TargetCheck(
            about="site",
            passed=False,
            sentence=phrase("{address} is the site's {role}: the device cannot have it.", address=address, role=role),
        )
    if target.interface.network == site.network:
        return TargetCheck(
            about="site", passed=True, sentence=phrase("The site's own subnet {network}.", network=site.network)
        )
    if address in site.network:
        sentence = phrase(
            "The site's mask is /{prefixlen}, not /{network_prefixlen}.",
            prefixlen=site.network.prefixlen,
            network_prefixlen=target.interface.network.prefixlen,
        )
        return TargetCheck(about="site", passed=False, sentence=sentence)
    meant = transposed(address, site.network)
    hint = phrase("Was {meant} meant (digits swapped)?", meant=meant) if meant else ""
    outside = phrase("{address} is outside the site's subnet {network}.", address=address, network=site.network)
    return TargetCheck(about="site", passed=False, sentence=together(outside, hint))
