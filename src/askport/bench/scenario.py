"""Sallow Beck Hatchery: the site, the work list and the stand-ins of the demo. All of it is made up."""

from collections.abc import Callable
from ipaddress import IPv4Address, IPv4Interface, IPv4Network

from askport.bench.devices import BlowerDrive, SterilizerPanel, TankGateway
from askport.bench.stand_in import Settings, StandIn
from askport.core.addresses import MacAddress
from askport.core.plan.target import Pool, Site, Target
from askport.core.plan.work import WorkItem

SITE = Site(
    name="Sallow Beck Hatchery",
    network=IPv4Network("10.84.16.0/22"),
    gateway=IPv4Address("10.84.19.254"),
    pool=Pool(first=IPv4Address("10.84.18.0"), last=IPv4Address("10.84.18.255")),
    dns=(IPv4Address("10.84.19.253"), IPv4Address("10.84.19.252")),
)

_BLOCK = bytes.fromhex("00005e0053")
"""MAC addresses for documentation (RFC 7042 section 2.1.1)."""
LAPTOP_MAC = MacAddress(_BLOCK + b"\x01")
LAPTOP = (IPv4Interface("10.84.16.9/22"),)
"""The laptop comes from the site office, so it is on the site's subnet and can reach no device out of the crate."""

_MAKERS = {1: "Halden Fluidics", 2: "Orrin & Pyke", 3: "Tarnlight"}
"""Made up, by the upper half of the last byte."""


def maker(mac: MacAddress) -> str | None:
    """Name the made-up maker of a MAC address of the scenario."""
    return _MAKERS.get(mac[5] >> 4) if mac.startswith(_BLOCK) else None


def _target(address: str) -> Target:
    return Target(interface=IPv4Interface(f"{address}/22"), gateway=SITE.gateway, dns=SITE.dns)


WORK = (
    WorkItem(
        tag="TG-01",
        description="tank level gateway",
        target=_target("10.84.16.40"),
        ports=(80,),
    ),
    WorkItem(tag="BL-01", description="blower drive", target=_target("10.84.16.21")),
    WorkItem(
        tag="UV-01",
        description="UV steriliser panel",
        target=_target("10.84.16.60"),
        delivered=IPv4Interface("10.212.7.33/16"),
    ),
)

_STAND_INS: dict[str, Callable[[], StandIn]] = {
    "TG-01": lambda: TankGateway(
        MacAddress(_BLOCK + b"\x10"), Settings(IPv4Interface("192.168.61.7/24"), IPv4Address("192.168.61.254"))
    ),
    "BL-01": lambda: BlowerDrive(MacAddress(_BLOCK + b"\x20"), Settings()),
    "UV-01": lambda: SterilizerPanel(MacAddress(_BLOCK + b"\x30"), Settings(IPv4Interface("10.212.7.33/16"))),
}


def stand_in(tag: str) -> StandIn:
    """Take a fresh unit out of the crate."""
    return _STAND_INS[tag]()
