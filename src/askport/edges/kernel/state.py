"""What an adapter has, as messages that put it back: its addresses, routes and neighbours."""

import errno
import socket
import time
from collections.abc import Iterable, Iterator
from ipaddress import IPv4Address, IPv4Network
from struct import pack, unpack_from
from typing import Any

from askport.edges.kernel import rtnetlink as kernel
from askport.edges.kernel.rtnetlink import ADDRESS, INET, LINK, NEIGHBOUR, ROUTE, Kernel, attributes

Message = tuple[int, str]
"""A message's kind, and its bytes in hexadecimal digits."""
LinkTold = tuple[int, int, int, dict[int, bytes]]
"""An adapter's kind of hardware, index, flags and attributes (rtnetlink(7), IFLA_)."""
_BY_KERNEL, _UNICAST = 2, 1  # the kernel's own routes other than to hosts come and go with addresses
_FAILED = 0x01 | 0x20  # of a neighbour (linux/neighbour.h)
_STALE, _KEPT = 0x04, 0x40 | 0x80  # no ARP, permanent
_PROXY = 0x08
_CLONED, _LINK_FLAGS = 0x200, 0x01 | 0x10 | 0x08 | 0x4000  # dead, no link, in hardware: the kernel's to set
_LINK, _MASTER = 5, 10
_CACHE_INFO, _FLAGS, _DEPRECATED, _FOREVER = 6, 8, 0x20, 0xFFFFFFFF


def boot_s() -> float:
    """Return seconds since the computer started, sleep included."""
    return time.clock_gettime(time.CLOCK_BOOTTIME)


def adapters(netlink: Kernel) -> list[dict[str, Any]]:
    """Return all adapters by what identifies them: name, index, MAC address and the one that they were made with."""
    found = []
    for hardware, index, flags, given in links(netlink):
        mac = given.get(1, b"")
        found.append(
            {"name": given[3].rstrip(b"\0").decode(), "index": index, "mac": mac.hex(":"),
             "permanent": given.get(54, mac).hex(":"), "hardware": hardware, "on": bool(flags & 1),
             "mtu": unpack_from("I", given.get(4, bytes(4)))[0]}
        )  # fmt: skip
    return found


def links(netlink: Kernel) -> Iterator[LinkTold]:
    """Yield each adapter as the kernel tells it."""
    for each in netlink.dump(kernel.NEWLINK, pack(LINK, 0, 0, 0, 0, 0)):
        _, hardware, index, flags, _ = unpack_from(LINK, each)
        yield hardware, index, flags, attributes(each, LINK)


def addresses(netlink: Kernel, index: int) -> list[bytes]:
    """Return the messages of an adapter's IPv4 addresses, in their order."""
    found = netlink.dump(kernel.NEWADDR, pack(ADDRESS, INET, 0, 0, 0, index))
    return [each for each in found if unpack_from(ADDRESS, each)[4] == index]


def written(message: bytes) -> str:
    """Return an address with its prefix."""
    given = attributes(message, ADDRESS)
    return f"{socket.inet_ntoa(given.get(2) or given[1])}/{message[1]}"


def valid_s(message: bytes) -> int | None:
    """Return how long an address still lasts, in seconds, or None where it lasts for ever."""
    cache = attributes(message, ADDRESS).get(_CACHE_INFO)
    valid = unpack_from("II", cache)[1] if cache else _FOREVER
    return None if valid == _FOREVER else int(valid)


def local(message: Message) -> bytes | None:
    """Return the laptop's own end in the message of an address."""
    return attributes(bytes.fromhex(message[1]), ADDRESS).get(2)


def saved(netlink: Kernel, index: int) -> list[Message]:
    """Return what puts an adapter back, addresses first."""
    messages = [(kernel.NEWADDR, each) for each in addresses(netlink, index)]
    messages += [(kernel.NEWROUTE, each) for each in _routes(netlink, index)]
    messages += [(kernel.NEWNEIGH, each) for each in neighbours(netlink, index)]
    return [(kind, each.hex()) for kind, each in messages]


def _routes(netlink: Kernel, index: int) -> Iterator[bytes]:
    """Yield the routes over an adapter, except those that the kernel keeps for addresses."""
    for each in netlink.dump(kernel.NEWROUTE, pack(ROUTE, INET, 0, 0, 0, 0, 0, 0, 0, 0)):
        *_, protocol, _, kind, flags = unpack_from(ROUTE, each)
        automatic = protocol == _BY_KERNEL and kind != _UNICAST
        if not automatic and not flags & _CLONED and index in _ways_out(attributes(each, ROUTE)):
            yield each[:8] + pack("I", flags & ~_LINK_FLAGS) + each[12:]


def has_default_route(netlink: Kernel, index: int) -> bool:
    """Whether the laptop's way to other networks leads over an adapter, in IPv4 or IPv6, in whatever table."""
    for family in (INET, socket.AF_INET6):
        for each in netlink.dump(kernel.NEWROUTE, pack(ROUTE, family, 0, 0, 0, 0, 0, 0, 0, 0)):
            _, prefix, *_, kind, _ = unpack_from(ROUTE, each)
            ways = _ways_out(attributes(each, ROUTE))
            # Half of all addresses is a default route too, in two parts.
            if prefix <= 1 and kind == _UNICAST and index in _with_those_below(netlink, ways):
                return True
    return False


def _with_those_below(netlink: Kernel, above: set[int]) -> set[int]:
    """Return adapters with those that they are made upon: ports of a bridge or bond, what a VLAN or macvlan lies on."""
    below = {index: (given.get(_MASTER), given.get(_LINK)) for _, index, _, given in links(netlink)}
    found, size = set(above), 0
    while len(found) > size:
        size = len(found)
        for index, (master, lower) in below.items():
            if master and unpack_from("I", master)[0] in found:
                found.add(index)
            if lower and index in found:
                found.add(unpack_from("I", lower)[0])
    return found


def networks_beside(netlink: Kernel, index: int) -> list[IPv4Network]:
    """Return where the laptop talks to others than on one adapter: its networks, its routes and their gateways."""
    found = []
    for each in netlink.dump(kernel.NEWROUTE, pack(ROUTE, INET, 0, 0, 0, 0, 0, 0, 0, 0)):
        _, prefix, *_, kind, flags = unpack_from(ROUTE, each)
        given = attributes(each, ROUTE)
        if kind != _UNICAST or flags & _CLONED or index in _ways_out(given):
            continue
        if prefix > 1:
            found.append(IPv4Network((given.get(1, bytes(4)), prefix), strict=False))
        found += [IPv4Network(given[5])] if len(given.get(5, b"")) == 4 else []
    return found


def _ways_out(given: dict[int, bytes]) -> set[int]:
    """Return the adapters that a route leads over, one or several (RTA_OIF, RTA_MULTIPATH)."""
    found = {unpack_from("I", given[4])[0]} if 4 in given else set()
    hops = given.get(9, b"")
    while len(hops) >= 8:
        size, _, _, index = unpack_from("HBBi", hops)
        found.add(index)
        hops = hops[max(8, size) :]
    return found


def neighbours(netlink: Kernel, index: int, family: int = INET) -> Iterator[bytes]:
    """Yield what is known of an adapter's neighbours and the addresses that it answers for, without what is passing."""
    for flags in (0, _PROXY):
        for each in netlink.dump(kernel.NEWNEIGH, pack(NEIGHBOUR, family, index, 0, flags, 0)):
            _, at, state, marks, kind = unpack_from(NEIGHBOUR, each)
            if at == index and (marks & _PROXY) == flags and kind in (0, 1) and (flags or not state & _FAILED):
                state = state if state & _KEPT or flags else _STALE
                yield pack(NEIGHBOUR, family, index, state, marks, kind) + each[12:]


def neighbours_in(netlink: Kernel, index: int, network: IPv4Network) -> list[bytes]:
    """Return what is known of neighbours in a range."""
    known = ((each, attributes(each, NEIGHBOUR)[1]) for each in neighbours(netlink, index))
    return [each for each, address in known if IPv4Address(address) in network]


def passing_ipv6(netlink: Kernel, index: int) -> dict[bytes, bytes]:
    """Return what the kernel remembers of IPv6 neighbours by itself, by their addresses."""
    try:
        known = [(each, attributes(each, NEIGHBOUR)[1]) for each in neighbours(netlink, index, socket.AF_INET6)]
    except OSError:  # a kernel without IPv6
        known = []
    return {address: each for each, address in known if not is_kept(each)}


def is_kept(message: bytes) -> bool:
    """Whether somebody has set a neighbour by hand."""
    return bool(unpack_from(NEIGHBOUR, message)[2] & _KEPT)


def put_back(netlink: Kernel, messages: Iterable[Message], since: float) -> list[str]:
    """Send what puts things back, over and over while that gets on; return why the rest would not go.

    A lifetime goes on meanwhile: ``since`` is when the messages were saved.
    """
    left = [(kind, bytes.fromhex(text)) for kind, text in messages]
    why: list[str] = []
    has_run_out = False
    while left:
        again, why = [], []
        for kind, message in left:
            aged = _aged(message, boot_s() - since) if kind == kernel.NEWADDR else message
            has_run_out |= aged is None
            try:
                if aged:
                    netlink.send(kind, aged, kernel.CREATE | _how(kind, aged))
            except OSError as error:
                if error.errno != errno.EEXIST:
                    again.append((kind, message))
                    why.append(error.strerror or str(error))
        if len(again) == len(left):
            return [] if has_run_out else why  # what hung on an address whose time was up has gone with it
        left = again
    return []


def _how(kind: int, message: bytes) -> int:
    """Return how a message is sent: what somebody has set replaces what came meanwhile, and routes keep their order."""
    if kind == kernel.NEWROUTE:
        return kernel.APPEND
    return kernel.REPLACE if kind == kernel.NEWNEIGH and is_kept(message) else kernel.ONLY_NEW


def _aged(message: bytes, passed_s: float) -> bytes | None:
    """Return an address with what is left of its lifetimes, or None where nothing is."""
    raw = attributes(message, ADDRESS).get(_CACHE_INFO)
    if raw is None:
        return message
    preferred, valid = unpack_from("II", raw)
    if unpack_from("I", attributes(message, ADDRESS).get(_FLAGS, bytes(4)))[0] & _DEPRECATED:
        preferred = 0  # the kernel tells no lifetimes of one that lasts for ever
    left = [each if each == _FOREVER else max(0, int(each - passed_s)) for each in (preferred, valid)]
    return message.replace(raw, pack("II", *left) + raw[8:]) if left[1] else None
