"""What the site's own servers can take over: host names, zone lines, and reservations in open formats."""

import json
import re
from collections.abc import Iterable
from ipaddress import IPv4Address, IPv4Network

from askport.core.phrases import phrase
from askport.core.plan.site_plan import Plan
from askport.core.register.visits import Row

_ZONE_HEAD = """$TTL 3600
@\tIN\tSOA\tlocalhost. root.localhost. 1 3600 600 86400 3600
@\tIN\tNS\tlocalhost.
"""


def _hosts(rows: Iterable[Row]) -> list[tuple[str, str, IPv4Address]]:
    """Return name, MAC address and address of every device that was left with one; a name is a host name (RFC 1123)."""
    found, taken = [], set[str]()
    for row in rows:
        if row.left is None:
            continue
        name = re.sub(r"[^a-z0-9-]+", "-", row.tag.lower()).strip("-")[:63] or f"host-{str(row.mac).replace(':', '')}"
        while name in taken:
            name = f"{name[:50]}-{str(row.mac).replace(':', '')[-4:]}-{len(taken)}"
        taken.add(name)
        found.append((name, str(row.mac), row.left))
    return found


def hosts_text(rows: Iterable[Row]) -> str:
    """Return a hosts file (hosts(5))."""
    return "".join(f"{address}\t{name}\n" for name, _, address in _hosts(rows))


def zone_text(rows: Iterable[Row]) -> str:
    """Return a zone (RFC 1035 section 5), which a name server loads as it is."""
    lines = "".join(f"{name}\tIN\tA\t{address}\n" for name, _, address in _hosts(rows))
    return phrase(
        "{zone_head}; From here on for a zone that there is already.\n{lines}", zone_head=_ZONE_HEAD, lines=lines
    )


def dhcpd_text(rows: Iterable[Row]) -> str:
    """Return host declarations of ISC dhcpd (dhcpd.conf(5))."""
    lines = (
        phrase(
            "host {name} {{ hardware ethernet {mac}; fixed-address {address}; }}\n", name=name, mac=mac, address=address
        )
        for name, mac, address in _hosts(rows)
    )
    return "".join(lines)


def kea_text(rows: Iterable[Row], plan: Plan) -> str:
    """Return a configuration of Kea's Dhcp4 server: the plan's subnets with their reservations, and nothing given out.

    It is loaded as it is (``kea-dhcp4 -t``); whoever has a configuration already takes its ``subnet4`` over.
    """
    subnets: dict[IPv4Network, list[dict[str, str]]] = {each.network: [] for each in plan.subnets}
    for name, mac, address in _hosts(rows):
        network = subnet.network if (subnet := plan.subnet_of(address)) else IPv4Network(f"{address}/32")
        subnets.setdefault(network, []).append({"hw-address": mac, "ip-address": str(address), "hostname": name})
    found = [
        {"id": number, "subnet": str(network), "reservations": reserved}
        for number, (network, reserved) in enumerate(subnets.items(), 1)
    ]
    return json.dumps({"Dhcp4": {"interfaces-config": {"interfaces": []}, "subnet4": found}}, indent=2) + "\n"


def dnsmasq_text(rows: Iterable[Row]) -> str:
    """Return the lines of a dnsmasq configuration (dnsmasq(8), --dhcp-host)."""
    return "".join(f"dhcp-host={mac},{address},{name}\n" for name, mac, address in _hosts(rows))
