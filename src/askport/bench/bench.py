"""The practice bench: one cable in virtual time, the laptop's end and a stand-in at the other."""

import asyncio
import heapq
from collections.abc import Sequence
from datetime import UTC, datetime, timedelta
from ipaddress import IPv4Address, IPv4Interface, IPv6Address
from itertools import count

from askport.bell import Bell
from askport.bench import standing, virtual_streams
from askport.bench.stand_in import StandIn
from askport.core import addresses, channels, errors, machine, wire
from askport.core.formats.arp import Arp, Op, arp_frame
from askport.core.formats.ethernet import Ethernet
from askport.core.formats.packet import read_packet
from askport.core.plan.target import Target

_DELAY_S = 0.0004
"""From one end to the other and through a small device's stack, one way."""
_FULL_SPEED_MBPS = 100


class Bench(standing.Standing):
    """The simulated wire. It is a ``Wire`` for the laptop's end, and the laptop's adapter.

    With ``pace`` 0 virtual time jumps from event to event; otherwise it runs ``pace`` times as fast as the clock.
    """

    name = "enp3s0"

    def __init__(
        self,
        mac: addresses.MacAddress,
        *,
        laptop: tuple[IPv4Interface, ...] = (),
        pace: float = 0.0,
        epoch: datetime | None = None,
    ) -> None:
        """Make a bench with nothing plugged in; ``epoch`` is the wall time of its moment 0."""
        super().__init__(mac, 0, laptop)
        self._mac = mac
        self.pace = pace
        self._epoch = epoch or datetime.now(UTC)
        self.devices: tuple[StandIn, ...] = ()
        """What is plugged in: one device straight, or several behind a switch."""
        self._switch = False
        self._now = 0.0
        self._real_at = 0.0
        self._order = count()
        self._flying: list[tuple[float, int, StandIn | None, bytes]] = []
        """Arrival, order, who sent it (None is the laptop) and the frame."""
        self._inbox: list[wire.Frame] = []
        self._link = wire.Link(up=False, since=0.0)
        self.streams = virtual_streams.BenchStreams(self)
        self.places: list[BenchPlace] = []
        """Those beside the adapter, behind the first one, which is the bench's own."""
        self._seen = self._sent = 0
        self._bell = Bell()
        self.on_pass: wire.OnPass = lambda _to_device: None

    # The wire

    @property
    def mac(self) -> addresses.MacAddress:
        """The laptop's MAC address."""
        return self._mac

    @property
    def heard_until(self) -> float:
        """Whatever has come by now was handed over."""
        return self._now

    def require_present(self) -> None:
        """A bench is always there."""

    def now(self) -> float:
        """Return the virtual time in seconds."""
        return self._now

    def wall(self, at: float) -> datetime:
        """Return a virtual moment as wall time."""
        return self._epoch + timedelta(seconds=at)

    def link(self) -> wire.Link:
        """Return the state of the link."""
        return self._link

    def counts(self) -> wire.Counts:
        """Return how many frames have passed."""
        return wire.Counts(seen=self._seen, sent=self._sent)

    def send(self, data: bytes) -> None:
        """Send a frame from the laptop's end."""
        if self._link.up:
            self._sent += 1
            self._fly(None, data)

    def send_many(self, frames: Sequence[bytes]) -> None:
        """Send frames from the laptop's end."""
        for data in frames:
            self.send(data)

    def give_way(self, seconds: float) -> None:
        """Nothing floods it."""

    def wake(self) -> None:
        """Let a wait return now."""
        self._bell.ring()

    def look(self) -> list[wire.Frame]:
        """Return nothing: no time passes between two waits."""
        return []

    async def wait(self, deadline: float | None) -> list[wire.Frame]:
        """Let virtual time run to the next frame for the laptop, a change of the link, or the deadline."""
        loop = asyncio.get_running_loop()
        self._real_at = self._real_at or loop.time()
        while not self._inbox:
            if self._bell.has_rung:
                break
            next_at = machine.earliest(self._next_event(), deadline)
            if next_at is None and not self.pace:
                break
            if self.pace:
                await self._sleep_until(next_at, loop)
                if next_at is None or self._now < next_at:
                    continue
            else:
                self._now = max(self._now, next_at or 0.0)
                await asyncio.sleep(0)
            if self._happen() or (deadline is not None and self._now >= deadline):
                break
        self._bell.clear()
        frames, self._inbox = self._inbox, []
        return frames

    async def _sleep_until(self, next_at: float | None, loop: asyncio.AbstractEventLoop) -> None:
        """Let real time pass, and virtual time with it, up to a moment or until woken."""
        longest = 0.25 if next_at is None else max(0.0, (next_at - self._now) / self.pace)
        if not self._bell.has_rung and await self._bell.wait(min(longest, 0.25)):
            self._bell.ring()  # for whoever waits for frames
        real = loop.time()
        passed = self._now + (real - self._real_at) * self.pace
        self._real_at = real
        # Never past an event that has not happened yet, so that nothing comes late.
        self._now = passed if next_at is None else max(self._now, min(passed, next_at))

    @property
    def device(self) -> StandIn | None:
        """The device that hands and pages reach: the one that is pinned, or the first."""
        pinned = next((each for each in self.devices if self.pinned and each.has(self.pinned)), None)
        return pinned or (self.devices[0] if self.devices else None)

    def _next_event(self) -> float | None:
        flying = self._flying[0][0] if self._flying else None
        link_changes = [each.link_change_at(self._now) for each in self.devices]
        talks = (each.next_at for each in (self.streams, *(each.streams for each in self.places)))
        return machine.earliest(flying, *talks, *(each.next_at for each in self.devices), *link_changes)

    def _happen(self) -> bool:
        """Do everything that is due; return whether the laptop must be told that the link changed."""
        changed = self._see_link()
        for device in self.devices:
            if device.next_at is not None and device.next_at <= self._now:
                self._from_device(device, device.tick(self._now))
        while self._flying and self._flying[0][0] <= self._now:
            _, _, sender, data = heapq.heappop(self._flying)
            if self._link.up:
                self._arrive(sender, data)
        happened = [each.happen() for each in (self.streams, *(each.streams for each in self.places))]
        return any(happened) or changed

    def _arrive(self, sender: StandIn | None, data: bytes) -> None:
        """Take a frame to every other end that it is for."""
        to = addresses.MacAddress(data[:6])
        for device in self.devices:
            if device is not sender and (to.is_group or device.has(to)):
                self.on_pass(True)
                self._from_device(device, device.receive(data, self._now))
        # A switch takes a frame to everybody whose MAC address it knows, and to all where it knows none.
        elsewhere = any(device.has(to) for device in self.devices)
        if sender is not None and (to.is_group or not self._switch or not elsewhere):
            self.on_pass(False)
            self._seen += 1
            self._inbox.append(wire.Frame(at=self._now, data=data))
            self._answer_arp(data)

    def _see_link(self) -> bool:
        # A switch has its power from the same strip as the units: it goes with the last of them.
        on = self._switch and any(each.powered for each in self.devices)
        up = on or any(each.link(self._now) for each in self.devices)
        if up == self._link.up:
            return False
        self._link = wire.Link(up=up, since=self._now, speed_mbps=_FULL_SPEED_MBPS if up else None)
        if not up:
            self._flying.clear()
        return True

    def _from_device(self, device: StandIn, frames: list[bytes]) -> None:
        for data in frames:
            self._fly(device, data)

    def _fly(self, sender: StandIn | None, data: bytes) -> None:
        heapq.heappush(self._flying, (self._now + _DELAY_S, next(self._order), sender, data))

    def _answer_arp(self, data: bytes) -> None:
        """Do the kernel's part at the laptop's end: answer ARP for the laptop's addresses."""
        packet = read_packet(data)
        arp, ethernet = packet.get(Arp), packet.get(Ethernet)
        if arp is None or ethernet is None or arp.op != Op.REQUEST:
            return
        held = {each.ip: self._mac for each in self.own}
        for place, interface in self._borrowed():
            held[interface.ip] = place.beside or self._mac
        if sender := held.get(arp.tpa):
            reply = Arp(op=Op.REPLY, sha=sender, spa=arp.tpa, tha=arp.sha, tpa=arp.spa)
            self._fly(None, arp_frame(reply, to=arp.sha))

    # The laptop's adapter

    async def another(self) -> "tuple[BenchPlace, virtual_streams.BenchStreams]":
        """Return one more place beside the adapter, with its channels."""
        self.places.append(BenchPlace(self, len(self.places) + 1))
        return self.places[-1], self.places[-1].streams

    def _borrowed(self) -> "list[tuple[Bench | BenchPlace, IPv4Interface]]":
        places: list[Bench | BenchPlace] = [self, *self.places]
        return [(place, each) for place in places for each in place.interfaces if each not in self.own]

    def require_nobodys(self, interface: IPv4Interface) -> None:
        """See that no place has an address already.

        Raises:
            MachineRefused: one has.
        """
        if any(each.ip == interface.ip for _, each in self._borrowed()):
            text = f"{interface.ip} is borrowed beside {self.name} already: name another address."
            raise errors.MachineRefused(text, code=errors.TAKEN_ELSEWHERE)

    def reached(self, channel: channels.Channel | channels.PageCall) -> StandIn | None:
        """Return the stand-in that holds a channel's far end, where laptop and stand-in can talk now."""
        return self.reached_from(self, channel)

    def reached_from(self, place: standing.Standing, channel: channels.Channel | channels.PageCall) -> StandIn | None:
        """Return the stand-in that holds a channel's far end, and that can be talked with from a place."""
        far = channel.far
        if not self._link.up or isinstance(far, channels.SerialLine):
            return None
        there = [each for each in self.devices if _talks_with(place, each, far.address)]
        meant = [each for each in there if place.pinned and each.has(place.pinned)]
        return next(iter(meant or there), None)

    def flush(self, device: StandIn) -> None:
        """Send what a stand-in wants to, because of what it was told."""
        frames, device.outbox = device.outbox, []
        self._from_device(device, frames)

    def reaches(self, address: IPv4Address) -> bool:
        """Whether the laptop's routing rule has a way to an address: only into its own subnets."""
        return any(address in each.network for each in self.interfaces)

    # The hands of whoever practises

    def plug(self, *devices: StandIn, switch: bool = False) -> None:
        """Put the cable into other devices, and give them power; those before lose both.

        Behind a switch the link is up whatever the devices do.
        """
        for device in self.devices:
            device.power(False, self._now)
        if self.devices:
            self._switch = False
            self.devices = ()
            self._see_link()
        self.devices, self._switch = devices, switch
        self._see_link()
        for device in devices:
            device.power(True, self._now)
        self.wake()

    def power(self, on: bool) -> None:
        """Pull the device's power, or put it back."""
        if self.device:
            self.device.power(on, self._now)
            self._happen()
        self.wake()

    def power_all(self, on: bool) -> None:
        """Pull the power of all devices, or put it back."""
        for each in self.devices:
            each.power(on, self._now)
        self._happen()
        self.wake()

    def type_in(self, target: Target) -> str:
        """Type values into the device's page, keypad or console, and save them.

        Raises:
            Refused: it cannot be done now; the message says why.
        """
        if self.device is None:
            raise errors.Refused("Nothing is plugged in.")
        interface = self.device.host.interface
        both = interface is not None and _both_reach(interface, self.interfaces)
        said = self.device.type_in(target, self._now, over_the_cable=both)
        self.wake()
        return said


def _talks_with(place: standing.Standing, device: StandIn, address: addresses.Address) -> bool:
    """Whether packets pass both ways: each end must have the other in its subnet."""
    if isinstance(address, IPv6Address):
        return device.up and place.speaks_ipv6 and device.host.ipv6 == address
    theirs = device.host.interface if device.up else None
    return theirs is not None and theirs.ip == address and _both_reach(theirs, place.talking)


def _both_reach(theirs: IPv4Interface, talking: Sequence[IPv4Interface]) -> bool:
    return any(theirs.ip in mine.network and mine.ip in theirs.network for mine in talking)


class BenchPlace(standing.Standing):
    """One more place beside the bench's adapter, with addresses, a neighbour and streams of its own."""

    def __init__(self, bench: Bench, number: int) -> None:
        super().__init__(bench.mac, number)
        self._bench = bench
        self.streams = virtual_streams.BenchStreams(self)
        self.now, self.flush, self.another = bench.now, bench.flush, bench.another

    def require_nobodys(self, interface: IPv4Interface) -> None:
        """See that no place of the bench has an address already."""
        self._bench.require_nobodys(interface)

    def reached(self, channel: channels.Channel | channels.PageCall) -> StandIn | None:
        """Return the stand-in that holds a channel's far end, where this place and stand-in can talk now."""
        return self._bench.reached_from(self, channel)
