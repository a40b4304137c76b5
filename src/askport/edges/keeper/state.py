"""An adapter's addresses and routes as values that can be written down and put back (rtnetlink(7))."""

import time
from typing import Any

from pyroute2 import IPRoute
from pyroute2.netlink.exceptions import NetlinkError

FOREVER = 0xFFFFFFFF
_INET = 2
_UNICAST = 1
_PERMANENT = 0x80
_KERNEL_FLAGS = _PERMANENT | 0x01 | 0x40  # permanent, secondary and tentative are the kernel's to set
_ROUTE = {"dst": "RTA_DST", "gateway": "RTA_GATEWAY", "prefsrc": "RTA_PREFSRC", "priority": "RTA_PRIORITY"}


def _boot_s() -> float:
    return time.clock_gettime(time.CLOCK_BOOTTIME)


def addresses(netlink: IPRoute, index: int) -> list[dict[str, Any]]:
    """Return the IPv4 addresses of an adapter; lifetimes become moments since the computer started."""
    found = []
    for message in netlink.get_addr(family=_INET, index=index):
        cache, now = message.get_attr("IFA_CACHEINFO"), _boot_s()
        lifetimes = {"valid": cache["ifa_valid"], "preferred": cache["ifa_preferred"]} if cache else {}
        found.append(
            {
                "address": message.get_attr("IFA_ADDRESS"),
                "local": message.get_attr("IFA_LOCAL"),
                "prefixlen": message["prefixlen"],
                "scope": message["scope"],
                "label": message.get_attr("IFA_LABEL"),
                "broadcast": message.get_attr("IFA_BROADCAST"),
                "flags": (message.get_attr("IFA_FLAGS") or message["flags"]) & ~_KERNEL_FLAGS,
                "until": {kind: None if left == FOREVER else now + left for kind, left in lifetimes.items()},
            }
        )
    return found


def written(saved: dict[str, Any]) -> str:
    """Return an address with its prefix."""
    return f"{saved['local'] or saved['address']}/{saved['prefixlen']}"


def put_address(netlink: IPRoute, index: int, saved: dict[str, Any]) -> None:
    """Put an address back with what is left of its lifetimes; one that has run out meanwhile stays away."""
    until = {kind: end for kind, end in saved["until"].items() if end is not None}
    left = {kind: int(end - _boot_s()) for kind, end in until.items()}
    if left.get("valid", 1) <= 0:
        return
    forever = {"valid_lft": FOREVER, "preferred_lft": FOREVER}
    lifetimes = {**forever, **{f"{kind}_lft": max(0, span) for kind, span in left.items()}} if left else {}
    plain = {name: saved[name] for name in ("address", "local", "prefixlen", "scope", "label", "broadcast")}
    given = {name: value for name, value in plain.items() if value is not None}
    netlink.addr("add", index=index, family=_INET, IFA_FLAGS=saved["flags"], **given, **lifetimes)


def routes(netlink: IPRoute, index: int) -> list[dict[str, Any]]:
    """Return the IPv4 routes over an adapter, except those that the kernel keeps for its own addresses."""
    found = []
    for message in netlink.get_routes(family=_INET):
        if message.get_attr("RTA_OIF") != index or message["type"] != _UNICAST:
            continue
        route = {name: message.get_attr(attribute) for name, attribute in _ROUTE.items()}
        route |= {name: message[name] for name in ("dst_len", "scope", "proto", "type", "tos")}
        route["table"] = message.get_attr("RTA_TABLE") or message["table"]
        found.append({name: value for name, value in route.items() if value is not None})
    return found


def put_routes(netlink: IPRoute, index: int, saved: list[dict[str, Any]]) -> None:
    """Put back those routes that are gone, the ones without a gateway first, because the others need them."""
    present = routes(netlink, index)
    for route in sorted((each for each in saved if each not in present), key=lambda each: "gateway" in each):
        try:
            netlink.route("add", family=_INET, oif=index, **route)
        except NetlinkError:
            continue  # its gateway or source has gone for good, with an address whose lifetime has run out
