"""Finding: every frame is read for clues, and what to ask is asked."""

from collections.abc import Iterable
from dataclasses import dataclass, replace
from enum import StrEnum
from ipaddress import IPv4Address, IPv4Network

from askport.core.addresses import MacAddress
from askport.core.finding.asking import DEFAULT_RATE, Calling
from askport.core.finding.beliefs import AddressBelief, Asking, Belief, Evidence
from askport.core.finding.clues import Clue, Tells
from askport.core.finding.likely import likely_addresses
from askport.core.finding.readers import read_clues
from askport.core.formats.arp import arp_question
from askport.core.formats.ethernet import Ethernet
from askport.core.machine import Machine, earliest
from askport.core.wire import Heard, Link

MAX_DEVICES = 1024
"""MAC addresses kept: more than a /22 has hosts. On a wire with more, the cable is in the wrong socket anyway."""
IMPOSSIBLE_ADDRESS = IPv4Address("192.0.2.173")
"""From the block for documentation (RFC 5737), which nobody may use: who answers for it answers for everything."""
_CHECK_WAIT_S = 0.3
"""How long a device may take to answer for the impossible address; it has just answered another question."""
_PATIENT_PASSES = 5
"""A single address is asked for once a second, twice as often as this: ten seconds cover most boot times."""


class Loudness(StrEnum):
    """How much the laptop may send."""

    LISTEN = "listen"
    CALL = "call"


@dataclass(frozen=True, slots=True, kw_only=True)
class Device:
    """What is known about one MAC address on the wire, at one moment."""

    mac: MacAddress
    addresses: tuple[AddressBelief, ...]
    asking: Asking | None
    names: tuple[str, ...]
    frames: int
    first_at: float
    last_at: float
    serves_addresses: bool
    vlans: tuple[int, ...]
    moments: tuple[tuple[float, Clue], ...]

    @property
    def best(self) -> AddressBelief | None:
        """Its surest address."""
        return self.addresses[0] if self.addresses else None

    @property
    def is_found(self) -> bool:
        """Whether its address is certain, or it asks for one: nothing more is needed to go on."""
        return self.asking is not None or (self.best is not None and self.best.belief is Belief.CERTAIN)


@dataclass(frozen=True, slots=True, kw_only=True)
class Hazard:
    """Something on the wire that could lead to a wrong step, with what to do about it."""

    code: str
    text: str
    mac: MacAddress | None = None
    address: IPv4Address | None = None


class Finder(Machine):
    """Hears everything, and calls when it may."""

    def __init__(
        self,
        laptop_macs: Iterable[MacAddress],
        *,
        now: float,
        loudness: Loudness = Loudness.LISTEN,
        known: Iterable[IPv4Address] = (),
        within: Iterable[IPv4Network] = (),
        rate: float = DEFAULT_RATE,
    ) -> None:
        super().__init__()
        self.laptop_macs = tuple(laptop_macs)
        self.laptop_addresses: set[IPv4Address] = set()
        """Kept up to date by whoever borrows: a device that looks for one of these was made to."""
        self._started_at = now
        self._evidence: dict[MacAddress, Evidence] = {}
        self._checks: dict[MacAddress, float] = {}
        self._calling: Calling | None = None
        self.frames_seen = 0
        self.frames_unreadable = 0
        self.loudness = loudness
        if loudness is Loudness.CALL:
            self.call(known, within, now=now, rate=rate)

    def call(
        self,
        known: Iterable[IPv4Address] = (),
        within: Iterable[IPv4Network] = (),
        *,
        now: float,
        rate: float = DEFAULT_RATE,
        guess: bool = True,
    ) -> None:
        """Ask from now on for the known addresses again and again, and for likely ones unless told not to guess."""
        self.loudness = Loudness.CALL
        known = list(known)
        addresses = likely_addresses(known, within) if guess else known * _PATIENT_PASSES
        self._calling = Calling(self.laptop_macs[0], addresses, now=now, rate=rate if guess else 1.0, often=known)

    def listen(self) -> None:
        """Stop asking."""
        self.loudness = Loudness.LISTEN
        self._calling = None

    @property
    def calling(self) -> Calling | None:
        """The questions under way, or None."""
        return self._calling

    def forget(self, mac: MacAddress) -> None:
        """Drop all evidence about a device, because it moved or was taken off the wire."""
        self._evidence.pop(mac, None)
        self._checks.pop(mac, None)

    def receive(self, heard: Heard) -> None:
        """Read one frame for clues; the laptop's own frames never count, nor do their reflections."""
        self.frames_seen += 1
        packet = heard.packet
        self.frames_unreadable += packet.unreadable is not None
        ethernet = packet.get(Ethernet)
        if ethernet is None or ethernet.src in self.laptop_macs:
            return
        by_mac: dict[MacAddress, list[Clue]] = {} if ethernet.src.is_group else {ethernet.src: []}
        for clue in read_clues(packet):
            if clue.mac not in self.laptop_macs:
                by_mac.setdefault(clue.mac, []).append(clue)
        for mac, clues in by_mac.items():
            evidence = self._evidence_of(mac, heard.at)
            if evidence is None:
                continue
            if mac == ethernet.src:
                evidence.frames += 1
                if ethernet.vlan:
                    evidence.vlans.add(ethernet.vlan)
            evidence.add(
                (self._ours_left_out(each) for each in clues if not self._answers_check(each, evidence)), heard
            )
            if any(clue.tells is Tells.ANSWERS for clue in clues):
                self._check(mac, evidence, heard.at)

    def _evidence_of(self, mac: MacAddress, at: float) -> Evidence | None:
        evidence = self._evidence.get(mac)
        if evidence is None and len(self._evidence) < MAX_DEVICES:
            evidence = self._evidence[mac] = Evidence(mac, at, at)
        return evidence

    def _ours_left_out(self, clue: Clue) -> Clue:
        if clue.tells is Tells.LOOKS_FOR and clue.about in self.laptop_addresses:
            return replace(clue, tells=Tells.LOOKS_FOR_US, about=None)
        return clue

    def _answers_check(self, clue: Clue, evidence: Evidence) -> bool:
        if clue.tells is not Tells.ANSWERS or clue.address != IMPOSSIBLE_ADDRESS:
            return False
        evidence.answers_for_all, evidence.being_checked = True, False
        self._checks.pop(clue.mac, None)
        return True

    def _check(self, mac: MacAddress, evidence: Evidence, now: float) -> None:
        """Before an answer to our question is believed, ask its sender for an address that cannot be."""
        if self.loudness is Loudness.LISTEN or evidence.answers_for_all is not None or mac in self._checks:
            return
        evidence.being_checked = True
        self._checks[mac] = now + _CHECK_WAIT_S
        self._send(arp_question(self.laptop_macs[0], IMPOSSIBLE_ADDRESS))

    def link_changed(self, link: Link, now: float) -> None:
        """Forget checks under way; evidence stays, and its times tell what came before."""
        if not link.up:
            for mac in self._checks:
                self._evidence[mac].being_checked = False
            self._checks.clear()

    def handle_timer(self, now: float) -> None:
        """Believe answers whose check nobody answered, and ask on."""
        for mac in [mac for mac, at in self._checks.items() if at <= now]:
            del self._checks[mac]
            self._evidence[mac].answers_for_all, self._evidence[mac].being_checked = False, False
        if self._calling:
            self._calling.handle_timer(now)
            self._effects += self._calling.poll()

    def next_deadline(self) -> float | None:
        """Return when the next question or the end of a check is due."""
        return earliest(*self._checks.values(), self._calling.next_deadline() if self._calling else None)

    def devices(self) -> list[Device]:
        """Return the devices on the wire, those with the surest and most recent knowledge first."""
        views = [self._view(evidence) for evidence in self._evidence.values()]
        return sorted(views, key=lambda each: (-_sureness(each), -each.last_at))

    def device(self, mac: MacAddress) -> Device | None:
        """Return one device, or None where nothing was heard of it."""
        evidence = self._evidence.get(mac)
        return self._view(evidence) if evidence else None

    def _view(self, evidence: Evidence) -> Device:
        return Device(
            mac=evidence.mac,
            addresses=tuple(evidence.beliefs()),
            asking=evidence.asking(),
            names=evidence.names,
            frames=evidence.frames,
            first_at=evidence.first_at,
            last_at=evidence.last_at,
            serves_addresses=evidence.serves_addresses,
            vlans=tuple(sorted(evidence.vlans)),
            moments=tuple(evidence.moments),
        )

    def hazards(self) -> list[Hazard]:
        """Return what on this wire calls for care."""
        return find_hazards(self.devices())


def _sureness(device: Device) -> int:
    if device.best and device.best.belief is Belief.CERTAIN:
        return 4
    return 3 if device.asking else int(device.best.belief) if device.best else 0


def find_hazards(devices: list[Device]) -> list[Hazard]:
    """Return what is dangerous about this set of devices on one wire."""
    hazards = []
    for device in devices:
        if device.serves_addresses:
            address = device.best.address if device.best else None
            text = f"An address server answers here, {address}: the cable is in a live network. Unplug it there first."
            hazards.append(Hazard(code="address-server", text=text, mac=device.mac, address=address))
        for vlan in device.vlans:
            text = (
                f"{device.mac} speaks with a tag for VLAN {vlan} and the laptop without: neither can reach the other. "
                f"Connect it straight, or have its port send VLAN {vlan} untagged."
            )
            hazards.append(Hazard(code="tagged", text=text, mac=device.mac))
    holders: dict[IPv4Address, list[MacAddress]] = {}
    for device in devices:
        for belief in device.addresses:
            if belief.belief is Belief.CERTAIN:
                holders.setdefault(belief.address, []).append(device.mac)
    for address, macs in holders.items():
        if len(macs) > 1:
            who = " and ".join(str(mac) for mac in macs[:4])
            text = f"{len(macs)} devices hold {address}: {who}. Leave only one of them connected."
            hazards.append(Hazard(code="duplicate-address", text=text, mac=macs[0], address=address))
    if len(devices) > 1:
        text = f"{len(devices)} devices speak on this wire. Check the MAC address on the label before changing one."
        hazards.append(Hazard(code="several-devices", text=text))
    return hazards
