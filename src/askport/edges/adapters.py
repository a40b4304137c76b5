"""The laptop's adapters as the kernel tells them (rtnetlink(7))."""

import contextlib
import re
import socket
from ipaddress import IPv4Address, IPv4Interface
from pathlib import Path
from typing import Any

from askport.core.addresses import LINK_LOCAL
from askport.core.errors import MachineRefused
from askport.core.reach.adapters import Adapter, AdapterAddress, with_hazards
from askport.edges.link_speed import speed_of

_FOREVER = 0xFFFFFFFF
_IFF_UP, _IFF_RUNNING, _IFF_LOOPBACK = 1, 0x40, 8
_ETHERNET = 1
_SERVER_PORT = 67
_VIRTUAL_KINDS = frozenset({"bridge", "bond", "dummy", "veth", "vlan", "macvlan", "ipvlan", "team", "tun", "vrf"})
_TUNNEL_KINDS = frozenset({"wireguard", "vxlan", "gre", "gretap", "ipip", "sit", "geneve", "ip6tnl", "vti"})


_STATE_FILES = {
    "NetworkManager": ("/run/NetworkManager/devices/{index}", "^connection-uuid="),
    "systemd-networkd": ("/run/systemd/netif/links/{index}", "^ADMIN_STATE=(configur|failed)"),
}
"""The file that each manager keeps, and what stands in it where it has the adapter in its hands."""


def list_adapters() -> list[Adapter]:
    """Return all adapters, those that a cable could be in first.

    Raises:
        MachineRefused: the kernel did not tell.
    """
    from pyroute2 import IPRoute  # here, because it takes as long to load as all the rest

    try:
        with IPRoute() as netlink:
            links = list(netlink.get_links())
            addresses = list(netlink.get_addr(family=socket.AF_INET))
            routes = list(netlink.get_default_routes(family=socket.AF_INET))
    except OSError as error:
        raise MachineRefused(f"The kernel does not list adapters: {error.strerror or error}.") from None
    adapters = [_adapter(link, addresses, routes) for link in links]
    adapters = with_hazards(adapters, server_port_held=_server_port_held())
    order = ("wired", "virtual", "wireless", "tunnel", "loopback")
    return sorted(adapters, key=lambda each: (order.index(each.kind), not each.link_up, each.name))


def forwards(name: str) -> bool:
    """Whether the kernel passes on what comes in on an adapter for somebody else."""
    try:
        return Path(f"/proc/sys/net/ipv4/conf/{name}/forwarding").read_text().strip() != "0"
    except OSError:
        return False


def _adapter(link: Any, addresses: list[Any], routes: list[Any]) -> Adapter:
    name, index, flags = str(link.get_attr("IFLA_IFNAME")), int(link["index"]), int(link["flags"])
    gateway = next((each.get_attr("RTA_GATEWAY") for each in routes if each.get_attr("RTA_OIF") == index), None)
    link_up, switched_on = bool(flags & _IFF_RUNNING), bool(flags & _IFF_UP)
    kind = _kind(name, link)
    return Adapter(
        name=name,
        kind=kind,
        link_up=link_up,
        switched_on=switched_on,
        speed_mbps=speed_of(name),
        half_duplex=_told(name, "duplex") == "half",
        driver=_driver(name),
        mac=link.get_attr("IFLA_ADDRESS") if link["ifi_type"] == _ETHERNET else None,
        addresses=tuple(_address(each) for each in addresses if each["index"] == index),
        gateway=IPv4Address(gateway) if gateway else None,
        dns=_dns() if gateway else (),
        manager=_manager(name, index),
        forwards=forwards(name),
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
    if link["ifi_type"] != _ETHERNET or made_as in _TUNNEL_KINDS:
        return "tunnel"
    if made_as in _VIRTUAL_KINDS:
        return "virtual"
    home = Path("/sys/class/net") / name
    return "wireless" if (home / "wireless").exists() or (home / "phy80211").exists() else "wired"


def _told(name: str, what: str) -> str:
    try:
        return (Path("/sys/class/net") / name / what).read_text().strip()
    except OSError:
        return ""


def _driver(name: str) -> str | None:
    link = Path("/sys/class/net") / name / "device/driver"
    return link.resolve().name if link.exists() else None


def _server_port_held() -> bool:
    """Whether a program on this laptop is bound to UDP port 67 (proc(5), net/udp)."""
    try:
        lines = Path("/proc/net/udp").read_text().splitlines()[1:]
    except OSError:
        return False
    return any(line.split()[1].endswith(f":{_SERVER_PORT:04X}") for line in lines)


def way_to(address: IPv4Address) -> str | None:
    """Return the adapter by which the kernel would send to an address, or None where by none."""
    from pyroute2 import IPRoute
    from pyroute2.netlink.exceptions import NetlinkError

    try:
        with IPRoute() as netlink:
            found = netlink.route("get", dst=str(address))
            index = next((each.get_attr("RTA_OIF") for each in found), None)
            return str(netlink.get_links(index)[0].get_attr("IFLA_IFNAME")) if index else None
    except (OSError, NetlinkError):
        return None


def _dns() -> tuple[str, ...]:
    try:
        lines = Path("/etc/resolv.conf").read_text().splitlines()
    except OSError:
        return ()
    return tuple(line.split()[1] for line in lines if line.startswith("nameserver ") and len(line.split()) > 1)


def _manager(name: str, index: int) -> str | None:
    """Name the manager by the state file that it keeps for an adapter, in the namespace where such programs run."""
    try:
        if Path("/proc/self/ns/net").stat().st_ino != Path("/proc/1/ns/net").stat().st_ino:
            return None
    except OSError:
        return None
    for manager, (file, pattern) in _STATE_FILES.items():
        with contextlib.suppress(OSError):
            if re.search(pattern, Path(file.format(name=name, index=index)).read_text(), re.MULTILINE):
                return manager
    pids = (Path("/run/dhcpcd") / each for each in (f"{name}.pid", "pid"))
    return "dhcpcd" if any(each.exists() for each in pids) else None
