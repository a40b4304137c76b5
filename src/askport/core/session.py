"""One device's way through the job: Plug, Find, Reach, Set, Prove, Record.

A state machine that the screen and the command line drive alike: frames and time go in, the technician's decisions
go in as verbs, and effects come out. ``narrate`` puts its state into sentences.
"""

from collections.abc import Callable, Collection, Iterable, Mapping, Sequence
from dataclasses import replace
from ipaddress import IPv4Address, IPv4Interface

from askport.core.addresses import LINK_LOCAL, MacAddress, parse_interface
from askport.core.errors import AskPortError, BadInput, Refused
from askport.core.finding.beliefs import Basis
from askport.core.finding.device import Device
from askport.core.finding.finder import Finder
from askport.core.finding.search import Search
from askport.core.machine import Borrow, Borrower, Effect, GiveBack, Keep, Machine, Pin, Write, Xid, earliest
from askport.core.plan.target import Check, Site, Target, check_target
from askport.core.plan.work import WorkItem, clean_tag
from askport.core.proofs.answering import Echo, PortOpens
from askport.core.proofs.final import Expected, final_proofs
from askport.core.proofs.holding import StillThere
from askport.core.proofs.power_cycle import PowerCycle
from askport.core.proofs.proof import Proof, Proving, Subject
from askport.core.reach.adapters import Adapter
from askport.core.reach.choosing import Choosing, from_the_top, near
from askport.core.reach.laptop import Laptop
from askport.core.reach.talk import Verdict, can_talk
from askport.core.register import writing
from askport.core.register.as_left import AsLeft
from askport.core.register.entries import Borrowed, GaveBack, Named, Recorded
from askport.core.register.fold import as_told
from askport.core.register.known import Known
from askport.core.steps import Phase, Step
from askport.core.ways.answering import Answering
from askport.core.ways.by_hand import ByHand
from askport.core.ways.way import Result, Way
from askport.core.wire import Heard, Link

GREETING_PORTS = (80, 443, 22, 23, 502)
"""Asked once on the device as found: web page, secure page, SSH, Telnet, Modbus/TCP. What answers there must answer
at the new address too."""


class Session(Borrower):
    """One device's way through the job."""

    def __init__(
        self,
        *,
        adapter: str,
        laptop_mac: MacAddress,
        laptop: Collection[IPv4Interface],
        work: WorkItem,
        unit: int,
        link: Link,
        now: float,
        xid: Xid,
        site: Site | None = None,
        used: Mapping[IPv4Address, MacAddress] | None = None,
        planned: Mapping[IPv4Address, str] | None = None,
        known: Mapping[MacAddress, Known] | None = None,
        laptop_before: Collection[IPv4Address] = (),
        found_before: Sequence[tuple[str | None, IPv4Address]] = (),
        maker: Callable[[MacAddress], str | None] = lambda _: None,
    ) -> None:
        """Begin with the next device.

        Args:
            adapter: the name of the adapter that the cable is in.
            laptop_mac: its MAC address.
            laptop: the addresses that it has of its own.
            work: the device that is meant to be at the other end.
            unit: its number in the job's journal.
            link: the state of the link.
            now: the wire's time.
            xid: draws transaction identifiers.
            site: the network that the device joins.
            used: addresses of the register with the MAC addresses of those that were left with them.
            planned: addresses that devices of the work list are to get, with their tags.
            known: devices that the register has already.
            laptop_before: addresses that the laptop had borrowed for devices before this one.
            found_before: makers and addresses of devices that were found earlier, the latest last.
            maker: names the maker of a MAC address.
        """
        super().__init__()
        self.work, self.unit = work, unit
        self._listed_as = work.tag
        self.laptop = Laptop(adapter, laptop_mac, laptop)
        self.reached_from: IPv4Interface | None = None
        """The laptop's address from which the device was talked to as found."""
        self.site, self.used, self.planned = site, dict(used or {}), dict(planned or {})
        self.known = dict(known or {})
        self.revisits = False
        """Whether the device at hand is one that the register has, and not the next of the work list."""
        self.maker = maker
        self.link = link
        self.target = work.target
        self.laptop_was = {each.ip for each in laptop} | set(laptop_before)
        """Addresses that the laptop has or had: who looks for one of them was made to."""
        self.finder = Finder([laptop_mac], now=now)
        self.finder.laptop_addresses |= self.laptop_was
        self.search = Search(
            self.finder,
            label_mac=work.mac,
            delivered=work.delivered.ip if work.delivered else None,
            found_before=found_before,
            maker=maker,
        )
        self.started_at = now
        self.chosen: Device | None = None
        """The device as found."""
        self.offer: IPv4Interface | None = None
        """The free laptop address that can be borrowed now."""
        self._offered_at = now
        self._pinned: dict[IPv4Address, MacAddress] = {}
        self.strayed_to: IPv4Address | None = None
        """A wrong address that the device was given on the way, where it is now."""
        self.greeting: list[Proof] = []
        """What the device answered at its old address."""
        self.way_name: str | None = None
        self.way: Way | None = None
        self.target_holder: MacAddress | None = None
        """Who else holds the planned address, if anybody answered for it."""
        self.proofs: list[Proof] = []
        self.power_cycle: PowerCycle | None = None
        self.left_out: list[str] = []
        self.as_left = AsLeft()
        """What the device has been left with, as far as was found out."""
        self.trouble: AskPortError | None = None
        """What the laptop refused last."""
        self.phase = Phase.FINDING if link.up else Phase.PLUGGING
        self._activities: list[Machine] = []
        self._xid = xid

    # What is known

    @property
    def old_address(self) -> IPv4Address | None:
        """The address as found, or None where the device has none, or none that it keeps."""
        return self._address_of(self.chosen) if self.chosen else None

    @staticmethod
    def _address_of(device: Device) -> IPv4Address | None:
        """Return where a device can be reached: one that asks has fallen back to link-local at the best."""
        best = device.best
        if best is None or (device.asking and best.address not in LINK_LOCAL):
            return None
        return best.address

    @property
    def whereabouts(self) -> IPv4Address | None:
        """Where the device is before it has its final address: as found, or where a slip of the fingers took it."""
        return self.strayed_to or self.old_address

    @property
    def present_address(self) -> tuple[IPv4Address, int | None] | None:
        """The device's address and prefix as known now: the new one once it was taken."""
        if self.way and self.way.result is Result.TAKEN and self.target:
            return self.target.interface.ip, self.target.interface.network.prefixlen
        if self.strayed_to:
            return self.strayed_to, None
        device = self.chosen or self.search.candidate
        address = self._address_of(device) if device else None
        if device and device.best and address:
            return address, device.best.prefix
        return None

    def verdict(self) -> Verdict | None:
        """Say whether laptop and device can talk now, or None while the device has no known address."""
        present = self.present_address
        return can_talk(self.laptop.addresses, *present) if present else None

    def checks(self) -> list[Check]:
        """Return every check of the planned values."""
        if not self.target:
            return []
        mac = self.chosen.mac if self.chosen else self.work.mac
        used = {address: self._tag_of(each) for address, each in self.used.items() if each != mac}
        planned = {address: tag for address, tag in self.planned.items() if tag not in (self.work.tag, self._listed_as)}
        checks = check_target(self.target, self.site, used, planned)
        address = self.target.interface.ip
        holder = next((f"The laptop's {each}" for each in self.laptop.addresses if each.ip == address), None)
        if holder := holder or (str(self.target_holder) if self.target_holder else None):
            checks.append(Check(about="unused", passed=False, sentence=f"{holder} answers there: it is in use."))
        elif self.phase.step is not Step.SET or self.phase is not Phase.PREPARING:
            checks.append(Check(about="unused", passed=True, sentence=f"Nobody answers for {address} on this wire."))
        return checks

    def _tag_of(self, mac: MacAddress) -> str:
        known = self.known.get(mac)
        return known.tag if known and known.tag else str(mac)

    def ways(self) -> list[tuple[str, str]]:
        """Return the ways that fit this device, best first, each with the reason."""
        if self.chosen and self.chosen.asking:
            protocol = self.chosen.asking.protocol.upper()
            there = f", at {self.old_address} which it fell back to" if self.old_address else ""
            return [
                (Answering.name, f"It asks for an address by {protocol}, so it can be answered."),
                (ByHand.name, f"Its own page or keypad, if it has one{there}."),
            ]
        return [(ByHand.name, "It has an address of its own: type the new one into its page, keypad or console.")]

    def _avoid(self) -> set[IPv4Address]:
        avoid = {belief.address for device in self.finder.devices() for belief in device.addresses}
        avoid |= {belief.gateway for device in self.finder.devices() for belief in device.addresses if belief.gateway}
        avoid |= self.planned.keys() | self.used.keys()
        for target in filter(None, (self.target,)):
            avoid |= {target.interface.ip, *target.dns, *filter(None, (target.gateway,))}
        if self.site:
            avoid |= {*self.site.dns, *filter(None, (self.site.gateway,))}
        return avoid

    # The technician's decisions

    def enter(self, now: float) -> None:
        """Do the sensible next thing, if there is one."""
        self.trouble = None
        match self.phase:
            case Phase.FINDING:
                if self.search.candidate and self.search.candidate.is_found:
                    if self.search.obstacle is None:
                        self.choose(self.search.candidate.mac, now)
                else:
                    self.search.louder(now)
            case Phase.MAY_BORROW if self.offer:
                self._borrow(self.offer, Phase.BORROWING, now)
            case Phase.MAY_SET if self.may_set and self.target:
                if self.way_name != Answering.name or self.laptop.reaching(self.target.interface.ip):
                    self._begin_way(now)
                elif self.offer:
                    self._borrow(self.offer, Phase.BORROWING_TO_SET, now)
            case Phase.NOT_SET:
                self._prepare(now)
            case Phase.MAY_PROVE if self.offer:
                self._borrow(self.offer, Phase.BORROWING_TO_PROVE, now)
            case Phase.POWER_CYCLE if self.power_cycle:
                self.power_cycle.confirm(now)
            case Phase.NOT_PROVEN:
                self._begin_proofs(now)
            case Phase.FORGOTTEN:
                self._set_again(now)
            case Phase.MAY_RECORD:
                self._record()

    def choose(self, mac: MacAddress, now: float) -> None:
        """Take this device for the one that is to be commissioned."""
        device = self.finder.device(mac)
        if device is None or not (device.is_found or (device.is_contested and self.search.label_mac == mac)):
            raise BadInput(f"{mac} cannot be chosen: nothing certain is known about it yet.")
        self.finder.listen()
        self.chosen, self.search.pointed_at = device, mac
        self._recognise(mac)
        alone = sum(each.is_present for each in self.finder.devices()) == 1
        if device.best and not device.asking and device.best.prefix_basis is not Basis.MEASURED and alone:
            self.finder.measure(mac, device.best.address, now)
            self.phase = Phase.MEASURING
        else:
            self._write_found(device, now)

    def _recognise(self, mac: MacAddress) -> None:
        """Take a device that the register has for what it is: a new visit under its own tag, whoever was next."""
        known = self.known.get(mac)
        if known and known.is_named and known.tag != self.work.tag:
            self.work = replace(self.work, tag=known.tag, target=known.target or self.work.target, mac=mac, ports=())
            self.target, self.revisits = self.work.target, True

    def _write_found(self, device: Device, now: float) -> None:
        """Record the device as it was found, with the frames that say so, and go on to reaching it."""
        self.chosen = device
        best = device.best if not device.asking else None
        found, frames = writing.found(device, unit=self.unit, tag=self.work.tag, maker=self.maker(device.mac))
        self._effects += [Write(found), Keep(self.unit, frames)]
        known = self.known.get(device.mac)
        if known and known.tag != self.work.tag:
            self._effects.append(Write(Named(unit=self.unit, mac=device.mac, tag=self.work.tag)))
        if best is None:
            self._prepare(now)
        elif self.laptop.reaching(best.address):
            self._greet(now)
        else:
            self._offer_near(best.address, best.prefix, now)

    def offer_other(self, text: str, now: float) -> None:
        """Have the laptop take another address than the one offered, after the same question whether it is free.

        Raises:
            BadInput: it is no address, or one that cannot be the laptop's here.
        """
        interface = parse_interface(text, "laptop address")
        device = self.whereabouts
        if device == interface.ip:
            raise BadInput(f"{interface.ip} is the device's own address: name another for the laptop.")
        if self.phase is Phase.MAY_BORROW and device and device not in interface.network:
            raise BadInput(f"{interface} does not reach {device}: its subnet is {interface.network}.")
        if self.site and self.site.pool and interface.ip in self.site.pool:
            raise BadInput(f"{interface.ip} lies in the site's DHCP pool: the server may give it to somebody else.")
        if interface.ip in self._avoid():
            raise BadInput(f"{interface.ip} is somebody's already, heard or planned: name another for the laptop.")
        if self.phase is Phase.MAY_BORROW:
            choosing = Choosing(self.laptop.mac, [interface], now=now)
            self._activities, self.phase, self.offer = [choosing], Phase.CHOOSING, None
        elif self.phase in (Phase.MAY_SET, Phase.MAY_PROVE) and self.target:
            if self.target.interface.ip not in interface.network:
                raise BadInput(f"{interface} does not reach {self.target.interface}: name one in its subnet.")
            self.offer, self._offered_at = interface, float("-inf")  # it is asked for before it is borrowed

    def plan(self, target: Target, now: float) -> None:
        """Change what the device is meant to become."""
        self.target = target
        if self.phase in (Phase.PREPARING, Phase.MAY_SET, Phase.SETTING, Phase.NOT_SET):
            self._prepare(now)

    def name(self, tag: str) -> None:
        """Give the device its tag.

        Raises:
            BadInput: the text is no tag.
        """
        self.work = replace(self.work, tag=clean_tag(tag))
        if self.chosen:
            self._effects.append(Write(Named(unit=self.unit, mac=self.chosen.mac, tag=self.work.tag)))

    def choose_way(self, name: str, now: float) -> None:
        """Set the address by another way."""
        if self.phase in (Phase.MAY_SET, Phase.NOT_SET, Phase.SETTING) and name != self.way_name:
            self.way_name = name
            there = self.whereabouts
            if name == ByHand.name and there and not self.laptop.reaching(there):
                self._offer_near(there, None, now)  # its page is reached there first
            else:
                self._prepare(now)

    def leave_out_power_cycle(self) -> None:
        """Go on without the power-cycle proof; the register will say so."""
        if self.phase is Phase.POWER_CYCLE:
            self.left_out = [*dict.fromkeys((*self.left_out, PowerCycle.name))]
            self._activities = []
            self.phase = Phase.MAY_RECORD

    def go_back(self, step: Step, now: float) -> None:
        """Do a step again that was done before; what came after it is done anew."""
        order = list(Step)
        if order.index(step) > order.index(self.phase.step) or self.phase is Phase.RECORDED:
            return
        self._activities, self.trouble = [], None
        if step in (Step.PLUG, Step.FIND) or self.chosen is None:
            self.chosen, self.way, self.way_name, self.strayed_to = None, None, None, None
            self.greeting, self.proofs, self.power_cycle, self.left_out = [], [], None, []
            self.search.pointed_at = self.reached_from = None
            self.search.label_mac = self.work.mac
            self.phase = Phase.FINDING if self.link.up else Phase.PLUGGING
        elif step is Step.REACH and self.whereabouts and not self.laptop.reaching(self.whereabouts):
            self._offer_near(self.whereabouts, None, now)
        elif step in (Step.REACH, Step.SET):
            self._prepare(now)
        elif self.proofs or (self.way and self.way.result is Result.TAKEN):
            self._begin_proofs(now)

    # What the world answers

    def borrow_done(self, interface: IPv4Interface, now: float) -> None:
        """Take in that the adapter has the borrowed address."""
        if not self.laptop.take(interface, now):
            return
        self.finder.laptop_addresses.add(interface.ip)
        self.laptop_was.add(interface.ip)
        self._effects.append(Write(Borrowed(unit=self.unit, adapter=self.laptop.adapter, interface=interface)))
        match self.phase:
            case Phase.BORROWING:
                self._greet(now)
            case Phase.BORROWING_TO_SET:
                self._begin_way(now)
            case Phase.BORROWING_TO_PROVE:
                self._begin_proofs(now)

    def borrow_failed(self, error: AskPortError) -> None:
        """Take in that the adapter could not be given the address."""
        self.trouble = error
        self.phase = _WHERE_NOT_BORROWED.get(self.phase, self.phase)

    def gave_back(self) -> None:
        """Take in that the adapter is as it was."""
        given = self.laptop.give_all_back()
        self._pinned.clear()
        if given:
            self._effects.append(Write(GaveBack(unit=self.unit, adapter=self.laptop.adapter)))

    def see_laptop(
        self, adapters: Iterable[Adapter], *, now: float, way_out: str | None = None, slept_s: float = 0.0
    ) -> None:
        """Take in the laptop's adapters as they are now; what another program has taken off is borrowed again.

        Args:
            adapters: all of the laptop's, with their hazards.
            now: the wire's time when looking at them began.
            way_out: the adapter by which the kernel would send to the device, or None where by none.
            slept_s: how long the laptop has slept since the last time, in seconds.
        """
        device = self.present_address[0] if self.present_address else None
        again = self.laptop.look(adapters, now=now, device=device, way_out=way_out, slept_s=slept_s)
        self._effects += [Borrow(each) for each in again]

    # The machine

    def receive(self, heard: Heard) -> None:
        """Hear a frame."""
        self.finder.receive(heard)
        for activity in self._activities:
            if not activity.done:
                activity.receive(heard)
        self._advance(heard.at)

    def link_changed(self, link: Link, now: float) -> None:
        """Take in that the link went up or down."""
        self.link = link
        self.finder.link_changed(link, now)
        for activity in self._activities:
            activity.link_changed(link, now)
        if link.up and self.phase is Phase.PLUGGING:
            self.phase = Phase.FINDING
        self._advance(now)

    def handle_timer(self, now: float) -> None:
        """Do what is due."""
        self.finder.handle_timer(now)
        for activity in self._activities:
            activity.handle_timer(now)
        self._advance(now)

    def next_deadline(self) -> float | None:
        """Return the first deadline of all that runs."""
        return earliest(self.finder.next_deadline(), *(each.next_deadline() for each in self._activities))

    def poll(self) -> list[Effect]:
        """Return what is to be done now."""
        for machine in (self.finder, *self._activities):
            self._effects += machine.poll()
        return super().poll()

    def _advance(self, now: float) -> None:
        """Go on from what ran, when all of it is done."""
        if self.phase is Phase.MEASURING and self.chosen and self.finder.measuring is None:
            self._write_found(self.finder.device(self.chosen.mac) or self.chosen, now)
        self._follow(now)
        if not self._activities or not all(each.done for each in self._activities):
            return
        for activity in self._activities:
            self._effects += activity.poll()
        activities, self._activities = self._activities, []
        match self.phase, activities[0]:
            case Phase.CHOOSING, Choosing() as choosing:
                self.offer, self._offered_at, self.phase = choosing.chosen, now, Phase.MAY_BORROW
            case ((Phase.BORROWING | Phase.BORROWING_TO_SET | Phase.BORROWING_TO_PROVE), Choosing() as choosing):
                self._asked_again(choosing, now)
            case Phase.GREETING, Proving() as greeting:
                self._greeted(greeting, now)
            case Phase.PREPARING, Choosing() as vacancy:
                address = self.target.interface.ip if self.target else None
                holder = vacancy.taken.get(address) if address else None
                self.target_holder = holder if self.chosen is None or holder != self.chosen.mac else None
                last = activities[-1]
                self.offer = last.chosen if isinstance(last, Choosing) and last is not vacancy else None
                self._offered_at = now
                self.phase = Phase.MAY_SET
                if self.way_name == ByHand.name and self.may_set:
                    self._begin_way(now)  # watching sends next to nothing, so it needs no decision
            case Phase.SETTING, Way() as way:
                self._way_ended(way, now)
            case Phase.PROVING, Proving() as proving:
                self._proofs_ended(proving, now)
            case Phase.POWER_CYCLE, PowerCycle() as cycle:
                self._write_proof(cycle)
                self.left_out = [each for each in self.left_out if each != cycle.name]
                self.phase = Phase.MAY_RECORD if cycle.passed else Phase.FORGOTTEN

    def _follow(self, now: float) -> None:
        """Where the device was moved to a wrong address out of the laptop's reach, go back to reaching it."""
        if self.phase is not Phase.SETTING or not isinstance(self.way, ByHand):
            return
        strayed_to = self.way.moved_to
        if strayed_to is None or strayed_to in LINK_LOCAL or self.laptop.reaching(strayed_to):
            return
        self.way.stray()
        self._has_left()
        self._write_set(self.way)
        self.strayed_to = strayed_to
        self._offer_near(strayed_to, None, now)

    def _has_left(self) -> None:
        """Have the finder know that the device is no longer where it was."""
        for address in (self.old_address, self.strayed_to):
            if self.chosen and address:
                self.finder.left(self.chosen.mac, address)

    def _offer_near(self, address: IPv4Address, prefix: int | None, now: float) -> None:
        candidates = (each for each in near(address, prefix, self._avoid()) if not self._in_pool(each))
        choosing = Choosing(self.laptop.mac, candidates, now=now)
        self._activities, self.phase, self.offer = [choosing], Phase.CHOOSING, None

    def _in_pool(self, interface: IPv4Interface) -> bool:
        """Whether the site's server may give this address to somebody."""
        return self.site is not None and self.site.pool is not None and interface.ip in self.site.pool

    def _borrow(self, interface: IPv4Interface, phase: Phase, now: float) -> None:
        """Borrow an address, after asking again where the last time was too long ago to count."""
        self.phase = phase
        if now - self._offered_at > _OFFER_LASTS_S:
            self._activities = [Choosing(self.laptop.mac, [interface], now=now)]
        else:
            self._effects.append(Borrow(interface))

    def _asked_again(self, choosing: Choosing, now: float) -> None:
        self._offered_at = now
        if choosing.chosen:
            self._effects.append(Borrow(choosing.chosen))
            return
        (address, holder), *_ = choosing.taken.items()
        back = _WHERE_NOT_BORROWED[self.phase]
        if back is Phase.MAY_BORROW and self.whereabouts:
            self._offer_near(self.whereabouts, None, now)
        elif back is Phase.MAY_SET:
            self._prepare(now)
        else:
            self.phase, self.offer = back, None
        self.trouble = Refused(f"{address} has been taken by {holder} meanwhile: another address is looked for.")

    def _greet(self, now: float) -> None:
        """See what the device answers as it was found, so that the same is asked of it in the end."""
        address, chosen = self.whereabouts, self.chosen
        laptop = self.laptop.reaching(address) if address else None
        if address is None or chosen is None or laptop is None:
            self._prepare(now)
            return
        self.reached_from = laptop
        # Of twins, and of whoever comes after one at the same address, the kernel must reach this one and no other.
        if len(self.search.twins(chosen)) > 1 or self._pinned.get(address, chosen.mac) != chosen.mac:
            self._pinned[address] = chosen.mac
            self._effects.append(Pin(address, chosen.mac))
        at = IPv4Interface((address, laptop.network.prefixlen))
        subject = Subject(mac=chosen.mac, at=at, laptop_mac=self.laptop.mac, laptop=laptop)
        ports = dict.fromkeys((*self.work.ports, *GREETING_PORTS))
        asked = [Echo(subject, now=now), *(PortOpens(subject, port, now=now) for port in ports)]
        self._activities, self.phase = [Proving([StillThere(subject, now=now), *asked])], Phase.GREETING

    def _greeted(self, greeting: Proving, now: float) -> None:
        """Go on to setting it, if it is there: nothing is set on whoever else may be at its address."""
        there, *self.greeting = greeting.proofs
        if there.passed or any(each.passed for each in self.greeting):
            self._prepare(now)
            return
        self.go_back(Step.FIND, now)
        self.trouble = Refused(f"{there.because} Look again for who is there.")

    def _prepare(self, now: float) -> None:
        """Ask whether the planned address is free, and for a laptop address in its subnet."""
        ways = [name for name, _ in self.ways()]
        self.way_name = self.way_name if self.way_name in ways else ways[0]
        self.way, self.target_holder, self.offer = None, None, None
        if self.target is None:
            self._activities, self.phase = [], Phase.MAY_SET
            return
        target = self.target.interface
        if self.whereabouts == target.ip and self.laptop.reaching(target.ip) and not self.proofs:
            self._begin_proofs(now)  # it is there already, and nothing is to be set until a proof says so
            return
        self._activities = [Choosing(self.laptop.mac, [target], now=now)]
        if not self.laptop.reaching(target.ip):
            candidates = self._site_candidates(target)
            self._activities.append(Choosing(self.laptop.mac, candidates, now=now))
        self.phase = Phase.PREPARING

    def _site_candidates(self, target: IPv4Interface) -> list[IPv4Interface]:
        """Return laptop addresses in the target's subnet, outside the pool and away from the plan."""
        found: list[IPv4Interface] = []
        for each in from_the_top(target.network, self._avoid()):
            if not self._in_pool(each):
                found.append(each)
            if len(found) == _SITE_CANDIDATES:
                break
        return found

    @property
    def may_set(self) -> bool:
        """Whether the planned values pass every check."""
        return self.target is not None and all(check.passed for check in self.checks())

    @property
    def has_laptop_address(self) -> bool:
        """Whether the laptop has, or can borrow, the address that the chosen way needs."""
        if self.target is None or self.way_name != Answering.name:
            return True
        return self.offer is not None or self.laptop.reaching(self.target.interface.ip) is not None

    def _begin_way(self, now: float) -> None:
        target, chosen = self.target, self.chosen
        if target is None or chosen is None:
            return
        laptop = self.laptop.reaching(target.interface.ip)
        if self.way_name == Answering.name:
            if laptop is None:
                self.phase = Phase.MAY_SET
                return
            servers = [each.address for each in self.finder.hazards() if each.code == "address-server" and each.address]
            self.way = Answering(
                chosen.mac, target, laptop_mac=self.laptop.mac, laptop=laptop, xid=self._xid, now=now, servers=servers
            )
        else:
            self.way = ByHand(
                chosen.mac, target, laptop_mac=self.laptop.mac, laptop=laptop, old=self.whereabouts, now=now
            )
        self._activities, self.phase = [self.way], Phase.SETTING

    def _write_set(self, way: Way) -> None:
        entry = writing.was_set(way, unit=self.unit)
        self._effects.append(Write(entry))
        if way.result is Result.TAKEN:
            self.as_left = as_told(entry)

    def _way_ended(self, way: Way, now: float) -> None:
        self._write_set(way)
        if way.result is Result.TAKEN:
            self._has_left()
        if way.result is not Result.TAKEN:
            self.phase = Phase.NOT_SET
        elif self.laptop.reaching(way.target.interface.ip):
            self._begin_proofs(now)
        else:
            self.phase = Phase.MAY_PROVE

    def subject(self) -> Subject | None:
        """Return who is proven, or None while the laptop cannot reach the new address."""
        laptop = self.laptop.reaching(self.target.interface.ip) if self.target else None
        if not (self.target and self.chosen and laptop):
            return None
        return Subject(mac=self.chosen.mac, at=self.target.interface, laptop_mac=self.laptop.mac, laptop=laptop)

    def _begin_proofs(self, now: float) -> None:
        subject = self.subject()
        if subject is None:
            self.phase = Phase.MAY_PROVE
            return
        answered = {proof.name for proof in self.greeting if proof.passed}
        open_before = [proof.port for proof in self.greeting if isinstance(proof, PortOpens) and proof.passed]
        expected = Expected(
            gateway=self.target.gateway if self.target else None,
            left=[each for each in (self.old_address, self.strayed_to) if each],
            ports=(*self.work.ports, *open_before),
            echo=not self.greeting or Echo.name in answered,
        )
        proving = final_proofs(subject, expected, now=now, heard_gateway=self._heard_gateway)
        self.proofs, self.power_cycle, self.left_out = proving.proofs, None, []
        self._activities, self.phase = [proving], Phase.PROVING

    def _heard_gateway(self) -> IPv4Address | None:
        """Return whom the device keeps looking for from its new address."""
        device = self.finder.device(self.chosen.mac) if self.chosen else None
        at = self.target.interface.ip if self.target else None
        return next((each.gateway for each in device.addresses if each.address == at), None) if device else None

    def _proofs_ended(self, proving: Proving, now: float) -> None:
        for proof in proving.proofs:
            self._write_proof(proof)
        subject = self.subject()
        if self.chosen:
            left = writing.left(
                proving.proofs, unit=self.unit, mac=self.chosen.mac, heard_gateway=self._heard_gateway()
            )
            self._effects.append(Write(left))
            self.as_left = self.as_left.then(left.as_left)
        if not proving.passed or subject is None:
            self.phase = Phase.NOT_PROVEN
            return
        self.power_cycle = PowerCycle(subject, now=now)
        self._activities, self.phase = [self.power_cycle], Phase.POWER_CYCLE

    def _write_proof(self, proof: Proof) -> None:
        if self.chosen:
            self._effects.append(Write(writing.proved(proof.finding, unit=self.unit, mac=self.chosen.mac)))

    def _set_again(self, now: float) -> None:
        """Start over at Set with what the device does now, after it forgot its address."""
        mac = self.chosen.mac if self.chosen else None
        if mac and (device := self.finder.device(mac)):
            self.chosen = device
        self._prepare(now)

    def _record(self) -> None:
        if self.chosen:
            recorded = Recorded(unit=self.unit, mac=self.chosen.mac, left_out=tuple(self.left_out))
            self._effects += [Write(recorded), GiveBack()]
            self.phase = Phase.RECORDED


_OFFER_LASTS_S = 10.0
"""How long an address counts as free after nobody answered for it; a device may have started since."""
_SITE_CANDIDATES = 32
"""As many as are ever asked for (see reach.choosing)."""
_WHERE_NOT_BORROWED = {
    Phase.BORROWING: Phase.MAY_BORROW,
    Phase.BORROWING_TO_SET: Phase.MAY_SET,
    Phase.BORROWING_TO_PROVE: Phase.MAY_PROVE,
}
