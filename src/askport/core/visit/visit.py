"""One visit of a device: everything that the stages share."""

from collections.abc import Sequence
from dataclasses import replace
from ipaddress import IPv4Address, IPv4Interface, IPv6Address

from askport.core import addresses, errors
from askport.core.finding.device import Device
from askport.core.formats import field_protocols, modbus
from askport.core.kinds.recognising import Fit, fitting_kinds, possible_kinds
from askport.core.machine import Effect, Machine, SpeakIpv6, WriteEntry
from askport.core.phrases import phrase
from askport.core.plan.editing import next_free
from askport.core.plan.landings import landings
from askport.core.plan.target import Target, TargetCheck, check_target
from askport.core.proofs.proof import Subject
from askport.core.reach.can_talk import Verdict, can_talk
from askport.core.reach.over_ipv6 import OverIpv6
from askport.core.register import writing
from askport.core.register.entries import DevicePlanned, Entry, Named
from askport.core.visit import at_hand, steps
from askport.core.visit.cable import Cable
from askport.core.visit.transitions import Event, after
from askport.core.ways import choosing, log_in, table, way_entry
from askport.core.ways.start import Start
from askport.core.ways.way import Way

USUAL_PORTS = (80, 443, 22, 23, modbus.PORT_MODBUS, field_protocols.PORT_ETHERNET_IP)
"""Asked once on the device as found: web page, secure page, SSH, Telnet, Modbus/TCP, EtherNet/IP. What answers there
must answer at the new address too."""


class Visit:
    """The cable, the device at hand, the phase, what runs, and what is to be done."""

    def __init__(self, cable: Cable, device: at_hand.AtHand) -> None:
        self.cable, self.device = cable, device
        cable.search.likely_of = self.likely_of
        cable.search.is_planned = lambda mac: any(row.mac == mac for row in cable.around.rows)
        self.phase = steps.Phase.FINDING if cable.link.up else steps.Phase.PLUGGING
        self.free_address: IPv4Interface | None = None
        """The free laptop address that can be borrowed now."""
        self.free_since = float("-inf")
        self.reached_from: IPv4Interface | None = None
        """The laptop's address from which the device was talked to as found."""
        self.trouble: errors.AskPortError | None = None
        """What the laptop or the device refused last."""
        self.running: list[Machine] = []
        self.effects: list[Effect] = []

    def go(self, event: Event, *running: Machine) -> None:
        """Go to the phase behind an event, with what runs there; one that has no place now changes nothing."""
        if phase := after(self.phase, event):
            self.drop(but=running)
            self.phase, self.running = phase, list(running)

    def drop(self, but: Sequence[Machine] = ()) -> None:
        """End what runs, some aside: each closes what it opened, and a way that has told something is on record."""
        for machine in self.running:
            if any(machine is each for each in but):
                continue
            was_done = machine.done
            self.effects += machine.drop()
            if isinstance(machine, Way) and machine.has_acted and not was_done:
                self.device.left_way = machine
                self.device.was_touched = True
                self.write(writing.was_set(machine, unit=self.device.unit))
        self.running = []

    def write(self, *entries: Entry) -> None:
        """Have entries written to the journal."""
        self.effects += [WriteEntry(each) for each in entries]

    def name(self, tag: str) -> None:
        """Give the device a new tag; its row of the plan is called that too, and keeps its values."""
        device, planned = self.device, self.device.work.planned
        if planned and tag != planned.tag:
            renamed = planned.model_copy(update={"tag": tag})
            self.write(DevicePlanned(device=planned, removed=True), DevicePlanned(device=renamed))
            planned = renamed
        device.work = device.next_item = replace(device.work, tag=tag, planned=planned)
        device.is_meant = True
        if device.chosen:
            device.decided = device.chosen.mac
            self.write(Named(unit=device.unit, mac=device.chosen.mac, tag=tag))

    # What the stages and the screen ask

    @property
    def way(self) -> way_entry.WayEntry | None:
        """The way that is chosen."""
        return table.entry_of(self.device.way_name)

    def ways(self) -> list[choosing.WayChoice]:
        """Return the ways that fit this device, best first, each with the reason and what it still needs."""
        device, kind, around = self.device, self.device.kind, self.cable.around
        has = {errors.Wants.LOG_IN} if device.entered_as in around.log_ins else set[errors.Wants]()
        has |= {errors.Wants.LINE} if kind and kind.name in around.serial_lines else set()
        there, ports = device.whereabouts, device.open_ports
        found = choosing.fitting(device.chosen, there, kind, door=self.door, ports=ports, has=has)
        offered = next((each.kind for each in device.fits if each.is_offer), None) if kind is None else None
        if offered is None:
            return found
        known = {each.entry.name for each in found if each.usable}
        by_kind = choosing.fitting(device.chosen, there, offered, door=self.door, ports=ports, has=has)
        more = [each._replace(offers=offered.name) for each in by_kind if each.entry.name not in known and each.usable]
        names = {each.entry.name for each in more}
        return [*(each for each in found if each.usable or each.entry.name not in names), *more]

    @property
    def usual_ports(self) -> list[int]:
        """TCP ports that the device is asked at: those that the plan names, and the usual ones; none for an errand."""
        return [] if self.device.errand else [*dict.fromkeys((*self.device.work.ports, *USUAL_PORTS))]

    @property
    def way_names(self) -> list[str]:
        """The names of the ways that can be chosen, best first."""
        errand = self.device.errand
        return [errand.way] if errand and errand.way else [each.entry.name for each in self.ways() if each.usable]

    def kinds_of(self, device: Device) -> list[Fit]:
        """Return the kinds that fit a device by all that was heard of it, the strictest first."""
        ports = self.device.open_ports if self.device.chosen and self.device.chosen.mac == device.mac else ()
        return fitting_kinds(self.cable.around.kinds, device, banners=self.device.first_words, ports=ports)

    def likely_of(self, mac: addresses.MacAddress) -> list[IPv4Address]:
        """Return where a device may be: what its kind is delivered with, where it was left, where it is meant to be."""
        around, found = self.cable.around, self.cable.finder.device(mac)
        kinds = [*(each.kind for each in self.kinds_of(found))] if found else []
        kinds += possible_kinds(around.kinds, mac, found)
        known, row = around.known.get(mac), next((each for each in around.rows if each.mac == mac), None)
        meant = [each.interface.ip for each in (known.target if known else None, row.target if row else None) if each]
        at = [each.delivered.interface.ip for each in kinds if each.delivered.interface]
        return list(dict.fromkeys([*at, *meant, *([known.found_at] if known and known.found_at else [])]))

    def see_kind(self) -> None:
        """Take in which kind the device at hand is of, as far as was heard by now."""
        device = self.device
        if device.chosen:
            live = self.cable.finder.device(device.chosen.mac) or device.chosen
            known = tuple(dict.fromkeys((*live.identities, *device.identities)))  # asked for once it was reached
            device.chosen, live = replace(device.chosen, identities=known), replace(live, identities=known)
            device.fits = self.kinds_of(live) or device.fits
            if planned := device.work.planned:
                named = [each.kind.name for each in device.fits if each.kind.name.casefold() == planned.kind.casefold()]
                device.takes_offer = next(iter(named), device.takes_offer)

    def set_unseen(self, device: Device) -> choosing.WayChoice | None:
        """Return the way by which a device can be set that has shown no address, with the reason, or None."""
        fit = next(iter(self.kinds_of(device)), None)
        ways = choosing.fitting(device, None, fit.kind if fit else None)
        return next((each for each in ways if each.entry.by_mac and each.usable), None)

    def may_be_taken(self, device: Device) -> bool:
        """Whether enough is known of a device to go on with it."""
        by_label = device.is_crowded and self.cable.search.label_mac == device.mac
        return device.is_found or by_label or self.set_unseen(device) is not None or self.only_over_ipv6(device)

    def only_over_ipv6(self, device: Device) -> bool:
        """Whether a device shows an IPv6 address and no other, though it was asked for likely ones."""
        calling = self.cable.finder.calling
        asked = calling is not None and calling.done
        return asked and not device.is_found and device.best is None and self.shows_ipv6(device)

    def shows_ipv6(self, device: Device) -> bool:
        """Whether a device has shown a link-local address that the laptop can talk to from beside the adapter."""
        return device.link_local is not None and self.cable.laptop.is_beside

    @property
    def door(self) -> IPv6Address | None:
        """Where the device is talked to over IPv6, because it is not reached by an IPv4 address; None elsewhere."""
        over, there = self.device.over_ipv6, self.device.whereabouts
        reached = self.device.was_taken or (there is not None and self.cable.laptop.reaching(there) is not None)
        return over.address if over and not reached else None

    def ask_over_ipv6(self, now: float) -> list[Machine]:
        """Return what asks the device at hand over IPv6, where it has shown such an address and was not asked."""
        device, laptop = self.device, self.cable.laptop
        if device.chosen is None or device.over_ipv6:
            return []
        if not (device.errand.start.door if device.errand else self.shows_ipv6(device.chosen)):
            return []
        laptop.speaks_ipv6 = True
        self.effects.append(SpeakIpv6())
        device.over_ipv6 = OverIpv6(laptop.borrows_as, device.chosen.mac, self.usual_ports, now=now)
        return [device.over_ipv6]

    @property
    def present_address(self) -> tuple[IPv4Interface, bool] | None:
        """The device's address as known now, the new one once it was taken, and whether its prefix is known."""
        device = self.device
        if device.was_taken and device.target:
            return device.target.interface, True
        if device.landed_at:
            return IPv4Interface((device.landed_at, 32)), False
        found = device.chosen or self.cable.search.candidate
        address = at_hand.address_of(found) if found else None
        if found is None or found.best is None or address is None:
            return None
        prefix = found.best.prefix
        return IPv4Interface((address, 32 if prefix is None else prefix)), prefix is not None

    def verdict(self) -> Verdict | None:
        """Say whether laptop and device can talk now, or None while the device has no known address."""
        present = self.present_address
        if present is None:
            return None
        (at, is_known), laptop = present, self.cable.laptop
        said = can_talk(laptop.talking or laptop.own, at.ip, at.network.prefixlen if is_known else None)
        over = self.phase is steps.Phase.RECORDED
        if (said.can or over) and not laptop.talking:
            text = (
                phrase("recorded: nothing is borrowed any more")
                if over
                else phrase("cannot talk yet: the laptop has no temporary address")
            )
            return replace(said, can=False, waits=True, sentence=text)
        return said

    def checks(self, typed: Target | None = None) -> list[TargetCheck]:
        """Return every check of the planned values, or of others that are only typed yet."""
        device, around = self.device, self.cable.around
        target = typed or device.target
        if not target:
            return []
        mac = device.chosen.mac if device.chosen else device.work.mac
        used = {address: around.tag_of(each) for address, each in around.used.items() if each != mac}
        own = (device.work.tag, device.listed_as)
        planned = {address: tag for address, tag in around.planned.items() if tag not in own}
        site = None if device.restores else around.site_of(target.interface.ip)  # as found it belongs to no site
        checks = check_target(target, site, used, planned)
        address = target.interface.ip
        others, row = around.others(), device.work.planned
        member = others.addresses.get(address)
        if member is None and not (row and row.address == address):  # what the plan says goes before what was dealt
            member = others.dealt.get(address)
        if member:
            said = phrase(
                "{address} is {member}'s to give: choose another, or have {member} do this device.",
                address=address,
                member=member,
            )
            checks.append(TargetCheck(about="crew", passed=False, sentence=said))
        laptop = next(
            (phrase("The laptop's {each}", each=each) for each in self.cable.laptop.addresses if each.ip == address),
            None,
        )
        asked = typed is None and device.target_holder is not None
        if holder := laptop or (str(device.target_holder) if asked else None):
            checks.append(
                TargetCheck(
                    about="unused",
                    passed=False,
                    sentence=phrase("{holder} answers there: it is in use.", holder=holder),
                )
            )
        elif typed is None and self.phase is not steps.Phase.PREPARING:
            checks.append(
                TargetCheck(
                    about="unused",
                    passed=True,
                    sentence=phrase("Nobody answers for {address} on this wire.", address=address),
                )
            )
        return checks

    def next_free(self, after: IPv4Interface) -> IPv4Address | None:
        """Return the next address behind one that nobody has or is to have, for this device."""
        site = self.cable.around.site_of(after.ip)
        avoid = self.cable.somebodys() | {each.ip for each in self.cable.laptop.addresses}
        if (
            block := self.cable.around.others().block
        ) is not None:  # dealt out, so that two offline never give the same
            return next((each for each in sorted(block) if each in after.network and each not in avoid), None)
        return next_free(after, avoid, (*site.pools, *site.reserved) if site else ())

    def suggested(self) -> Target | None:
        """Return what the device may be to become where nothing is planned: like the one before, or of the site.

        The address is the next free one; where nobody was left with any, that as found is begun with.
        """
        around, at = self.cable.around, self.device.old_address
        before = next(reversed(list(around.used.values())), None)
        known = around.known.get(before) if before else None
        like = known.target if known else None
        if like is None and around.sites:
            site = around.sites[0]
            like = site.target_at(IPv4Interface((int(site.network.network_address) + 1, site.network.prefixlen)))
        if like is None:
            return Target(interface=IPv4Interface((at, 24)), gateway=None, dns=()) if at else None
        free = self.next_free(like.interface)
        return like.moved_to(IPv4Interface((free, like.interface.network.prefixlen))) if free else like

    @property
    def may_set(self) -> bool:
        """Whether the planned values pass every check."""
        return self.device.target is not None and all(check.passed for check in self.checks())

    @property
    def laptop_within(self) -> IPv4Interface | None:
        """The laptop's address that reaches the planned one, where it has one."""
        target = self.device.target
        return self.cable.laptop.reaching(target.interface.ip) if target else None

    @property
    def has_laptop_address(self) -> bool:
        """Whether the laptop has, or can borrow, the address that the chosen way needs."""
        needs = self.way is not None and self.way.needs_laptop and self.device.target is not None
        return not needs or self.free_address is not None or self.laptop_within is not None

    def subject(self) -> Subject | None:
        """Return who is proven, or None while the laptop cannot reach the new address."""
        device, laptop = self.device, self.laptop_within
        if not (device.target and device.chosen and laptop):
            return None
        return Subject(
            mac=device.chosen.mac, at=device.target.interface, laptop_mac=self.cable.laptop.mac, laptop=laptop,
            laptop_macs=self.cable.laptop.macs,
        )  # fmt: skip

    def landings(self) -> list[IPv4Address]:
        """Return where the device may be, once it is neither where it was nor where it is meant to be."""
        target, delivered = self.device.target, self.device.work.delivered
        old, kind = self.device.old_address, self.device.kind
        delivered = delivered or (kind.delivered.interface if kind else None)
        return landings(target.interface.ip, old, delivered.ip if delivered else None) if target else []

    def start(self, now: float) -> Start | None:
        """Return what a way is started with, or None where there is no device or no plan yet."""
        cable, device = self.cable, self.device
        said = device.errand.start if device.errand else self._known_beforehand()
        if said is None or device.chosen is None:
            return None
        return replace(
            said,
            laptop_mac=cable.laptop.mac,
            laptop=self.laptop_within,
            old=device.whereabouts,
            now=now,
            xid=cable.xid,
            servers=cable.finder.servers(),
            landings=self.landings(),
            door=self.door,
            free=self.free_address,
            ours=tuple(self.cable.laptop.talking),
            speaks=tuple(each.protocol for each in device.chosen.identities),
            places={each.protocol: each.where for each in device.chosen.identities if each.where},
        )

    def _known_beforehand(self) -> Start | None:
        """Return what a way is started with, as far as that is known of the device and not of the laptop."""
        cable, device = self.cable, self.device
        if device.target is None or device.chosen is None:
            return None
        return Start(
            mac=device.chosen.mac,
            target=device.target,
            laptop_mac=cable.laptop.mac,
            laptop=None,
            old=None,
            now=0.0,
            xid=cable.xid,
            kind=device.kind,
            log_in=cable.around.log_ins.get(device.entered_as, log_in.NO_LOG_IN),
            line=cable.around.serial_lines.get(device.kind.name, "") if device.kind else "",
            name=device.work.tag,
            columns=device.work.planned.columns if device.work.planned else {},
            known_key=known.key if (known := cable.around.known.get(device.chosen.mac)) else None,
        )

    def see_again(self) -> None:
        """Take the device as it is now, and not as it was found: it has moved since."""
        device = self.device
        if device.chosen and (live := self.cable.finder.device(device.chosen.mac)):
            device.chosen, device.landed_at = live, None

    def left_behind(self) -> None:
        """Have the finder know that the device is no longer where it was."""
        for address in (self.device.old_address, self.device.landed_at):
            if self.device.chosen and address:
                self.cable.finder.left(self.device.chosen.mac, address)
