"""Finding: every frame is read for clues, and what may be asked is asked."""

from collections.abc import Iterable
from dataclasses import replace
from ipaddress import IPv4Address, IPv4Network

from askport.core.addresses import MacAddress, host_fault_of
from askport.core.finding.asking import DEFAULT_RATE, Calling
from askport.core.finding.beliefs import Belief, Evidence
from askport.core.finding.clues import SHOWS_HOLDING, Clue, Tells
from askport.core.finding.device import Device, view
from askport.core.finding.greeting import GREETING_SOURCE, Greeting, name_questions
from askport.core.finding.hazards import Hazard, find_hazards
from askport.core.finding.likely import likely_addresses
from askport.core.finding.loudness import Loudness
from askport.core.finding.measuring import Measuring
from askport.core.finding.readers import read_clues
from askport.core.finding.sweeping import DEFAULT_SWEEP_RATE, PRIVATE, Sweeping
from askport.core.formats.arp import Arp, arp_question
from askport.core.formats.ethernet import Ethernet
from askport.core.formats.ipv4 import IPv4
from askport.core.formats.packet import Packet
from askport.core.machine import Effect, Machine, Send, earliest
from askport.core.wire import Heard, Link

MAX_DEVICES = 1024
"""MAC addresses kept: more than a /22 has hosts. On a wire with more, the cable is in the wrong socket anyway."""
MAX_HELD = 64
"""Addresses remembered of one MAC address, to see what is sent through it to somebody else."""
IMPOSSIBLE_ADDRESS = IPv4Address("192.0.2.173")
"""From the block for documentation (RFC 5737), which nobody may use: who answers for it answers for everything."""
_CHECK_WAIT_S = 0.3
"""How long a device may take to answer for the impossible address; it has just answered another question."""
_SLOW_CHECK_WAIT_S = 1.5
"""The same where it is not known how long it took for the question that it answered."""
_PATIENT_PASSES = 5
"""A single address is asked for once a second, twice as often as this: ten seconds cover most boot times."""
_MEASURE_AFTER_S = 1.0
"""How long the wire must have carried one device alone before it is measured."""


class Finder(Machine):
    """Hears everything, and asks as loudly as it may."""

    def __init__(
        self,
        laptop_macs: Iterable[MacAddress],
        *,
        now: float,
        loudness: Loudness = Loudness.LISTEN,
        known: Iterable[IPv4Address] = (),
        within: Iterable[IPv4Network] = (),
        rate: float | None = None,
        measures: bool = True,
    ) -> None:
        """Begin now.

        Args:
            laptop_macs: whose frames never count.
            now: the wire's time.
            loudness: how much may be sent.
            known: addresses that something speaks for; they are asked for first.
            within: ranges to call or sweep; without them, likely addresses or all private space.
            rate: questions a second, or None for what is polite.
            measures: whether masks and gateways are measured where the loudness allows it.
        """
        super().__init__()
        self.laptop_macs = tuple(laptop_macs)
        self.laptop_addresses: set[IPv4Address] = {GREETING_SOURCE}
        """Kept up to date by whoever borrows: a device that looks for one of these was made to."""
        self._evidence: dict[MacAddress, Evidence] = {}
        self._held: dict[MacAddress, set[IPv4Address]] = {}
        self._checks: dict[MacAddress, float] = {}
        self._asked_names: set[tuple[MacAddress, IPv4Address]] = set()
        self._measures = measures
        self._alone_since = now
        self.greeting: Greeting | None = None
        self.calling: Calling | None = None
        """The questions for likely addresses under way, or None."""
        self.sweeping: Sweeping | None = None
        """The sweep under way, or None."""
        self.measuring: Measuring | None = None
        self._measured_mac: MacAddress | None = None
        self.link_up = True
        self.frames_seen = 0
        self.frames_unreadable = 0
        self.loudness = Loudness.LISTEN
        if loudness.allows(Loudness.GREET):
            self.greet(now)
        if loudness.allows(Loudness.SWEEP):
            self.call(known, now=now, guess=not within)
            self.sweep(within, now=now, rate=rate or DEFAULT_SWEEP_RATE)
        elif loudness.allows(Loudness.CALL):
            self.call(known, within, now=now, rate=rate or DEFAULT_RATE)

    # How loud

    def greet(self, now: float) -> None:
        """Ask from now on by multicast and broadcast who is there."""
        self.loudness = max(self.loudness, Loudness.GREET, key=list(Loudness).index)
        self.greeting = Greeting(self.laptop_macs[0], now=now)

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
        self.loudness = max(self.loudness, Loudness.CALL, key=list(Loudness).index)
        known = list(known)
        addresses = likely_addresses(known, within) if guess else known * _PATIENT_PASSES
        self.calling = Calling(self.laptop_macs[0], addresses, now=now, rate=rate if guess else 1.0, often=known)

    def sweep(self, within: Iterable[IPv4Network] = (), *, now: float, rate: float = DEFAULT_SWEEP_RATE) -> None:
        """Ask from now on for every address of the ranges, or of all private space."""
        self.loudness = Loudness.SWEEP
        self.sweeping = Sweeping(self.laptop_macs[0], list(within) or PRIVATE, now=now, rate=rate)

    def listen(self) -> None:
        """Stop asking."""
        self.loudness = Loudness.LISTEN
        self.greeting = self.calling = self.sweeping = self.measuring = None

    @property
    def asking(self) -> tuple[Machine, ...]:
        """Everything that asks at present."""
        machines = (self.greeting, self.calling, self.sweeping, self.measuring)
        return tuple(each for each in machines if each is not None)

    @property
    def has_settled(self) -> bool:
        """Whether calling and sweeping are over, and what they found was checked and measured."""
        asked = all(each.done for each in (self.calling, self.sweeping) if each)
        return asked and not self._checks and self.measuring is None and self._to_measure() is None

    # What was heard

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
        if ethernet is None:
            return
        if ethernet.src in self.laptop_macs:
            self._learn_own(packet)
            return
        if self.measuring:
            self.measuring.receive(heard)
        by_mac: dict[MacAddress, list[Clue]] = {} if ethernet.src.is_group else {ethernet.src: []}
        for clue in read_clues(packet):
            if clue.mac not in self.laptop_macs and clue.address != GREETING_SOURCE:
                by_mac.setdefault(clue.mac, []).append(self._seen_from_here(clue, packet))
        for mac, clues in by_mac.items():
            evidence = self._evidence_of(mac, heard.at)
            if evidence is None:
                continue
            if mac == ethernet.src:
                evidence.frames += 1
                if ethernet.vlan:
                    evidence.vlans.add(ethernet.vlan)
            evidence.add((each for each in clues if not self._is_idle_answer(each, evidence)), heard)
            for clue in clues:
                if clue.tells is Tells.ANSWERS:
                    self._check(clue, evidence, heard.at)
            if self.greeting and any(clue.tells in SHOWS_HOLDING for clue in clues):
                self._ask_names(mac)

    def _learn_own(self, packet: Packet) -> None:
        """Take in which addresses the laptop uses, from a capture that holds its own frames."""
        arp, ipv4 = packet.get(Arp), packet.get(IPv4)
        own = arp.spa if arp else ipv4.src if ipv4 else None
        if own and not host_fault_of(own):
            self.laptop_addresses.add(own)

    def _evidence_of(self, mac: MacAddress, at: float) -> Evidence | None:
        evidence = self._evidence.get(mac)
        if evidence is None and len(self._evidence) < MAX_DEVICES:
            evidence = self._evidence[mac] = Evidence(mac, at, at)
            self._alone_since = at
        return evidence

    def _seen_from_here(self, clue: Clue, packet: Packet) -> Clue:
        """Return a clue as this wire shows it: what the laptop caused says less, what went through another more."""
        if clue.tells is Tells.LOOKS_FOR and clue.about in self.laptop_addresses:
            return replace(clue, tells=Tells.LOOKS_FOR_US, about=None)
        if clue.tells in (Tells.ANSWERS, Tells.ANNOUNCES) and clue.address and len(self._held) < MAX_DEVICES:
            held = self._held.setdefault(clue.mac, set())
            if len(held) < MAX_HELD:
                held.add(clue.address)
        if clue.tells is Tells.SENDS_FROM:
            ethernet, ipv4 = packet.get(Ethernet), packet.get(IPv4)
            if ethernet and ipv4 and self._goes_through(ethernet.dst, ipv4.dst):
                return replace(clue, tells=Tells.SENDS_THROUGH, about=ipv4.dst)
        return clue

    def _goes_through(self, mac: MacAddress, destination: IPv4Address) -> bool:
        """Whether a frame to this MAC address is for somebody else's address than those that it is known to hold."""
        held = self._held.get(mac)
        return held is not None and len(held) < MAX_HELD and destination not in held and not destination.is_multicast

    def _is_idle_answer(self, clue: Clue, evidence: Evidence) -> bool:
        """Whether an answer says nothing: it is for the impossible address, or from one that answers for all."""
        if clue.tells is not Tells.ANSWERS:
            return False
        if clue.address == IMPOSSIBLE_ADDRESS:
            evidence.answers_for_all, evidence.being_checked = True, False
            self._checks.pop(clue.mac, None)
            return True
        return evidence.answers_for_all is True and clue not in evidence.tallies

    def _check(self, clue: Clue, evidence: Evidence, now: float) -> None:
        """Before an answer to our question is believed, ask its sender for an address that cannot be."""
        if self.loudness is Loudness.LISTEN or evidence.answers_for_all is not None or clue.mac in self._checks:
            return
        evidence.being_checked = True
        asked_at = self.calling.asked_at(clue.address) if self.calling and clue.address else None
        # A box that took its time for this answer takes it for the next one too.
        wait = _SLOW_CHECK_WAIT_S if asked_at is None else max(_CHECK_WAIT_S, 3 * (now - asked_at))
        self._checks[clue.mac] = now + wait
        self._send(arp_question(self.laptop_macs[0], IMPOSSIBLE_ADDRESS))

    # The machine

    def link_changed(self, link: Link, now: float) -> None:
        """Take in that whoever hung there may be another, or have another address, when the link comes back."""
        self.link_up = link.up
        for machine in self.asking:
            machine.link_changed(link, now)
        if link.up:
            for evidence in self._evidence.values():
                evidence.restarted_at = now
            self._alone_since, self._measured_mac = now, None
            return
        for mac in self._checks:
            self._evidence[mac].being_checked = False
        self._checks.clear()

    def handle_timer(self, now: float) -> None:
        """Believe answers whose check nobody answered, ask on, and measure what is certain."""
        for mac in [mac for mac, at in self._checks.items() if at <= now]:
            del self._checks[mac]
            self._evidence[mac].answers_for_all, self._evidence[mac].being_checked = False, False
        self._begin_measuring(now)
        for machine in self.asking:
            machine.handle_timer(now)
        self._take_measurement()

    def _ask_names(self, mac: MacAddress) -> None:
        """Ask a device that has shown its address for its name, once for each address."""
        evidence = self._evidence[mac]
        for belief in evidence.beliefs():
            if belief.belief is Belief.CERTAIN and (mac, belief.address) not in self._asked_names:
                self._asked_names.add((mac, belief.address))
                self._effects += [Send(frame) for frame in name_questions(self.laptop_macs[0], mac, belief.address)]

    def poll(self) -> list[Effect]:
        """Return what is to be done now."""
        for machine in self.asking:
            self._effects += machine.poll()
        return super().poll()

    def next_deadline(self) -> float | None:
        """Return when the next question, the end of a check or a measurement is due."""
        measure_at = self._alone_since + _MEASURE_AFTER_S if self._to_measure() else None
        return earliest(*self._checks.values(), measure_at, *(each.next_deadline() for each in self.asking))

    def _to_measure(self) -> Evidence | None:
        """Return the one device on the wire, where it may be measured and has not been."""
        if not self._measures or self.measuring or not self.loudness.allows(Loudness.CALL) or len(self._evidence) != 1:
            return None
        (evidence,) = self._evidence.values()
        if evidence.mac == self._measured_mac or evidence.answers_for_all or evidence.being_checked:
            return None
        best = next(iter(evidence.beliefs()), None)
        return evidence if best and best.belief is Belief.CERTAIN else None

    def _begin_measuring(self, now: float) -> None:
        if now < self._alone_since + _MEASURE_AFTER_S:
            return
        evidence = self._to_measure()
        if evidence:
            self.measure(evidence.mac, evidence.beliefs()[0].address, now)

    def measure(self, mac: MacAddress, address: IPv4Address, now: float) -> Measuring:
        """Measure the mask and the gateway behind one address from now on."""
        evidence = self._evidence.get(mac)
        sought = {clue.about for clue, _ in evidence.of(Tells.LOOKS_FOR)} if evidence else set()
        avoid = {each for each in sought if each} | self.laptop_addresses
        avoid = avoid.union(*self._held.values())
        self._measured_mac = mac
        self.measuring = Measuring(self.laptop_macs[0], mac, address, now=now, avoid=avoid)
        return self.measuring

    def _take_measurement(self) -> None:
        measuring = self.measuring
        if measuring is None:
            return
        self.laptop_addresses |= measuring.sources
        if measuring.result:
            evidence = self._evidence.get(measuring.mac)
            if evidence:
                evidence.measured[measuring.address] = measuring.result
            self._effects += measuring.poll()
            self.measuring = None

    # What it adds up to

    def devices(self) -> list[Device]:
        """Return the devices on the wire, those with the surest and most recent knowledge first."""
        views = [view(evidence) for evidence in self._evidence.values()]
        return sorted(views, key=lambda each: (-each.sureness, -each.last_at))

    def device(self, mac: MacAddress) -> Device | None:
        """Return one device, or None where nothing was heard of it."""
        evidence = self._evidence.get(mac)
        return view(evidence) if evidence else None

    def hazards(self) -> list[Hazard]:
        """Return what on this wire calls for care."""
        hazards = find_hazards(self.devices())
        if not self.link_up:
            text = "The link is down: the cable is out, or the device has lost its power or is starting."
            hazards.append(Hazard(code="link-down", text=text))
        return hazards
