"""One device's way through the job: Plug, Find, Reach, Set, Prove, Record.

A state machine that the screen and the command line drive alike: frames and time go in, the technician's decisions
go in as verbs, and effects come out. It only dispatches: ``stages`` do the steps, ``transitions`` says which phase
follows which, ``cable`` and ``at_hand`` hold what is known.
"""

from collections.abc import Iterable
from ipaddress import IPv4Interface

from askport.core import channels, errors, wire
from askport.core.machine import Borrow, Borrower, Effect, Xid, earliest
from askport.core.plan.working_order import WorkItem
from askport.core.reach.in_the_way import Adapter
from askport.core.reach.laptop import Laptop
from askport.core.register.entries import Borrowed, GaveBack
from askport.core.visit import at_hand, cable, transitions, visit
from askport.core.visit.errand import Errand
from askport.core.visit.stages.stage_list import Stages
from askport.core.visit.steps import Phase, Step


class Session(Borrower):
    """One device's way through the job."""

    def __init__(
        self,
        *,
        laptop: Laptop,
        work: WorkItem,
        unit: int,
        link: wire.Link,
        now: float,
        xid: Xid,
        around: cable.Surroundings,
    ) -> None:
        """Begin with the next device.

        Args:
            laptop: the laptop on the adapter that the cable is in.
            work: the device that is meant to be at the other end.
        """
        super().__init__()
        self.device = at_hand.AtHand(work, unit)
        delivered = work.delivered.ip if work.delivered else None
        self.cable = cable.Cable(laptop, link, around, label_mac=work.mac, delivered=delivered, now=now, xid=xid)
        self.visit = visit.Visit(self.cable, self.device)
        self.stages = Stages(self.visit)

    @property
    def phase(self) -> Phase:
        """Where it stands."""
        return self.visit.phase

    # The technician's decisions; those of one step are its stage's

    def enter(self, now: float) -> None:
        """Do the sensible next thing, if there is one."""
        self.visit.trouble = None
        self.stages.now.enter(now)

    def run_errand(self, errand: Errand, now: float) -> None:
        """Go to the device that a command names, as far as that wants."""
        self.stages.run_errand(errand, now)

    # What the world answers

    def borrow_done(self, interface: IPv4Interface, now: float, why_on_adapter: str = "") -> None:
        """Take in that the laptop has the borrowed address, and why on the adapter where it was to be beside it."""
        laptop = self.cable.laptop
        if why_on_adapter:
            laptop.go_on_adapter(why_on_adapter)
        if self.cable.borrowed(interface, now):
            unit, beside = self.device.unit, laptop.is_beside
            self.visit.write(Borrowed(unit=unit, adapter=laptop.adapter, interface=interface, beside=beside))
            self.stages.now.borrowed(now)

    def borrow_failed(self, error: errors.AskPortError, now: float) -> None:
        """Take in that the laptop did not get the address; where it is borrowed elsewhere, another is looked for."""
        offered = self.visit.free_address
        self.stages.access.refused(error)
        if error.code == errors.TAKEN_ELSEWHERE and offered:
            self.visit.trouble = None
            self.cable.elsewhere.add(offered.ip)
            self.stages.now.offer_another(now)

    def ipv6_failed(self, error: errors.AskPortError) -> None:
        """Take in that the laptop cannot speak IPv6 here; it matters where there is no other way."""
        self.cable.laptop.speaks_ipv6 = False
        if self.device.whereabouts is None or self.device.errand:
            self.visit.trouble = error

    def gave_back(self) -> None:
        """Take in that the adapter is as it was."""
        if self.cable.laptop.give_all_back():
            self.visit.write(GaveBack(unit=self.device.unit, adapter=self.cable.laptop.adapter))

    def see_laptop(
        self, adapters: Iterable[Adapter], *, now: float, way_out: str | None = None, slept_s: float = 0.0
    ) -> None:
        """Take in all of the laptop's adapters, by which the kernel would send to the device, and when that was."""
        present = self.visit.present_address
        device = present[0].ip if present else None
        again = self.cable.laptop.look(adapters, now=now, device=device, way_out=way_out, slept_s=slept_s)
        self.visit.effects += [Borrow(each) for each in again]

    # The machine

    def receive(self, heard: wire.Heard) -> None:
        self.cable.finder.receive(heard)
        for machine in self.visit.running:
            if not machine.done:
                machine.receive(heard)
        self._go_on(heard.at)

    def link_changed(self, link: wire.Link, now: float) -> None:
        self.cable.link_changed(link, now)
        if self.phase.step in (Step.FIND, Step.REACH) and self.cable.laptop.is_beside and self.cable.shut_at_beside > 1:
            self.stages.access.show_one_mac()
        for machine in self.visit.running:
            machine.link_changed(link, now)
        if link.up and self.phase is Phase.PLUGGING:
            self.visit.go(transitions.Event.LINK_CAME)
        self._go_on(now)

    def channel_event(self, event: channels.ChannelEvent, now: float) -> None:
        for machine in self.visit.running:
            machine.channel_event(event, now)
        self._go_on(now)

    def handle_timer(self, now: float) -> None:
        self.cable.finder.handle_timer(now)
        for machine in self.visit.running:
            machine.handle_timer(now)
        self._go_on(now)

    def next_deadline(self) -> float | None:
        return earliest(self.cable.finder.next_deadline(), *(each.next_deadline() for each in self.visit.running))

    def poll(self) -> list[Effect]:
        for machine in (self.cable.finder, *self.visit.running):
            self.visit.effects += machine.poll()
        effects, self.visit.effects = self.visit.effects, []
        return effects

    def _go_on(self, now: float) -> None:
        """Go on from what ran, when all of it is done."""
        self.stages.now.follow(now)
        awaited = [each for each in self.visit.running if not each.is_aside]
        if awaited and all(each.done for each in awaited):
            for machine in self.visit.running:
                self.visit.effects += machine.poll()
            self.visit.running = []
            self.stages.now.ended(awaited, now)
