"""A session on a real cable for one device that a command names, gone through as a practised technician would."""

import contextlib
import secrets
from collections.abc import Callable, Iterator, Sequence
from datetime import datetime
from ipaddress import IPv4Interface, IPv6Address

from askport.cli.recording import Record
from askport.cli.saying import say
from askport.core import errors, machine
from askport.core.finding.device import Device
from askport.core.phrases import phrase
from askport.core.plan.target import Target
from askport.core.plan.working_order import WorkItem
from askport.core.reach.laptop import Laptop
from askport.core.reach.whom_it_answers import answers_adapter_only
from askport.core.register.entries import Borrowed, Entry, GaveBack
from askport.core.visit.cable import Surroundings
from askport.core.visit.errand import Errand
from askport.core.visit.session import Session
from askport.core.visit.steps import Phase, Step
from askport.core.ways.start import Start
from askport.edges import adapters, driver, keeper_client, log, streams
from askport.edges.footing import Footing

_SLICE_S = 0.2
_ENTER = {
    Step.REACH: (Phase.MAY_BORROW,),
    Step.SET: (Phase.MAY_BORROW, Phase.MAY_SET),
    Step.PROVE: (Phase.MAY_PROVE,),
}
"""Where Enter is pressed, by the last step that is wanted: nothing is to be decided there by a person."""


class _Hands:
    """What carries out what the session wants of the laptop and the job."""

    def __init__(self, cable: Footing, record: Record, laptop: Laptop, begins: Callable[[], None]) -> None:
        self._begins = begins
        self.pin, self.give_back, self.speak_ipv6 = cable.pin, cable.give_back, cable.speak_ipv6
        self._cable, self._record, self._laptop = cable, record, laptop

    async def borrow(self, interface: IPv4Interface, *, on_adapter: bool = False) -> str:
        """Borrow, and say where."""
        if on_adapter:
            say(answers_adapter_only(self._cable.adapter))
        if why := await self._cable.borrow(interface, on_adapter=on_adapter):
            say(why)
        say("Borrowed {interface} {where}.", interface=interface, where=self._cable.where)
        self._laptop.forwards = self._cable.beside is None and adapters.forwards(self._cable.adapter)
        return why

    def write(self, entry: Entry, at: datetime) -> None:
        """Keep what concerns the device; what the laptop borrows for a command is no part of a visit."""
        if not isinstance(entry, Borrowed | GaveBack):
            self._begins()
            self._record.write(entry, at)

    def keep(self, unit: int, frames: Sequence[tuple[datetime, bytes]]) -> None:
        """Leave frames to the record of the visit."""


class ErrandRun:
    """Goes to one device, and as far with it as the errand wants."""

    def __init__(
        self, cable: Footing, errand: Errand, target: Target | None = None, record: Record | None = None, tag: str = ""
    ) -> None:
        """Begin.

        Args:
            cable: where the laptop stands.
            target: what it is to become, or has to be.
            record: where it is written down.
        """
        self.cable, self.errand, self.record = cable, errand, record or Record(None)
        mac, wire = errand.start.mac, cable.wire
        laptop = Laptop(cable.adapter, wire.mac, cable.own, beside=cable.beside)
        laptop.forwards = cable.beside is None and adapters.forwards(cable.adapter)
        self.session = Session(
            laptop=laptop,
            work=WorkItem(tag=tag or str(mac), target=target, mac=mac),
            unit=self.record.unit,
            link=wire.link(),
            now=wire.now(),
            xid=lambda: secrets.randbits(32),
            around=Surroundings(used={}, known={}),
        )
        self.session.cable.finder.on_drop = log.dropped
        self._streams = streams.Streams(cable, wire.wake)
        self._hands = _Hands(cable, self.record, laptop, self._begin_record)
        self._driver = driver.Driver(self.session, wire, self._hands, self._streams)
        self._door: IPv6Address | None = None
        """Where it is talked to over IPv6, once that was said."""
        self._is_recorded = False
        self.seen: Device | None = None
        """The device as it was heard before anything was set."""

    def begin(self) -> None:
        """Set out.

        Raises:
            MachineRefused: the link has gone since the adapter was taken.
        """
        keeper_client.require_link(self.cable.keeper)
        self.session.run_errand(self.errand, self.cable.wire.now())

    async def go_on(self, over: Callable[[], bool]) -> None:
        """Go on until something holds.

        Raises:
            Refused: it cannot go on.
            MachineRefused: the laptop would not.
        """
        session, wire = self.session, self.cable.wire
        while not over():
            wire.require_present()
            if isinstance(session.visit.trouble, errors.MachineRefused):
                raise session.visit.trouble
            if session.phase in _ENTER[self.errand.ends] and not session.visit.running:
                session.enter(wire.now())
                self._require_moving()
            elif session.phase in (Phase.PLUGGING, Phase.FINDING):  # whoever was named is not there
                raise self._lost()
            await self._driver.run(until=over, longest_until=wire.now() + _SLICE_S)
            self._hear()
        self._say_door()

    def _say_door(self) -> None:
        door = self.session.visit.door
        if door and door != self._door:
            self._door = door
            say(
                "It is reached at {door}, {where}; no IPv4 address is borrowed for that.",
                door=door,
                where=self.cable.where,
            )

    def _hear(self) -> None:
        heard = self.session.cable.finder.device(self.errand.start.mac)
        way = self.session.device.way
        if heard and (self.seen is None or heard.request) and not (way and way.done):
            self.seen = heard
        # From here on it may be told something, and a battery may be flat: what it was is on record before that.
        # A way that only looks for now may still hear what it asks for.
        looks = way is not None and way.only_looks and not (self.seen and self.seen.request)
        if self.seen and self.session.phase is Phase.SETTING and not looks:
            self._begin_record()

    def _require_moving(self) -> None:
        """See that Enter has done something.

        Raises:
            Refused: it did not; the message says why.
        """
        session = self.session
        visit, device = session.visit, session.device
        if visit.running or visit.effects:
            return
        if device.target_holder and device.target and session.phase is Phase.MAY_SET:
            at = device.target.interface.ip
            raise errors.Refused(
                "{at} is in use by {target_holder}: choose another final address.",
                at=at,
                target_holder=device.target_holder,
            )
        failed = [] if session.phase is Phase.MAY_PROVE else [each for each in visit.checks() if not each.passed]
        if failed:
            raise errors.Refused(failed[0].sentence)
        where = (
            phrase("beside {whereabouts}", whereabouts=device.whereabouts)
            if session.phase is Phase.MAY_BORROW
            else self._in_subnet
        )
        raise errors.Refused(
            "No free laptop address was found {where}: something answers for all of them.", where=where
        )

    @property
    def _in_subnet(self) -> str:
        target = self.session.device.target
        return phrase("in {network}", network=target.interface.network) if target else "there"

    def _lost(self) -> errors.AskPortError:
        if self.errand.start.door:
            mac = self.errand.start.mac
            return errors.Refused(
                "{mac} shows no IPv6 address here: leave --over-ipv6 out, and reach it by its IPv4 address.", mac=mac
            )
        return self.session.visit.trouble or errors.Refused("{mac} is not there.", mac=self.errand.start.mac)

    @contextlib.contextmanager
    def keeping(self) -> Iterator[None]:
        """Keep in the job what was told and shown, also where it is cut short: the device may have taken it."""
        try:
            yield
        except BaseException:
            self.session.visit.drop()
            self._write_down(only_news=True)
            raise
        self._write_down()

    def _write_down(self, *, only_news: bool = False) -> None:
        wire = self.cable.wire
        for effect in self.session.poll():
            if isinstance(effect, machine.WriteEntry):
                self._hands.write(effect.entry, wire.wall(wire.now()))
        if not only_news:
            self._begin_record()

    def _begin_record(self) -> None:
        """Write down that it is on the cable, as it was found; once."""
        if self._is_recorded:
            return
        self._is_recorded = True
        wire, visit = self.cable.wire, self.session.visit
        proves = self.errand.ends is Step.PROVE
        named_at = self.errand.start.old if visit.reached_from and not proves else None  # only where it answered there
        mac = self.errand.start.mac
        heard = self.session.cable.finder.device(mac) if proves else self.seen
        self.record.visit(mac, heard, wire.wall, wire.now(), named_at=named_at)

    async def flush(self) -> None:
        """Carry out what is still to be done, and close what was opened."""
        self.session.handle_timer(self.cable.wire.now())
        await self._driver.run(until=lambda: True)
        self._streams.close_channels()

    async def reach(self) -> Start:
        """Go as far as talking to it, and return with what: where it is, from where, or over which serial line.

        Raises:
            Refused: it is not there, or no laptop address is free.
            MachineRefused: the laptop would not.
        """
        self.begin()
        await self.go_on(lambda: self.session.phase.step is Step.SET)
        start = self.session.visit.start(self.cable.wire.now())
        if start is None:
            raise ValueError(phrase("it was named"))
        return start
