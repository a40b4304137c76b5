"""A round of devices, one after the other, on one adapter and into one job."""

import secrets
from collections.abc import Callable, Iterable, Sequence
from dataclasses import replace
from datetime import datetime
from ipaddress import IPv4Address, IPv4Interface
from typing import TYPE_CHECKING, Protocol

from askport.core.addresses import MacAddress
from askport.core.channels import Channels
from askport.core.crate.switch_crate import SwitchCrate
from askport.core.crew.in_hand import ALONE, Others, claims_of
from askport.core.errors import Refused
from askport.core.kinds.model import Kind
from askport.core.lessons.evidence import as_kept, blanked
from askport.core.lessons.exchange import Exchange
from askport.core.machine import Machine
from askport.core.phrases import phrase
from askport.core.plan import site_plan, working_order
from askport.core.plan.target import Site
from askport.core.reach.laptop import Laptop
from askport.core.register import entries, known
from askport.core.visit import cable, session, steps
from askport.core.ways.log_in import LogIn
from askport.core.wire import Heard, Wire
from askport.edges import driver, jobfile, log, shared_wire

if TYPE_CHECKING:
    from askport.edges.crew.beside_work import CrewBeside


class BorrowingAdapter(Protocol):
    """What can borrow and give back: a footing on a cable, or the bench."""

    @property
    def beside(self) -> MacAddress | None:
        """The MAC address beside the adapter, or None where it is borrowed on the adapter."""

    @property
    def place(self) -> int:
        """Which place beside the adapter it is."""

    async def another(self) -> "tuple[BorrowingAdapter, Channels]":
        """Return one more place beside the adapter, with its channels.

        Raises:
            AskPortError: there is none to be had.
        """

    async def borrow(self, interface: IPv4Interface, *, on_adapter: bool = False) -> str:
        """Take an address; return why it is on the adapter and not beside it, or nothing."""

    async def speak_ipv6(self) -> None:
        """Have the laptop speak IPv6 here."""

    async def pin(self, address: IPv4Address, mac: MacAddress) -> None:
        """Have an address mean one MAC address."""

    async def give_back(self) -> None:
        """Put the adapter back as it was."""


class _AdapterAndJob:
    """The hands of a session: one adapter and one job file."""

    def __init__(self, adapter: BorrowingAdapter, job: jobfile.JobFile) -> None:
        self.borrow, self.pin, self.give_back = adapter.borrow, adapter.pin, adapter.give_back
        self.speak_ipv6 = adapter.speak_ipv6
        self._job = job

    def write(self, entry: entries.Entry, at: datetime) -> None:
        self._job.append(entry, at)

    def keep(self, unit: int, frames: Sequence[tuple[datetime, bytes]]) -> None:
        self._job.keep(unit, frames)


class JobRun:
    """Goes through a work list; the session of the device at hand is ``session``."""

    def __init__(
        self,
        *,
        wire: Wire,
        adapter: BorrowingAdapter,
        channels: Channels,
        own: Sequence[IPv4Interface],
        job: jobfile.JobFile,
        work: Sequence[working_order.WorkItem],
        sites: Sequence[Site],
        maker: Callable[[MacAddress], str | None],
        kinds: Sequence[Kind] = (),
        heard: Sequence[Heard] = (),
        began_at: float | None = None,
        crew: "CrewBeside | None" = None,
    ) -> None:
        """Begin with the first device of the list; behind its end, tags and addresses are counted on.

        Args:
            job: where it is written down.
            work: the devices in working order.
            heard: what the wire has told already, before it was chosen.
            began_at: since when it was listened on, in the wire's time; None for now.
            crew: what keeps the job and its crew together, where it has one.
        """
        self.wire, self.own, self.job, self.sites, self.maker = wire, tuple(own), job, sites, maker
        self.work = list(work)
        self._adapter_and_job, self._channels = _AdapterAndJob(adapter, job), channels
        self._adapter = adapter
        self._place = 0
        self.kinds = kinds
        self.kinds_now: Callable[[], Sequence[Kind]] = lambda: self.kinds
        """Tells the kinds as their files have them now."""
        self.crew = crew
        """What keeps the job and its crew together beside the work, where it has one."""
        self.in_hand_too: Callable[[], Iterable[working_order.WorkItem]] = lambda: ()
        """Tells which units are in hand beside the one at hand: those on a switch."""
        self.lets_write: Callable[[], object] = lambda: None
        """Refuses, where whoever looks at a crew may only read."""
        self.log_ins: dict[str, LogIn] = {}
        """What kinds are entered with; never stored."""
        self._serial_lines: dict[str, str] = {}
        self._laptop_before: set[IPv4Address] = set()
        self._why_on_adapter = ""
        self._improvised = working_order.WorkItem(tag=phrase("unit {last_id}", last_id=job.register.last_id() + 1))
        self.begin(began_at)
        for each in heard:
            self.session.receive(each)

    @property
    def may_go_side_by_side(self) -> bool:
        """Whether several devices can be gone through at once, each from a place of its own beside the adapter."""
        return self._adapter.beside is not None

    async def lane(self, wire: Wire) -> "JobRun":
        """Return one more round into the same job, on its own view of the cable and from a place of its own.

        Raises:
            AskPortError: there is no more place beside the adapter.
        """
        adapter, channels = await self._adapter.another()
        made = JobRun(
            wire=wire, adapter=adapter, channels=channels, own=self.own, job=self.job, work=self.work,
            sites=self.sites, maker=self.maker, kinds=self.kinds, crew=self.crew,
        )  # fmt: skip
        made.log_ins, made._serial_lines, made.kinds_now = self.log_ins, self._serial_lines, self.kinds_now
        return made

    @property
    def item(self) -> working_order.WorkItem:
        """The device of the work list that is at hand."""
        return self.work[self._place] if self._place < len(self.work) else self._improvised

    @property
    def is_over(self) -> bool:
        """Whether the last device of the work list was recorded."""
        over = self._ahead(others_too=True) is None and not self.session.device.revisits
        return bool(self.work) and over and (self.session.phase is steps.Phase.RECORDED or self._only_listens)

    def _ahead(self, *, others_too: bool = False) -> int | None:
        """Return the place of the next device of the work list that is not recorded, from this one on or before it.

        One that another member of the crew has in hand is left to it, as long as there is any other.
        """
        recorded, others = self.job.register.recorded_tags(), self.others()
        places = (*range(self._place, len(self.work)), *range(min(self._place, len(self.work))))
        open_ones = [place for place in places if self.work[place].tag not in recorded]
        free = (place for place in open_ones if others_too or others.holder_of(self.work[place].tag) is None)
        return next(free, None)

    def others(self) -> Others:
        """Return what the others of the crew have in hand now."""
        return self.crew.others if self.crew else ALONE

    def meet_crew(self) -> bool:
        """Take in what has come from the crew, and tell it what is in hand here; return whether anything came."""
        if self.crew is None:
            return False
        device = self.session.device
        target = device.target.interface.ip if device.target else None
        is_ours = device.work.planned is not None or device.chosen is not None
        over = self.session.phase is steps.Phase.RECORDED or not is_ours
        moved = self._leave_to_others()
        wanted = frozenset[str]() if over else claims_of(device.work.tag, target)
        for item in self.in_hand_too():
            wanted |= claims_of(item.tag, item.target.interface.ip if item.target else None)
        self.crew.want(wanted)
        if came := self.crew.adopt():
            self.see_plan()
        return came or moved

    def _leave_to_others(self) -> bool:
        """Mean the next unit instead of one that another member has, as long as nobody chose it and none was found."""
        device, phase = self.session.device, self.session.phase
        waits = phase in (steps.Phase.PLUGGING, steps.Phase.FINDING) and device.chosen is None and not device.is_meant
        if not waits or not self.work or self.others().holder_of(self.item.tag) is None:
            return False
        place = self._ahead()
        if place is None or place == self._place:
            return False
        self.take(self.work[place], is_meant=False)
        return True

    def see_plan(self) -> None:
        """Take in the plan as it is by now; what is at hand stays at hand."""
        register, at = self.job.register, self.item
        plan, done = register.plan(self.job.path.stem), register.recorded_tags()
        left = [address for address, _, _ in register.left()]
        ahead = list(site_plan.remaining(plan, done, left, self.others().block))
        self.work = [*(each for each in self.work if each.tag in done), *ahead]
        self.sites = plan.sites
        tags = [each.tag for each in self.work]
        self._place = tags.index(at.tag) if at.tag in tags else min(self._place, len(self.work))

    def close(self) -> None:
        """Let the crew know that nothing is in hand here any more, and others have the file."""
        if self.crew:
            self.crew.close()
        self.job.close()

    def take(self, item: working_order.WorkItem, *, is_meant: bool = True) -> None:
        """Take another device of the work list than the next one; what was heard on the cable stays.

        Args:
            is_meant: whether the technician chose it, and not an order.

        Raises:
            Refused: what was decided for the one before is not carried out yet.
        """
        if self.session.phase is steps.Phase.RECORDED:
            self._require_carried_out()
            self._place = self.work.index(item)
            self.begin()
            self.session.device.is_meant = is_meant
        else:
            self._place = self.work.index(item)
            self.session.stages.take(self._as_planned(item), self.wire.now(), is_meant=is_meant)

    def _as_planned(self, item: working_order.WorkItem) -> working_order.WorkItem:
        """Return a device as the plan has it by now: it may have been changed at the cable."""
        plan = self.job.register.plan()
        planned = plan.by_tag.get(item.tag)
        return plan.item_of(planned, item.target.interface.ip if item.target else None) if planned else item

    def _rows(self) -> list[working_order.WorkItem]:
        """Return every device of the job: those of the work list, and those of the plan that are recorded."""
        listed = {item.tag for item in self.work}
        plan = self.job.register.plan()
        return [*self.work, *(plan.item_of(each) for each in plan.devices if each.tag not in listed)]

    def went_through(self, item: working_order.WorkItem) -> None:
        """Take in that a device of the work list had its turn beside this round, which goes on behind it."""
        if item in self.work:
            self._place = max(self._place, self.work.index(item))

    def begin_with(self, item: working_order.WorkItem) -> None:
        """Begin anew with this device of the work list, wherever the one before it stands."""
        self._leave_laptop()
        self._place = self.work.index(item)
        self.begin()
        self.session.device.is_meant = True  # by its label or the plan, never by an order alone

    def crate(self, *, cuts_power: bool) -> SwitchCrate:
        """Return a crate on a switch of what is to be done and nobody else has in hand.

        Where power is cut in the end, that is all that is not proven: what was recorded before a crate was interrupted
        is at its address, is proven there, and goes through the cut with the others.
        """
        register, plan, others = self.job.register, self.job.register.plan(), self.others()
        done = register.proven_tags() if cuts_power else register.recorded_tags()
        left = {tag: address for address, _, tag in register.left()}
        again = register.recorded_tags() - done - {each.tag for each in self.work}
        items = [plan.item_of(each, left.get(each.tag)) for each in plan.devices if each.tag in again]
        self.work, self._place = [*items, *self.work], self._place + len(items)
        return SwitchCrate([each for each in self.work if others.holder_of(each.tag) is None], done)

    def learn(self, kind: Kind) -> None:
        """Know one more kind from the next device on; the nearest to the job goes first."""
        self.kinds = [kind, *(each for each in self.kinds if each.name != kind.name)]

    def begin_crate(self, like: str, kind: str, power_cuts: str) -> None:
        """Write down that the rest goes like a unit."""
        self._write(entries.CrateBegun(like=like, kind_name=kind, power_cuts=power_cuts))

    def keep_taught(self, exchanges: Sequence[Exchange], *, present: IPv4Address, port: int, secure: bool) -> None:
        """Keep what passed while the unit at hand was set on its page, then at ``present``, without its secrets."""
        device = self.session.device
        if device.chosen:
            self._write(
                entries.Taught(
                    unit=device.unit, mac=device.chosen.mac, present=present, port=port, secure=secure,
                    after_restart=device.took_after_restart, exchanges=tuple(map(as_kept, blanked(exchanges))),
                )
            )  # fmt: skip

    def correct(
        self,
        entry: entries.Noted
        | entries.Named
        | entries.Reopened
        | entries.Settled
        | entries.MemberAccepted
        | entries.DevicePlanned
        | entries.About,
    ) -> None:
        """Write something down behind the record of a device, or change the plan.

        Raises:
            AskPortError: nothing may be written here, or it cannot be.
        """
        self.lets_write()
        self._write(entry)

    def _write(self, entry: entries.Entry) -> None:
        self.job.append(entry, self.wire.wall(self.wire.now()))

    def begin(self, began_at: float | None = None) -> None:
        """Begin the way of the device at hand."""
        register, self.kinds = self.job.register, self.kinds_now()
        today = self.wire.wall(self.wire.now()).astimezone().date()
        around = cable.Surroundings(
            sites=self.sites,
            used={address: mac for address, mac, _ in register.left()},
            rows=self._rows(),
            known=known.KnownDevices(register.by_mac, today),
            found_before=register.found_before(),
            laptop_before=self._laptop_before,
            maker=self.maker,
            kinds=self.kinds,
            log_ins=self.log_ins,
            serial_lines=self._serial_lines,
            others=self.others,
        )
        adapter = self._adapter
        laptop = Laptop(self.wire.name, self.wire.mac, self.own, beside=adapter.beside, place=adapter.place)
        laptop.why_on_adapter = self._why_on_adapter
        self.session = session.Session(
            laptop=laptop,
            work=self.item,
            unit=self.job.new_unit(),
            link=self.wire.link(),
            now=self.wire.now() if began_at is None else began_at,
            xid=lambda: secrets.randbits(32),
            around=around,
        )
        self.session.cable.finder.on_drop = log.dropped
        self._only_listens = False
        """Whether others go through the devices on this cable, each from a place of its own."""
        self._channels.close_channels()  # the device before has gone, and its channels with it
        self.driver: shared_wire.Runs = driver.Driver(self.session, self.wire, self._adapter_and_job, self._channels)

    def aside(self, machine: Machine) -> None:
        """Have the cable run something that is no device's way, until the next one begins."""
        self.driver = driver.Driver(machine, self.wire, self._adapter_and_job, self._channels)

    def share(self) -> "tuple[shared_wire.SharedWire, shared_wire.SideBySide]":
        """Have others run on the same cable beside this round, which only listens on from now on."""
        shared = shared_wire.SharedWire(self.wire)
        view, together = shared.view(), shared_wire.SideBySide(shared, self.wire.now)
        own = driver.Driver(self.session, view, self._adapter_and_job, self._channels)
        self._only_listens = True

        async def itself() -> tuple[shared_wire.WireView, Callable[[], shared_wire.Runs]]:
            return view, lambda: own

        together.add(itself)
        self.driver = together
        return shared, together

    @property
    def is_carried_out(self) -> bool:
        """Whether all that was decided for the device at hand is written and given back."""
        return not self.session.visit.effects and self.driver.is_idle

    def _require_carried_out(self) -> None:
        if not self.is_carried_out:
            raise Refused(
                "The record of {tag} is being written: press the key once more.", tag=self.session.device.work.tag
            )

    def _leave_laptop(self) -> None:
        """Remember what the laptop had for the device at hand, and where it stands, for the next one."""
        laptop = self.session.cable.laptop
        self._laptop_before, self._why_on_adapter = self.session.cable.laptop_was, laptop.why_on_adapter

    def next_device(self) -> None:
        """Go on to the next device of the list, or of the crate.

        Raises:
            Refused: what was decided for this one is not carried out yet.
        """
        self._require_carried_out()
        self._leave_laptop()
        device = self.session.device
        if device.listed_as != device.work.tag and self.item.tag == device.listed_as and self.work:
            self.work[self._place] = device.work  # it was given another name
        if not device.revisits:  # whoever was next before a known device came by is still next
            self._improvised = working_order.following(replace(device.work, target=device.target))
            ahead = self._ahead()
            ahead = self._ahead(others_too=True) if ahead is None else ahead
            self._place = len(self.work) if ahead is None else ahead
        self.begin()
