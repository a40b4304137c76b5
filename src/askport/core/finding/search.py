"""Looking for the one device that is meant: which of those on the wire it is, and how loudly it is asked for."""

from collections.abc import Callable, Sequence
from ipaddress import IPv4Address, IPv4Network

from askport.core.addresses import NO_MAC, MacAddress, parse_address, parse_network
from askport.core.errors import BadInput
from askport.core.finding import clues, loudness
from askport.core.finding.device import Device
from askport.core.finding.finder import Finder
from askport.core.finding.label import LabelMatch, label_digits, match_label
from askport.core.finding.sweeping import DEFAULT_SWEEP_RATE, PRIVATE
from askport.core.phrases import phrase

_LIVE = ("address-server", "router")
"""Hazards of a wire that somebody runs a network on."""


class Search:
    """The technician's side of finding."""

    def __init__(
        self,
        finder: Finder,
        *,
        label_mac: MacAddress | None = None,
        delivered: IPv4Address | None = None,
        found_before: Sequence[tuple[str | None, IPv4Address]] = (),
        maker: Callable[[MacAddress], str | None] = lambda _: None,
    ) -> None:
        """Begin to look.

        Args:
            label_mac: the MAC address on the label of the device that is meant, where it is known.
            delivered: the address that it was delivered with, where it is known.
            found_before: makers and addresses of devices that were found earlier, the latest last.
        """
        self.finder, self.label_mac = finder, label_mac
        self._accepted: set[MacAddress] = set()
        self._ordered: tuple[list[Device], list[Device]] = [], []
        self.pointed_at: MacAddress | None = None
        """The device that the technician points at, or None for the surest."""
        self.likely_of: Callable[[MacAddress], list[IPv4Address]] = lambda _: []
        """Names the addresses that something about one device speaks for, the likeliest first."""
        self.is_planned: Callable[[MacAddress], bool] = lambda _: False
        """Tells whether the plan has a device by its MAC address."""
        self.speed_mbps: Callable[[], int | None] = lambda: None
        """Tells the link's speed, which bounds that of a sweep."""
        self._delivered, self._found_before, self._maker = delivered, list(found_before), maker

    def mean(self, label_mac: MacAddress | None, delivered: IPv4Address | None) -> None:
        """Look for another device than before."""
        self.label_mac, self._delivered, self.pointed_at = label_mac, delivered, None

    def devices(self) -> list[Device]:
        """Return the devices on the wire, the surest first, in an order in which nothing jumps while they speak."""
        order = lambda each: (not each.is_present, -each.sureness, each.first_at, each.mac)  # noqa: E731
        views = self.finder.devices()
        if views != self._ordered[0]:
            self._ordered = views, sorted(views, key=order)
        return list(self._ordered[1])

    @property
    def candidate(self) -> Device | None:
        """The device that Enter would take: the one pointed at, the one on the label, or the surest."""
        for mac in (self.pointed_at, self.label_mac):
            if mac and (device := self.finder.device(mac)) and device.is_present:
                return device
        return next(iter(self.devices()), None)

    @property
    def obstacle(self) -> str | None:
        """Why the device at hand must not be gone on with, or None where nothing speaks against it.

        What is sent to the address of twins may reach any of them, and what runs a live network is not to be set.
        """
        device = self.candidate
        if device is None:
            return None
        if self.may_accept:
            what = phrase(
                "The cable is in a live network, and {mac} may be any device: compare its label (m)", mac=device.mac
            )
            if self._runs(device):
                what = phrase(
                    "{mac} is a router or DHCP server on a live network: wrong socket? Move the cable", mac=device.mac
                )
            return phrase("{what}, or press d if this is the device to set.", what=what)
        twins = self.twins(device)
        if len(twins) > 1 and self.label_mac != device.mac:
            address = device.best.address if device.best else None
            return phrase(
                "{count} devices share {address}. Connect one only. Or press m and enter the MAC address "
                "on its label, or x to set them all.",
                count=len(twins),
                address=address,
            )
        return None

    @property
    def may_accept(self) -> bool:
        """Whether somebody has to say that the device at hand is the one that is meant, as in a live network.

        In a network that somebody runs, anybody may be heard: only the plan or a label tells which is meant.
        """
        device = self.candidate
        if device is None or device.mac in self._accepted:
            return False
        is_live = any(each.code in _LIVE for each in self.finder.hazards())
        is_known = device.mac == self.label_mac or self.is_planned(device.mac)
        return self._runs(device) or (is_live and not is_known)

    @staticmethod
    def _runs(device: Device) -> bool:
        return device.tells(clues.ClueKind.SERVES) or device.tells(clues.ClueKind.ROUTES_IPV6)

    def accept(self) -> None:
        """Take in that the device at hand is the one that is meant, though it runs a network."""
        if device := self.candidate:
            self._accepted.add(device.mac)
            self.pointed_at = device.mac

    def twins(self, device: Device) -> tuple[MacAddress, ...]:
        """Return the MAC addresses of all that hold the same address as this device, its own included."""
        found = (each for each in self.finder.hazards() if each.code == "duplicate-address" and device.mac in each.macs)
        return next((each.macs for each in found), ())

    def point_at(self, mac: MacAddress) -> None:
        """Point at one of several devices."""
        self.pointed_at = mac

    def louder(self, now: float) -> None:
        """Go up one rung of what may be sent; where something speaks for an address, it is called at once.

        On the top rung, sweep again once the last sweep is over.
        """
        finder = self.finder
        if finder.loudness is loudness.Loudness.LISTEN:
            finder.greet(now)
            if self._delivered:
                finder.call(self.known_addresses(), now=now)
        elif finder.loudness is loudness.Loudness.GREET:
            finder.call(self.known_addresses(), now=now)
        elif finder.sweeping is None or finder.sweeping.done:
            finder.sweep([*self._likely_ranges(), *PRIVATE], now=now, rate=self.sweep_rate)
        elif (rate := self.faster) is not None:
            finder.sweeping.go_at(rate, now)

    @property
    def faster(self) -> float | None:
        """The next higher rate of the sweep under way, in questions a second; None at the top, or without one."""
        sweeping = self.finder.sweeping
        return sweeping.faster(self.speed_mbps()) if sweeping and not sweeping.done else None

    @property
    def sweep_rate(self) -> float:
        """At which rate the next sweep begins: the one that was chosen last."""
        return self.finder.sweeping.rate if self.finder.sweeping else DEFAULT_SWEEP_RATE

    def _likely_ranges(self) -> list[IPv4Network]:
        """Return the ranges around what something speaks for: there a device is looked for first."""
        return list(dict.fromkeys(IPv4Network((int(each), 24), strict=False) for each in self.known_addresses()))

    def ask_one(self, mac: MacAddress, heard: Sequence[IPv4Address], now: float) -> None:
        """Ask one device at its own MAC address for where it may be; those that were heard of it go first."""
        self.finder.ask_one(mac, dict.fromkeys([*heard, *self.likely_of(mac), *self.known_addresses()]), now=now)

    def pause(self, now: float) -> None:
        """Hold the sweep, or go on with it."""
        sweeping = self.finder.sweeping
        if sweeping and sweeping.is_paused:
            sweeping.resume(now)
        elif sweeping:
            sweeping.pause(now)

    def known_addresses(self) -> list[IPv4Address]:
        """Return addresses that something speaks for, in order of likelihood.

        First what its manual gives, then what a device says of itself, and what speaks for each that is heard or meant,
        then where this maker's devices were found before, then where any was.
        """
        delivered = [self._delivered] if self._delivered else []
        beliefs = [belief for device in self.finder.devices() for belief in device.addresses]
        delivered += [each.address for each in beliefs if each.belief is not clues.Belief.CERTAIN]
        macs = dict.fromkeys([*filter(None, (self.label_mac,)), *(each.mac for each in self.finder.devices())])
        delivered += [each for mac in macs for each in self.likely_of(mac)]
        makers = {self._maker(device.mac) for device in self.finder.devices()} - {None}
        latest = list(reversed(self._found_before))
        same = [address for maker, address in latest if maker in makers]
        return list(dict.fromkeys([*delivered, *same, *(address for _, address in latest)]))

    def ask_for(self, text: str, now: float) -> None:
        """Ask for the address that a label, a display or a manual gives, or sweep a range such as ``172.16.0.0/12``.

        Raises:
            BadInput: the text is neither.
        """
        if "/" in text:
            self.finder.sweep([parse_network(text)], now=now, rate=self.sweep_rate)
        else:
            self.finder.call([parse_address(text)], now=now, guess=False)

    def match_label(self, text: str) -> list[LabelMatch]:
        """Compare the MAC address on a label, whole or its last digits, with what is on the wire.

        Returns:
            The devices that it fits, or the nearest one.

        Raises:
            BadInput: the text cannot be a MAC address or its end.
        """
        return match_label(text, [device.mac for device in self.finder.devices()])

    def label(self, text: str) -> None:
        """Point at the device whose label this is; a whole MAC address is kept until that device is heard.

        Raises:
            BadInput: no device fits, or several do.
        """
        matches = self.match_label(text)
        fitting = [each for each in matches if each.fits]
        if len(fitting) == 1:
            self.pointed_at = fitting[0].mac
        elif len(fitting) > 1:
            raise BadInput("{count} devices end like that: type more digits of the label.", count=len(fitting))
        elif len(label_digits(text)) < len(NO_MAC) * 2:
            raise BadInput(
                matches[0].sentence if matches else phrase("No device heard yet: enter the whole MAC address.")
            )
        self.label_mac = fitting[0].mac if fitting else MacAddress.parse(label_digits(text))
