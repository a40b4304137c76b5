"""Outcome: every frame is read for clues, and what may be asked is asked."""

from collections.abc import Callable, Iterable
from ipaddress import IPv4Address, IPv4Network

from askport.core import hazard, wire
from askport.core.addresses import NO_MAC, MacAddress
from askport.core.finding import asking_beside, believing, doubts, likely, questioning, rivals
from askport.core.finding.beliefs import Gathered
from askport.core.finding.calling import DEFAULT_RATE, Calling
from askport.core.finding.clues import SHOWS_HOLDING, Belief, Clue, ClueKind
from askport.core.finding.device import Device, view
from askport.core.finding.further_questions import FurtherQuestions
from askport.core.finding.greeting import OWN_SOURCES, Greeting, name_questions
from askport.core.finding.hazards import OwnHazards, find_hazards
from askport.core.finding.loudness import Loudness
from askport.core.finding.measuring import Measuring
from askport.core.finding.readers import read_clues
from askport.core.finding.sweeping import DEFAULT_SWEEP_RATE, PRIVATE, Sweeping
from askport.core.formats.ethernet import Ethernet
from askport.core.formats.ipv4 import IPv4
from askport.core.formats.packet import Packet
from askport.core.machine import Effect, Machine, Send, earliest
from askport.core.phrases import phrase

MAX_DEVICES = 1024
"""MAC addresses kept: more than a /22 has hosts. On a wire with more, the cable is in the wrong socket anyway."""
MAX_HELD = 64
"""Addresses remembered of one MAC address, to see what is sent through it to somebody else."""
_PATIENT_PASSES = 5
"""A single address is asked for once a second, twice as often as this: ten seconds cover most boot times."""
_MEASURE_AFTER_S = 1.0
"""How long the wire must have carried one device alone before it is measured."""

_TO_ASK_FOR = frozenset({ClueKind.ACCEPTS, ClueKind.SENDS_FROM})
"""What makes an address likely, so that its holder is asked for it where that may be."""
_ASKED_WHEN_GREETING = frozenset({ClueKind.SENDS_TO_ALL, ClueKind.SENDS_ON_LINK, ClueKind.ANNOUNCES})
"""What it showed by itself and only its answer makes certain: that question is as quiet as a greeting."""
_BY_IPV4 = frozenset({ClueKind.SENDS_ON_LINK, ClueKind.SENDS_TO_ALL, ClueKind.SENDS_FROM, ClueKind.FORWARDS})


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
            known: addresses that something speaks for; they are asked for first.
            within: ranges to call or sweep; without them, likely addresses or all private space.
            rate: questions a second, or None for what is polite.
            measures: whether masks and gateways are measured where the loudness allows it.
        """
        super().__init__()
        self.laptop_macs = tuple(laptop_macs)
        self.laptop_addresses: set[IPv4Address] = set(OWN_SOURCES)
        """Kept up to date by whoever borrows: a device that looks for one of these was made to."""
        self.asked_from: set[IPv4Address] = set()
        """Nobody's addresses that questions came from: who looks for one was made to, and another may yet have it."""
        self.somebodys: Callable[[], Iterable[IPv4Address]] = lambda: ()
        """Tells which addresses are somebody's, silent or not: no question comes from them."""
        self._gathered: dict[MacAddress, Gathered] = {}
        self._held: dict[MacAddress, set[IPv4Address]] = {}
        self._checks = believing.AnswerChecks(
            self.laptop_macs[0] if self.laptop_macs else NO_MAC, self.laptop_addresses, self._gathered
        )
        self._asks = believing.LikelyAsks(self._checks.laptop_mac)
        self._still = believing.StillHeld(
            self._checks.laptop_mac, self._gathered, lambda: self.loudness.allows(Loudness.GREET), now
        )
        self._rivals = rivals.Rivals(self._gathered)
        self._further = FurtherQuestions(self._checks.laptop_mac)
        self._beside = asking_beside.AskingBeside(self._checks.laptop_mac, self.asked_from, self._not_to_ask_from)
        self.own_addresses: Callable[[], Iterable[IPv4Address]] = lambda: ()
        """Tells which addresses the laptop has on this adapter: it greets from each."""
        self._views: dict[MacAddress, tuple[tuple[int, int], Device]] = {}
        self._ranked: tuple[tuple[int, ...], list[Device]] = (), []
        """What the views rested on when they were put in order last, and that order."""
        self._forgotten, self._own_hazards = 0, OwnHazards()
        self._dangers: list[hazard.Hazard] | None = None
        """What they call for, worked out once a change."""
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
        self.on_drop: wire.OnDrop = lambda _heard, _reason: None
        """Told of every frame that tells nothing, in full or in part, for whoever keeps a log."""
        self.frames_seen = self.frames_unreadable = 0
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
        self.greeting = Greeting(self.laptop_macs[0], now=now, own=lambda: self.own_addresses())

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
        addresses = likely.likely_addresses(known, within) if guess else known * _PATIENT_PASSES
        self.calling = Calling(self.laptop_macs[0], addresses, now=now, rate=rate if guess else 1.0, often=known)

    def ask_one(self, mac: MacAddress, addresses: Iterable[IPv4Address], *, now: float) -> None:
        """Greet everybody, and ask one device at its own MAC address for each address that it may have."""
        self.greet(now)
        asked = [*addresses] * _PATIENT_PASSES
        self.calling = Calling(self.laptop_macs[0], asked, now=now, rate=20.0, often=asked, to=mac)

    def sweep(self, within: Iterable[IPv4Network] = (), *, now: float, rate: float = DEFAULT_SWEEP_RATE) -> None:
        """Ask from now on for every address of the ranges, or of all private space."""
        self.loudness = Loudness.SWEEP
        self.sweeping = Sweeping(self.laptop_macs[0], list(within) or PRIVATE, now=now, rate=rate)

    def listen(self) -> None:
        """Stop asking."""
        self.loudness = Loudness.LISTEN
        self.greeting = self.calling = self.sweeping = self.measuring = None
        self._checks.clear()
        self._asks.clear()

    @property
    def asking(self) -> tuple[Machine, ...]:
        """Everything that asks at present."""
        machines = (self.greeting, self.calling, self.sweeping, self.measuring)
        return tuple(each for each in machines if each is not None)

    @property
    def has_settled(self) -> bool:
        """Whether calling and sweeping are over, and what they found was checked and measured."""
        asked = all(each.done for each in (self.calling, self.sweeping) if each)
        return asked and self._checks.done and self._asks.done and self.measuring is None and self._to_measure() is None

    # What was heard

    def forget(self, mac: MacAddress) -> None:
        """Drop all that was gathered of a device, because it moved or was taken off the wire."""
        self._gathered.pop(mac, None)
        self._views.pop(mac, None)
        self._forgotten += 1  # what is gathered only grows otherwise
        self._checks.forget(mac)

    def left(self, mac: MacAddress, old: IPv4Address) -> None:
        """Take in that a device was seen to move away from an address."""
        if gathered := self._gathered.get(mac):
            gathered.holdings.leave(old)
            gathered.revision += 1

    def receive(self, heard: wire.Heard) -> None:
        """Read one frame for clues; the laptop's own frames never count, nor do their reflections."""
        self.frames_seen += 1
        packet = heard.packet
        if packet.unreadable is not None:
            self.frames_unreadable += 1
            self.on_drop(heard, str(packet.unreadable))
        ethernet = packet.get(Ethernet)
        if ethernet is None:
            return
        if ethernet.src in self.laptop_macs or questioning.stood_in_for(ethernet.src):
            if own := questioning.sender_of(packet):  # a capture may hold the laptop's own frames
                self.laptop_addresses.add(own)
            self.on_drop(heard, phrase("it is the laptop's own"))
            return
        if self.measuring:
            self.measuring.receive(heard)
        self._checks.receive(heard)
        if self.greeting:
            self._further.receive(heard)
            self._beside.receive(heard)
        by_mac: dict[MacAddress, list[Clue]] = {} if ethernet.src.is_group else {ethernet.src: []}
        for clue in read_clues(packet):
            # Another Ask Port greets everybody from the same source; only to this laptop it comes back.
            greets = clue.address in OWN_SOURCES and ethernet.dst not in self.laptop_macs
            if greets:
                self.on_drop(heard, phrase("another Ask Port greets with it"))
            elif clue.mac not in self.laptop_macs:
                by_mac.setdefault(clue.mac, []).append(self._seen_from_here(clue, packet))
        for mac, clues in by_mac.items():
            gathered = self._evidence_of(mac, heard.at)
            if gathered is None:
                self.on_drop(heard, phrase("there are {max_devices} devices already", max_devices=MAX_DEVICES))
                continue
            if mac == ethernet.src:
                gathered.frames += 1
                if ethernet.vlan:
                    gathered.vlans.add(ethernet.vlan)
            gathered.add((each for each in clues if not self._checks.is_idle(each, gathered)), heard)
            for clue in clues:
                if clue.kind is ClueKind.ANSWERS and clue.address:
                    self._check(clue.address, gathered, heard)
                if clue.kind in SHOWS_HOLDING and clue.address:
                    self._rivals.see(clue, heard.at)
                if clue.kind in _TO_ASK_FOR | _ASKED_WHEN_GREETING and clue.address:
                    loudness = Loudness.GREET if clue.kind in _ASKED_WHEN_GREETING else Loudness.CALL
                    allowed = self.loudness.allows(loudness)
                    self._asks.about(mac, clue.address, gathered, heard.at, allowed=allowed)
            if self.greeting and any(clue.kind in SHOWS_HOLDING for clue in clues):
                self._ask_names(mac)

    def told(self, clue: Clue, heard: wire.Heard) -> None:
        """Take in what a device said in a conversation, with the frame that it said it in."""
        if gathered := self._gathered.get(clue.mac):
            gathered.add((clue,), heard)

    def _evidence_of(self, mac: MacAddress, at: float) -> Gathered | None:
        gathered = self._gathered.get(mac)
        if gathered is None and len(self._gathered) < MAX_DEVICES:
            gathered = self._gathered[mac] = Gathered(mac, at, at, holdings=doubts.Holdings(self.laptop_addresses))
        elif gathered is None or gathered.is_present:
            return gathered
        self._alone_since = at
        return gathered

    def _seen_from_here(self, clue: Clue, packet: Packet) -> Clue:
        """Return a clue as this wire shows it: what the laptop caused says less, what went through another more."""
        if clue.kind is ClueKind.LOOKS_FOR and (clue.about in self.laptop_addresses or clue.about in self.asked_from):
            return clue._replace(kind=ClueKind.LOOKS_FOR_US, about=None)
        # What it has answered for is its own, though a question came from there before that was known.
        if clue.kind in _BY_IPV4 and (
            clue.address in self.laptop_addresses
            or (clue.address in self.asked_from and clue.address not in self._held.get(clue.mac, ()))
        ):
            return clue._replace(kind=ClueKind.REFLECTS)
        if clue.kind in (ClueKind.ANSWERS, ClueKind.ANNOUNCES) and clue.address and len(self._held) < MAX_DEVICES:
            held = self._held.setdefault(clue.mac, set())
            if len(held) < MAX_HELD:
                held.add(clue.address)
        if clue.kind is ClueKind.SENDS_FROM:
            ethernet, ipv4 = packet.get(Ethernet), packet.get(IPv4)
            if ethernet and ipv4 and self._goes_through(ethernet.dst, ipv4.dst):
                return clue._replace(kind=ClueKind.SENDS_THROUGH, about=ipv4.dst)
        return clue

    def _not_to_ask_from(self) -> set[IPv4Address]:
        return self.laptop_addresses.union(self.somebodys(), *self._held.values())

    def _goes_through(self, mac: MacAddress, destination: IPv4Address) -> bool:
        """Whether a frame to this MAC address is for somebody else's address than those that it is known to hold."""
        held = self._held.get(mac)
        return held is not None and len(held) < MAX_HELD and destination not in held and not destination.is_multicast

    def _check(self, address: IPv4Address, gathered: Gathered, heard: wire.Heard) -> None:
        if self.loudness is not Loudness.LISTEN:
            asked_at = self.calling.asked_at(address) if self.calling else None
            self._checks.answered(address, gathered, heard, heard.at - asked_at if asked_at is not None else None)

    # The machine

    def link_changed(self, link: wire.Link, now: float) -> None:
        """Take in that whoever hung there may be another, or have another address, when the link comes back."""
        self.link_up = link.up
        for machine in self.asking:
            machine.link_changed(link, now)
        if link.up:
            for gathered in self._gathered.values():
                gathered.restarted_at = now
                gathered.revision += 1
            self._alone_since, self._measured_mac = now, None
            return
        self._checks.clear()
        self._asks.clear()
        self._still.clear()

    def handle_timer(self, now: float) -> None:
        """Believe answers whose check nobody answered, ask on, and measure what is certain."""
        self._checks.handle_timer(now)
        self._asks.handle_timer(now)
        self._still.handle_timer(now)
        self._beside.handle_timer(now)
        self._begin_measuring(now)
        for machine in self.asking:
            machine.handle_timer(now)
        self._take_measurement()

    def _ask_names(self, mac: MacAddress) -> None:
        """Ask a device that has shown its address for its name, once for each address."""
        gathered = self._gathered[mac]
        for belief in self._view(gathered).addresses:
            if belief.belief is Belief.CERTAIN and (mac, belief.address) not in self._asked_names:
                self._asked_names.add((mac, belief.address))
                self._beside.about(mac, belief.address, gathered.last_at)
                self._effects += [Send(frame) for frame in name_questions(self.laptop_macs[0], mac, belief.address)]

    @property
    def _waiting(self) -> tuple[Machine, ...]:
        """What has deadlines of its own."""
        return (self._checks, self._asks, self._still, self._beside, *self.asking)

    def poll(self) -> list[Effect]:
        for machine in (*self._waiting, self._further):
            self._effects += machine.poll()
        return super().poll()

    def next_deadline(self) -> float | None:
        """Return when the next question, the end of a check or a measurement is due."""
        measure_at = self._alone_since + _MEASURE_AFTER_S if self._to_measure() else None
        return earliest(
            measure_at,
            *(each.next_deadline() for each in self._waiting),
        )

    def _to_measure(self) -> Gathered | None:
        """Return the one device on the wire, where it may be measured and has not been."""
        if not self._measures or self.measuring or not self.loudness.allows(Loudness.CALL):
            return None
        present = [each for each in self._gathered.values() if each.is_present]
        if len(present) != 1:
            return None
        (gathered,) = present
        if gathered.mac == self._measured_mac or gathered.answers_for_all:
            return None
        best = self._view(gathered).best
        return gathered if best and best.belief is Belief.CERTAIN else None

    def _begin_measuring(self, now: float) -> None:
        if now < self._alone_since + _MEASURE_AFTER_S:
            return
        if gathered := self._to_measure():
            self.measure(gathered.mac, self._view(gathered).addresses[0].address, now)

    def measure(self, mac: MacAddress, address: IPv4Address, now: float) -> Measuring:
        """Measure the mask and the gateway behind one address from now on."""
        gathered = self._gathered.get(mac)
        sought = {clue.about for clue, _ in gathered.of(ClueKind.LOOKS_FOR)} if gathered else set()
        avoid = self._not_to_ask_from().union(filter(None, sought))
        self._measured_mac = mac
        self.measuring = Measuring(
            self.laptop_macs[0], mac, address, now=now, avoid=avoid, ours=self.laptop_addresses | self.asked_from,
            asked_from=self.asked_from, seed=int(now), laptop_macs=self.laptop_macs,
        )  # fmt: skip
        return self.measuring

    def _take_measurement(self) -> None:
        measuring = self.measuring
        if measuring and measuring.result:
            if gathered := self._gathered.get(measuring.mac):
                gathered.measured[measuring.address] = measuring.result
                gathered.revision += 1
            self._effects += measuring.poll()
            self.measuring = None

    # What it adds up to

    def devices(self) -> list[Device]:
        """Return the devices on the wire, those with the surest and most recent knowledge first."""
        gathered, known = self._gathered.values(), (self._forgotten, len(self.laptop_addresses))
        state = sum(each.revision for each in gathered), len(gathered), *known
        if state != self._ranked[0]:
            views = [self._view(each) for each in gathered]
            order = sorted(views, key=lambda each: (not each.is_present, -each.sureness, -each.last_at))
            self._ranked, self._dangers = (state, order), None
        return list(self._ranked[1])

    def _view(self, gathered: Gathered) -> Device:
        """Return what was gathered of a device, added up anew only where something has changed."""
        state = gathered.revision, len(self.laptop_addresses)
        known = self._views.get(gathered.mac)
        if known is None or known[0] != state:
            known = self._views[gathered.mac] = state, view(gathered)
        return known[1]

    def device(self, mac: MacAddress) -> Device | None:
        """Return one device, or None where nothing was heard of it."""
        return self._view(gathered) if (gathered := self._gathered.get(mac)) else None

    def servers(self) -> list[IPv4Address]:
        """Return the address servers that the wire has told of."""
        return [each.address for each in self.hazards() if each.code == "address-server" and each.address]

    def hazards(self) -> list[hazard.Hazard]:
        """Return what on this wire calls for care."""
        devices = self.devices()
        if self._dangers is None:
            self._dangers = find_hazards(devices, self._own_hazards)
        if self.link_up:
            return list(self._dangers)
        text = phrase("The link is down: the cable is out, or the device has lost its power or is starting.")
        return [*self._dangers, hazard.Hazard(code="link-down", text=text)]
