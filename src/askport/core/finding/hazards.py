"""What is dangerous about the devices on one wire, each with what to do."""

from collections.abc import Iterable, Iterator
from ipaddress import IPv4Address, IPv6Address
from itertools import pairwise

from askport.core import addresses, protocols, wire
from askport.core.finding import clues, doubts, virtual
from askport.core.finding.device import Device
from askport.core.hazard import Hazard
from askport.core.phrases import listed, phrase

_ONE_BOX = 8
"""MAC addresses of one device's ports lie next to each other; makers give blocks of up to this many to one."""


_SHED_AS = {"arp": "ARP", "ipv4": "IPv4", "ipv6": "IPv6", "lldp": "LLDP", "profinet": "PROFINET"}


def wire_hazards(counts: wire.Counts) -> list[Hazard]:
    """Return what is dangerous about the wire: a flood, and that the laptop cannot keep up with what comes."""
    hazards = []
    if counts.shed:
        each = listed(f"{count:,} {_SHED_AS.get(kind, 'other')} frames" for kind, count in sorted(counts.shed.items()))
        advice = phrase("Look for a loop in the cabling, or connect the device alone.")
        hazards.append(
            Hazard(
                code="flood",
                text=phrase("This wire is flooded: {each} were left unread. {advice}", each=each, advice=advice),
            )
        )
    if counts.behind_s or counts.lost:
        late = phrase("it read frames up to {behind_s:.0f} s late", behind_s=counts.behind_s) if counts.behind_s else ""
        lost = phrase("{lost:,} frames were lost", lost=counts.lost) if counts.lost else ""
        text = phrase(
            "The laptop cannot keep up: {filter}. End other programs, or connect the device alone; an "
            "answer may have been missed.",
            filter=listed(filter(None, (late, lost))),
        )
        hazards.append(Hazard(code="cannot-keep-up", text=text))
    return hazards


class OwnHazards:
    """What is dangerous about each device by itself, worked out once for each change of it."""

    def __init__(self) -> None:
        self._known: dict[addresses.MacAddress, tuple[Device, list[Hazard]]] = {}

    def of(self, device: Device) -> list[Hazard]:
        """Return the hazards of one device, as it is now."""
        known = self._known.get(device.mac)
        if known is None or known[0] is not device:
            known = self._known[device.mac] = device, list(_of_one(device))
        return known[1]


def find_hazards(devices: list[Device], own: OwnHazards) -> list[Hazard]:
    """Return what is dangerous about this set of devices on one wire."""
    devices = [each for each in devices if each.is_present]
    hazards = [hazard for device in devices for hazard in own.of(device)]
    hazards += _twins(devices)
    hazards += _ipv6_twins(devices)
    hazards += _neighbours(devices)
    hazards += _same_number(devices)
    routers = {each.address for device in devices if not device.speaks_for for each in device.addresses}
    speaking = [
        each
        for each in devices
        if not (each.tells(clues.ClueKind.BRIDGES) and not each.addresses)
        and not (each.speaks_for and routers.issuperset(each.speaks_for))  # one router, with two MAC addresses
    ]
    if len(speaking) > 1:
        text = phrase(
            "{count} devices speak on this wire. Check the MAC address on the label before changing one.",
            count=len(speaking),
        )
        hazards.append(Hazard(code="several-devices", text=text))
    return hazards


def _of_one(device: Device) -> Iterator[Hazard]:
    mac = device.mac
    for server in device.servers:
        text = phrase(
            "DHCP server {server} found: this cable is plugged into a live network. Unplug it.", server=server
        )
        serves = device.tells(clues.ClueKind.SERVES)
        yield Hazard(code="address-server", text=text, macs=(mac,) if serves else (), address=server)
    if device.tells(clues.ClueKind.ROUTES_IPV6):
        text = phrase(
            "{mac} says that it is a router: the cable is in a live network. Connect straight to the device.", mac=mac
        )
        yield Hazard(code="router", text=text, macs=(mac,))
    if device.tells(clues.ClueKind.BRIDGES):
        text = phrase(
            "Switch {mac} found. It may block traffic for 30 s after link-up, and other devices may be "
            "connected to it. Connect straight to the device where you can.",
            mac=mac,
        )
        yield Hazard(code="switch", text=text, macs=(mac,))
    if device.tells(clues.ClueKind.WANTS_LOGIN):
        text = phrase(
            "This port wants a log-in (802.1X, {mac}) and passes nothing on: connect straight to the device.", mac=mac
        )
        yield Hazard(code="port-login", text=text, macs=(mac,))
    if device.tells(clues.ClueKind.SAYS_CONFLICT):
        text = phrase("{mac} says that somebody else has its address: find out who, before either is changed.", mac=mac)
        yield Hazard(code="says-conflict", text=text, macs=(mac,))
    for vlan in device.vlans:
        text = phrase(
            "{mac} uses tagged VLAN {vlan}; the laptop sends untagged, so they cannot talk. Connect it "
            "straight, or have its port send VLAN {vlan} untagged.",
            mac=mac,
            vlan=vlan,
        )
        yield Hazard(code="tagged", text=text, macs=(mac,))
    if device.answers_for_all:
        text = phrase(
            "{mac} answers ARP for every address (proxy ARP), so its answers do not show its own "
            "address. Wait for it to speak by itself, or look on its display.",
            mac=mac,
        )
        yield Hazard(code="answers-for-all", text=text, macs=(mac,))
    elif device.holdings.answers_for_others:
        known = listed(device.holdings.only_answered[:4])
        text = phrase(
            "{mac} answers for several addresses that it never spoke from ({known}): other devices "
            "behind it may own them. Wait for it to speak by itself, or connect straight to the device.",
            mac=mac,
            known=known,
        )
        yield Hazard(code="answers-for-others", text=text, macs=(mac,))
    yield from _passes_on(device)
    protocol = virtual.group_protocol(mac)
    if protocol:
        said = "{mac} stands for a group of routers, {protocol}, not for a device; {by} speaks for it: leave it alone."
        if not device.speaks_for:
            said = "{mac} stands for a group of routers, {protocol}, not for a device: leave it alone."
        text = phrase(said, mac=mac, protocol=protocol, by=listed(device.speaks_for))
        yield Hazard(code="virtual-mac", text=text, macs=(mac,), address=next(iter(device.speaks_for), None))


def _passes_on(device: Device) -> Iterator[Hazard]:
    """Say where others speak through it."""
    mac, spoken, mixed = device.mac, device.holdings.spoken, device.holdings.mixed
    if device.tells(clues.ClueKind.REFLECTS):
        text = phrase(
            "{mac} returns the laptop's own packets: there is a loop. Remove it before you continue.", mac=mac
        )
        yield Hazard(code="reflector", text=text, macs=(mac,))
    if mixed:
        text = phrase(
            "{mac} speaks from {count} addresses ({mixed}): a bridge or a proxy with others behind it. "
            "Connect straight to the device.",
            mac=mac,
            count=len(mixed),
            mixed=listed(mixed[:4]),
        )
        yield Hazard(code="several-addresses", text=text, macs=(mac,))
    foreign = [each for each in device.sent_from if each not in device.holdings.shown]
    denied = any(device.holdings.unanswered.get(each, 0) >= doubts.GIVEN_UP_AFTER for each in foreign)
    if foreign and (spoken or len(foreign) > 1 or denied or device.tells(clues.ClueKind.FORWARDS)):
        text = phrase(
            "{mac} sends packets from {foreign}, which it has not shown to hold. It may be a router "
            "that passes on what others say. Connect straight to the device.",
            mac=mac,
            foreign=listed(foreign[:4]),
        )
        yield Hazard(code="passes-on", text=text, macs=(mac,))


def _twins(devices: Iterable[Device]) -> Iterator[Hazard]:
    holders: dict[IPv4Address, list[Device]] = {}
    for device in devices:
        for belief in device.addresses:
            shown = belief.address in device.holdings.shown and belief.address not in device.holdings.left
            if shown and belief.belief >= clues.Belief.LIKELY:
                holders.setdefault(belief.address, []).append(device)
    for address, all_of_them in holders.items():
        macs = [each.mac for each in all_of_them]
        if len(macs) > 1:
            text = phrase(
                "{count} devices use the same address {address}: {who}. Connect one at a time, or press x to "
                "set them all by label.",
                count=len(macs),
                address=address,
                who=_who(macs),
            )
            yield Hazard(code="duplicate-address", text=text, macs=tuple(sorted(macs)), address=address)


def _ipv6_twins(devices: Iterable[Device]) -> Iterator[Hazard]:
    """Say where several use one link-local address: made by hand, or with one MAC address in two boards."""
    holders: dict[IPv6Address, list[addresses.MacAddress]] = {}
    for device in devices:
        for address in device.ipv6:
            if address.is_link_local:
                holders.setdefault(address, []).append(device.mac)
    for address, macs in holders.items():
        if len(macs) > 1:
            text = phrase(
                "{count} twins use {address} (IPv6): {who}. Connect one alone before it is reached there.",
                count=len(macs),
                address=address,
                who=_who(macs),
            )
            yield Hazard(code="duplicate-ipv6", text=text, macs=tuple(sorted(macs)))


def _same_number(devices: Iterable[Device]) -> Iterator[Hazard]:
    """Say where several devices have one number that their users choose, such as a BACnet instance.

    It is one device's (ASHRAE 135 clause 12.11.1).
    """
    holders: dict[tuple[protocols.Protocol, int], list[addresses.MacAddress]] = {}
    for device in devices:
        for each in device.identities:
            known = protocols.PROTOCOLS.get(each.protocol)
            if known and known.number_is_chosen and each.serial is not None:
                holders.setdefault((known, each.serial), []).append(device.mac)
    for (protocol, number), macs in holders.items():
        if len(macs) > 1:
            text = phrase(
                "{count} devices say that they are {words} device {number}: {who}. Requests for that number "
                "may reach either. Change the number on one of them.",
                count=len(macs),
                words=protocol.words,
                number=number,
                who=_who(macs),
            )
            yield Hazard(code="same-instance", text=text, macs=tuple(sorted(macs)))


def _neighbours(devices: list[Device]) -> Iterator[Hazard]:
    """Say where two MAC addresses side by side, with different addresses, may be one device with two ports."""
    by_mac = sorted((each for each in devices if each.best), key=lambda each: each.mac)
    for one, other in pairwise(by_mac):
        if one.mac.is_local or int.from_bytes(other.mac, "big") - int.from_bytes(one.mac, "big") >= _ONE_BOX:
            continue
        shared = {each.address for each in one.addresses} & {each.address for each in other.addresses}
        if not shared and one.best and other.best:
            text = phrase(
                "{mac} ({address}) and {other_mac} ({best_address}) have neighbouring MAC addresses: one "
                "device with two ports, or two units from one crate. Their labels say which.",
                mac=one.mac,
                address=one.best.address,
                other_mac=other.mac,
                best_address=other.best.address,
            )
            yield Hazard(code="one-box", text=text, macs=(one.mac, other.mac), address=one.best.address)


def _who(macs: list[addresses.MacAddress]) -> str:
    more = [f"{len(macs) - 4} more"] if len(macs) > 4 else []
    return listed([*sorted(macs)[:4], *more])
