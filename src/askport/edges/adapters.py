"""The laptop's adapters as the kernel tells them (rtnetlink(7))."""

import socket
from dataclasses import dataclass, field
from ipaddress import IPv4Address, IPv4Interface
from pathlib import Path
from typing import Any

from pyroute2 import IPRoute

from askport.core.addresses import LINK_LOCAL
from askport.core.errors import MachineRefused
from askport.edges.link_speed import speed_of

_FOREVER = 0xFFFFFFFF
_IFF_UP, _IFF_RUNNING, _IFF_LOOPBACK = 1, 0x40, 8
_ETHERNET = 1
_VIRTUAL_KINDS = frozenset({"bridge", "bond", "dummy", "veth", "vlan", "macvlan", "ipvlan", "team", "vrf", "ifb"})
_TUNNEL_KINDS = frozenset({"tun", "wireguard", "vxlan", "gre", "gretap", "ipip", "sit", "geneve", "ip6tnl", "vti"})


@dataclass(frozen=True, slots=True, kw_only=True)
class AdapterAddress:
    """One IPv4 address of an adapter."""

    interface: IPv4Interface
    origin: str
    """``static``, ``dhcp`` (it has a lifetime) or ``link-local``."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Adapter:
    """One adapter of the laptop."""

    name: str
    kind: str
    """``wired``, ``wireless``, ``virtual``, ``tunnel`` or ``loopback``."""
    link_up: bool
    switched_on: bool
    speed_mbps: int | None
    mac: str | None
    addresses: tuple[AdapterAddress, ...]
    gateway: IPv4Address | None
    dns: tuple[str, ...]
    manager: str | None
    """The program that has this adapter in its hands, where that can be told."""
    hazards: tuple[tuple[str, str], ...] = field(default=())
    """Code and sentence of each reason for care."""


def list_adapters() -> list[Adapter]:
    """Return all adapters, those that a cable could be in first.

    Raises:
        MachineRefused: the kernel did not tell.
    """
    try:
        with IPRoute() as netlink:
            links = list(netlink.get_links())
            addresses = list(netlink.get_addr(family=socket.AF_INET))
            routes = list(netlink.get_default_routes(family=socket.AF_INET))
    except OSError as error:
        raise MachineRefused(f"The kernel does not list adapters: {error.strerror or error}.") from None
    adapters = [_adapter(link, addresses, routes) for link in links]
    order = ("wired", "virtual", "wireless", "tunnel", "loopback")
    return sorted(adapters, key=lambda each: (order.index(each.kind), not each.link_up, each.name))


def _adapter(link: Any, addresses: list[Any], routes: list[Any]) -> Adapter:
    name, index, flags = str(link.get_attr("IFLA_IFNAME")), int(link["index"]), int(link["flags"])
    gateway = next((each.get_attr("RTA_GATEWAY") for each in routes if each.get_attr("RTA_OIF") == index), None)
    link_up, switched_on = bool(flags & _IFF_RUNNING), bool(flags & _IFF_UP)
    kind = _kind(name, link)
    hazards = []
    if gateway:
        text = f"The laptop reaches the internet over {name}: it hangs in a live network, not on one device."
        hazards.append(("default-route", text))
    if not link_up and kind != "loopback":
        text = f"No link: plug the cable into {name}." if switched_on else f"{name} is switched off."
        hazards.append(("link-down", text))
    return Adapter(
        name=name,
        kind=kind,
        link_up=link_up,
        switched_on=switched_on,
        speed_mbps=speed_of(name),
        mac=link.get_attr("IFLA_ADDRESS") if link["ifi_type"] == _ETHERNET else None,
        addresses=tuple(_address(each) for each in addresses if each["index"] == index),
        gateway=IPv4Address(gateway) if gateway else None,
        dns=_dns() if gateway else (),
        manager=_manager(index),
        hazards=tuple(hazards),
    )


def _address(message: Any) -> AdapterAddress:
    text = message.get_attr("IFA_LOCAL") or message.get_attr("IFA_ADDRESS")
    interface = IPv4Interface(f"{text}/{message['prefixlen']}")
    cache = message.get_attr("IFA_CACHEINFO")
    leased = cache is not None and cache["ifa_valid"] != _FOREVER
    origin = "link-local" if interface.ip in LINK_LOCAL else "dhcp" if leased else "static"
    return AdapterAddress(interface=interface, origin=origin)


def _kind(name: str, link: Any) -> str:
    if link["flags"] & _IFF_LOOPBACK:
        return "loopback"
    info = link.get_attr("IFLA_LINKINFO")
    made_as = info.get_attr("IFLA_INFO_KIND") if info else None
    if made_as in _TUNNEL_KINDS or link["ifi_type"] != _ETHERNET:
        return "tunnel"
    if made_as in _VIRTUAL_KINDS:
        return "virtual"
    home = Path("/sys/class/net") / name
    return "wireless" if (home / "wireless").exists() or (home / "phy80211").exists() else "wired"


def _dns() -> tuple[str, ...]:
    try:
        lines = Path("/etc/resolv.conf").read_text().splitlines()
    except OSError:
        return ()
    return tuple(line.split()[1] for line in lines if line.startswith("nameserver ") and len(line.split()) > 1)


def _manager(index: int) -> str | None:
    """Name the manager by the state file that it keeps for an adapter, in the namespace where such programs run."""
    try:
        if Path("/proc/self/ns/net").stat().st_ino != Path("/proc/1/ns/net").stat().st_ino:
            return None
    except OSError:
        return None
    try:
        state = (Path("/run/NetworkManager/devices") / str(index)).read_text()
    except OSError:
        state = ""
    if "connection-uuid=" in state:
        return "NetworkManager"
    return "systemd-networkd" if (Path("/run/systemd/netif/links") / str(index)).exists() else None
