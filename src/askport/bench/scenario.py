"""Sallow Beck Hatchery: the site, the work list and the stand-ins of the demo. All of it is made up."""

from collections.abc import Callable
from importlib.resources import files
from ipaddress import IPv4Address, IPv4Interface, IPv4Network
from typing import NamedTuple

from askport.bench import agent, camera, datagram_devices, field_devices, more_devices
from askport.bench.devices import BlowerDrive, SterilizerPanel, TankGateway
from askport.bench.house import HouseComputer, HouseRouter
from askport.bench.stand_in import Settings, StandIn
from askport.core.addresses import MacAddress
from askport.core.formats import field_protocols, modbus
from askport.core.makers import maker_in, read_makers
from askport.core.plan import planned_device, site_plan, target
from askport.core.plan.working_order import WorkItem
from askport.core.register.entries import DevicePlanned, Entry, SubnetPlanned

SITE = target.Site(
    name="Sallow Beck Hatchery",
    network=IPv4Network("10.84.16.0/22"),
    gateway=IPv4Address("10.84.19.254"),
    pools=(target.Pool(first=IPv4Address("10.84.18.0"), last=IPv4Address("10.84.18.255")),),
    dns=(IPv4Address("10.84.19.253"), IPv4Address("10.84.19.252")),
)

_BLOCK = bytes.fromhex("00005e0053")
"""MAC addresses for documentation (RFC 7042 section 2.1.1)."""
LAPTOP_MAC = MacAddress(_BLOCK + b"\x01")
LAPTOP = (IPv4Interface("10.84.16.9/22"),)
"""The laptop comes from the site office, so it is on the site's subnet and can reach no device out of the crate."""

_MAKERS = read_makers(files("askport.bench").joinpath("makers.tsv").read_text(encoding="utf-8"), "the demo's makers")


def maker(mac: MacAddress) -> str | None:
    """Name the made-up maker of a MAC address of the scenario."""
    return maker_in(_MAKERS, mac)


def _target(address: str) -> target.Target:
    return target.Target(interface=IPv4Interface(f"{address}/22"), gateway=SITE.gateway, dns=SITE.dns)


def _mast() -> target.Target:
    """Return what a ping can give: an address, and nothing beside it."""
    return target.Target(interface=IPv4Interface("10.84.16.90/22"))


OXYGEN_HEADS = range(1, 7)
"""A crate of six."""


class Unit(NamedTuple):
    """One device of the demo: what the plan wants of it, and what takes a fresh one out of the crate."""

    work: WorkItem
    make: Callable[[], StandIn]
    in_crate: bool = True
    """Whether it lies in the crate; the others are practised with by name."""


def _mac(last: int) -> MacAddress:
    return MacAddress(_BLOCK + bytes((last,)))


def _at(interface: str, gateway: str | None = None) -> Settings:
    return Settings(IPv4Interface(interface), IPv4Address(gateway) if gateway else None)


def _probe(number: int) -> Unit:
    delivered = "172.29.4.100/24"
    work = WorkItem(
        tag=f"OX-0{number}", description="oxygen probe head", target=_target(f"10.84.16.3{number}"),
        delivered=IPv4Interface(delivered), ports=(80,),
    )  # fmt: skip
    return Unit(work, lambda: more_devices.OxygenProbe(_mac(0x40 + number), _at(delivered)))


UNITS: list[Unit] = [
    Unit(
        WorkItem(tag="TG-01", description="tank level gateway", target=_target("10.84.16.40"), ports=(80,)),
        lambda: TankGateway(_mac(0x10), _at("192.168.61.7/24", "192.168.61.254")),
    ),
    *map(_probe, OXYGEN_HEADS),
    Unit(
        WorkItem(tag="BL-01", description="blower drive", target=_target("10.84.16.21")),
        lambda: BlowerDrive(_mac(0x20), Settings()),
    ),
    Unit(
        WorkItem(tag="FD-01", description="feed hopper controller", target=_target("10.84.16.50"), ports=(80,)),
        lambda: more_devices.FeedController(_mac(0x50), Settings()),
    ),
    Unit(
        WorkItem(
            tag="UV-01", description="UV steriliser panel", target=_target("10.84.16.60"),
            delivered=IPv4Interface("10.212.7.33/16"),
        ),
        lambda: SterilizerPanel(_mac(0x30), _at("10.212.7.33/16")),
    ),
    Unit(
        WorkItem(tag="SW-01", description="pump-room switch", target=_target("10.84.16.2"), ports=(22,)),
        lambda: more_devices.PumpRoomSwitch(_mac(0x28), _at("172.26.40.2/24")),
    ),
    Unit(
        WorkItem(
            tag="PA-01", description="paging horn", target=_target("10.84.16.70"), mac=_mac(0x52), ports=(80,)
        ),
        lambda: more_devices.PagingHorn(_mac(0x52), _at("192.168.77.21/24"), IPv4Interface("192.168.77.20/24")),
    ),
    Unit(
        WorkItem(tag="DR-01", description="gate reader", target=_target("10.84.16.80"), ports=(80,)),
        lambda: more_devices.GateReader(_mac(0x68), _at("192.168.1.200/24", "192.168.1.1")),
    ),
    Unit(
        WorkItem(tag="WX-01", description="weather mast logger", target=_mast()),
        lambda: more_devices.WeatherMast(_mac(0x60), Settings()),
    ),
    Unit(
        WorkItem(
            tag="FL-01", description="flow computer", target=_target("10.84.16.91"),
            planned=planned_device.PlannedDevice(tag="FL-01", columns={"Station name": "flow-1"}),
        ),
        lambda: field_devices.FlowComputer(_mac(0x61), Settings()),
    ),
    Unit(
        WorkItem(
            tag="FL-02", description="valve island", target=_target("10.84.16.92"),
            delivered=IPv4Interface("192.168.250.1/24"), ports=(field_protocols.PORT_ETHERNET_IP,),
        ),
        lambda: field_devices.ValveIsland(_mac(0x18), _at("192.168.250.1/24")),
    ),
    Unit(
        WorkItem(tag="FL-03", description="pond camera", target=_target("10.84.16.93"), ports=(80,)),
        lambda: camera.PondCamera(_mac(0x58), _at("192.168.88.90/24"), more_devices.LOG_IN),
    ),
    Unit(
        WorkItem(tag="AH-01", description="air handler", target=_target("10.84.16.94")),
        lambda: datagram_devices.AirHandler(_mac(0x29), _at("192.168.92.10/24")), in_crate=False,
    ),
    Unit(
        WorkItem(tag="LL-01", description="lane lights", target=_target("10.84.16.95")),
        lambda: datagram_devices.LaneLights(_mac(0x38), _at("2.0.0.56/8")), in_crate=False,
    ),
    Unit(
        WorkItem(tag="UP-01", description="standby supply", target=_target("10.84.16.97")),
        lambda: agent.StandbySupply(_mac(0x2A), _at("192.168.96.10/22")), in_crate=False,
    ),
    Unit(
        WorkItem(tag="BG-01", description="bus gateway", target=_target("10.84.16.96"), ports=(modbus.PORT_MODBUS,)),
        lambda: datagram_devices.BusGateway(_mac(0x69), _at("192.168.93.20/24")), in_crate=False,
    ),
]  # fmt: skip
"""Work list; to have one more, write its module and one line here."""
WORK = tuple(each.work for each in UNITS if each.in_crate)
"""What lies in the crate."""


def plan_entries() -> list[Entry]:
    """Return the plan as entries of a journal."""
    ranges = tuple(planned_device.Range(first=each.first, last=each.last) for each in SITE.pools)
    subnet = site_plan.Subnet(network=SITE.network, gateway=SITE.gateway, dns=SITE.dns, pools=ranges, vlan=20)
    devices = (
        planned_device.PlannedDevice(
            tag=item.tag, kind=item.description, mac=item.mac, address=item.target.interface.ip,
            gateway=item.target.gateway, dns=item.target.dns or None,
            columns=item.planned.columns if item.planned else {},
        )
        for item in WORK
        if item.target
    )  # fmt: skip
    return [SubnetPlanned(subnet=subnet), *(DevicePlanned(device=each) for each in devices)]


def tag_of(mac: MacAddress) -> str:
    """Read the tag on the label of the unit that has a MAC address; nothing where it is none of the scenario's."""
    return next((each.work.tag for each in UNITS if each.make().mac == mac), "")


def stand_in(tag: str) -> StandIn:
    """Take a fresh unit out of the crate."""
    return next(each for each in UNITS if each.work.tag == tag).make()


def twins() -> tuple[StandIn, ...]:
    """Hang all oxygen probes on one small switch."""
    return tuple(stand_in(f"OX-0{number}") for number in OXYGEN_HEADS)


def house() -> tuple[StandIn, ...]:
    """Put the cable into the wrong socket: the site LAN."""
    gateway = IPv4Address("10.84.19.254")
    router = HouseRouter(
        MacAddress(_BLOCK + b"\xf0"), Settings(IPv4Interface("10.84.19.254/22")), IPv4Address("10.84.18.77")
    )
    computers = (
        HouseComputer(MacAddress(_BLOCK + bytes((number,))), IPv4Interface(f"10.84.18.{number - 0x80}/22"), gateway)
        for number in (0x8C, 0x9D)
    )
    return (router, *computers)
