"""The laptop's adapters as the kernel tells them (rtnetlink(7))."""

import contextlib
import re
import socket
from ipaddress import IPv4Address, IPv4Interface
from pathlib import Path
from struct import pack, unpack_from

from askport.core.addresses import LINK_LOCAL
from askport.core.errors import MachineRefused
from askport.core.reach.in_the_way import Adapter, AdapterAddress, with_hazards
from askport.edges.kernel import rtnetlink as kernel
from askport.edges.kernel import state
from askport.edges.kernel.rtnetlink import ADDRESS, INET, ROUTE, Kernel, attributes, with_attributes
from askport.edges.link_speed import speed_of

_IFF_UP, _IFF_RUNNING, _IFF_LOOPBACK = 1, 0x40, 8
_ETHERNET = 1
_LINK, _MASTER, _LINK_INFO, _MAIN_TABLE = 5, 10, 18, 254
_PASSTHRU = pack("I", 8)
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
    try:
        with Kernel() as netlink:
            links = list(state.links(netlink))
            addresses = netlink.dump(kernel.NEWADDR, pack(ADDRESS, INET, 0, 0, 0, 0))
            gateways = _gateways(netlink)
    except OSError as error:
        raise MachineRefused("The kernel does not list adapters: {why}.", why=error.strerror or error) from None
    taken = _taken(links)
    adapters = [_adapter(link, addresses, gateways, taken.get(link[1])) for link in links]
    adapters = with_hazards(adapters, server_port_held=_server_port_held())
    order = ("wired", "virtual", "wireless", "tunnel", "loopback")
    return sorted(adapters, key=lambda each: (order.index(each.kind), not each.link_up, each.name))


def forwards(name: str) -> bool:
    """Whether the kernel passes on what comes in on an adapter for somebody else."""
    try:
        return Path(f"/proc/sys/net/ipv4/conf/{name}/forwarding").read_text().strip() != "0"
    except OSError:
        return False


def _gateways(netlink: Kernel) -> dict[int, IPv4Address | None]:
    """Return the gateway of each adapter that a default route leads over; None where it needs none."""
    found: dict[int, IPv4Address | None] = {}
    for each in netlink.dump(kernel.NEWROUTE, pack(ROUTE, INET, 0, 0, 0, 0, 0, 0, 0, 0)):
        _, prefix, _, _, table, *_ = unpack_from(ROUTE, each)
        given = attributes(each, ROUTE)
        if not prefix and table == _MAIN_TABLE and 4 in given:
            found.setdefault(
                unpack_from("I", given[4])[0], IPv4Address(given[5]) if len(given.get(5, b"")) == 4 else None
            )
    return found


def _taken(links: list[state.LinkTold]) -> dict[int, str]:
    """Return who takes what comes in on each adapter that is a part of another (IFLA_MASTER, IFLA_LINK)."""
    found, names = {}, {index: given[3].rstrip(b"\0").decode() for _, index, _, given in links}
    kinds = {index: _made_as(given) for _, index, _, given in links}
    for _, index, _, given in links:
        master, below = (unpack_from("I", given[each])[0] if each in given else 0 for each in (_MASTER, _LINK))
        if master in names and kinds[master] != "vrf":
            found[index] = names[master]
        if below in names and kinds[index] in ("macvlan", "macvtap"):
            made = attributes(attributes(given[_LINK_INFO], "").get(2, b""), "")
            if made.get(1) == _PASSTHRU:
                found[below] = names[index]
    return found


def _made_as(given: dict[int, bytes]) -> str:
    return attributes(given.get(_LINK_INFO, b""), "").get(1, b"").rstrip(b"\0").decode()


def _adapter(
    link: state.LinkTold, addresses: list[bytes], gateways: dict[int, IPv4Address | None], taken_by: str | None
) -> Adapter:
    hardware, index, flags, given = link
    name = given[3].rstrip(b"\0").decode()
    gateway = gateways.get(index)
    link_up, switched_on = bool(flags & _IFF_RUNNING), bool(flags & _IFF_UP)
    return Adapter(
        name=name,
        kind=_kind(name, link),
        link_up=link_up,
        switched_on=switched_on,
        speed_mbps=speed_of(name),
        half_duplex=_told(name, "duplex") == "half",
        driver=_driver(name),
        mac=given[1].hex(":") if hardware == _ETHERNET and 1 in given else None,
        addresses=tuple(_address(each) for each in addresses if unpack_from(ADDRESS, each)[4] == index),
        gateway=gateway,
        dns=_dns() if gateway else (),
        manager=_manager(name, index),
        forwards=forwards(name),
        taken_by=taken_by,
    )


def _address(message: bytes) -> AdapterAddress:
    interface = IPv4Interface(state.written(message))
    leased = state.valid_s(message) is not None
    origin = "link-local" if interface.ip in LINK_LOCAL else "dhcp" if leased else "static"
    return AdapterAddress(interface=interface, origin=origin)


def _kind(name: str, link: state.LinkTold) -> str:
    hardware, _, flags, given = link
    if flags & _IFF_LOOPBACK:
        return "loopback"
    made_as = _made_as(given)
    if hardware != _ETHERNET or made_as in _TUNNEL_KINDS:
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
    question = with_attributes(pack(ROUTE, INET, 32, 0, 0, 0, 0, 0, 0, 0), _1=address.packed)
    try:
        with Kernel() as netlink:
            found = (attributes(each, ROUTE) for each in netlink.ask(kernel.NEWROUTE, question))
            index = next((unpack_from("I", each[4])[0] for each in found if 4 in each), None)
        return socket.if_indextoname(index) if index else None
    except OSError:
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
