"""The hands of whoever practises: what a real person would do at the device."""

from collections.abc import Iterable
from dataclasses import replace
from ipaddress import IPv4Address, IPv4Interface

from askport.bench import scenario
from askport.bench.bench import Bench
from askport.core import addresses, errors
from askport.core.phrases import phrase
from askport.core.plan.target import Target
from askport.core.plan.working_order import WorkItem


class Practice:
    """Handles the stand-in on the bench; each verb returns what the person sees."""

    def __init__(self, bench: Bench) -> None:
        self.bench = bench

    def take(self, item: WorkItem) -> None:
        """Take the next unit out of the crate and plug it in."""
        self.bench.plug(scenario.stand_in(item.tag))

    def move(self, wire: str) -> None:
        """Put the cable elsewhere: into the next unit of the crate, the switch of twins, or the wrong socket."""
        if wire == "twins":
            self.bench.plug(*scenario.twins(), switch=True)
        elif wire == "house":
            self.bench.plug(*scenario.house(), switch=True)

    @property
    def is_powered(self) -> bool:
        """Whether the device has power."""
        return self.bench.device is not None and self.bench.device.powered

    @property
    def hand(self) -> str:
        """What is typed into: its page, its keypad, its console."""
        return self.bench.device.hand if self.bench.device else "page"

    def toggle_power(self) -> str:
        """Pull its power, or put it back."""
        self.bench.power(not self.is_powered)
        return phrase("Power plugged in.") if self.is_powered else phrase("Power pulled.")

    def type_in(self, target: Target | None, *, wrongly: bool = False) -> str:
        """Type the planned values into the device, or tired ones."""
        if target is None:
            return phrase("There is nothing planned to type.")
        try:
            return self.bench.type_in(mistyped(target) if wrongly else target)
        except errors.Refused as error:
            return error.message

    def power_all(self) -> None:
        """Pull the power of the switch and of all that hang on it, or put it back."""
        self.bench.power_all(not any(each.powered for each in self.bench.devices))

    def label_of(self, macs: Iterable[addresses.MacAddress]) -> list[str]:
        """Scan the label of the first of these: its MAC address, and its tag."""
        mac = min(macs, default=None)
        tag = scenario.tag_of(mac) if mac else ""
        return [str(mac), tag] if tag else []


def mistyped(target: Target) -> Target:
    """Return the values as tired fingers type them: the digits of one octet turned round, or two octets swapped."""
    octets = str(target.interface.ip).split(".")
    turned = str(int(octets[2][::-1]))
    if turned != octets[2] and int(turned) <= 255:
        octets[2] = turned
    else:
        octets[1], octets[2] = octets[2], octets[1]
    wrong = IPv4Interface((IPv4Address(".".join(octets)), target.interface.network.prefixlen))
    return replace(target, interface=wrong)
