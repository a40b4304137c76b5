"""What the screen sees of the laptop itself: its adapters and routes, and doors to the device."""

import asyncio
import time
from collections.abc import Callable
from ipaddress import IPv4Address, IPv6Address

from askport.core import addresses, channels, errors, hazard
from askport.core.phrases import phrase
from askport.core.visit.session import Session
from askport.edges.adapters import list_adapters, way_to
from askport.edges.door import FIREWALL, SECURE_PORTS, is_dropped
from askport.edges.learning_door import LearningDoor
from askport.edges.transports.tcp_socket import Sockets

_PAGES = (80, 443, 8080, 8443)


def door_target(session: Session) -> addresses.Address | None:
    """Return where a door would lead: the device's address while the laptop can talk to it, or its link-local one.

    That can be talked to from beside the adapter, with nothing borrowed.
    """
    visit = session.visit
    if (present := visit.present_address) and session.cable.laptop.reaching(present[0].ip):
        return present[0].ip
    device = session.device.chosen or session.cable.search.candidate
    return device.link_local if device and visit.shows_ipv6(device) else None


def page_port(session: Session) -> int | None:
    """Return the port of the device's page, or None where none is known to be there."""
    device = session.device.chosen
    told = [each.port for each in device.services if each.transport == "tcp"] if device else []
    return next((each for each in _PAGES if each in (*session.device.open_ports, *told)), None)


def page_at(session: Session) -> channels.TcpPort | None:
    """Return where its page is, or may be where only an IPv6 address of it is known; None for nowhere."""
    target, port, over = door_target(session), page_port(session), session.device.over_ipv6
    if isinstance(target, IPv6Address):  # once it was asked there, it is known what answers
        port = next((each for each in _PAGES if each in over.opened), None) if over else port or _PAGES[0]
    return channels.TcpPort(target, port) if target and port else None


def time_asleep() -> float:
    """Return for how long the computer has slept since it was started, in seconds (clock_gettime(2))."""
    return time.clock_gettime(time.CLOCK_BOOTTIME) - time.monotonic()


class LaptopWatch:
    """Looks at the laptop for the work on one cable, and keeps the doors that were opened."""

    def __init__(self, over: Sockets | None, asleep: Callable[[], float] = time_asleep) -> None:
        """Begin to look.

        Args:
            over: what gives sockets that go over the cable, or None on the practice bench.
            asleep: tells for how long the computer has slept since it was started, in seconds.
        """
        self._over = over
        self._asleep = asleep
        self._slept = asleep()
        self._dropped: dict[channels.TcpPort, bool] = {}
        self._doors: dict[tuple[int, int], LearningDoor] = {}
        """By the visit and the port that they lead to."""
        self._opening = asyncio.Lock()

    async def look(self, session: Session, now: float) -> None:
        """Tell the session how the laptop is now, ``now`` being the wire's time."""
        present = session.visit.present_address
        device = present[0].ip if present else None
        for (unit, port), door in self._doors.items():
            if unit == session.device.unit and device and session.cable.laptop.reaching(device):
                door.follow(channels.TcpPort(device, port))
        try:
            # In threads of their own, because the kernel may take its time.
            adapters = await asyncio.to_thread(list_adapters)
            way_out = await asyncio.to_thread(way_to, device) if device else None
        except errors.AskPortError:
            return  # the kernel did not tell this time; what was known stays
        slept_before, self._slept = self._slept, self._asleep()
        session.see_laptop(adapters, now=now, way_out=way_out, slept_s=self._slept - slept_before)
        session.cable.laptop.hazards += await self._firewall(session)

    async def _firewall(self, session: Session) -> list[hazard.Hazard]:
        """See whether what opens to a bare question opens to the laptop's own programs too; asked once a device."""
        target, opened = door_target(session), session.device.open_ports
        if not isinstance(target, IPv4Address) or not opened or self._over is None or session.cable.laptop.is_beside:
            return []
        far = channels.TcpPort(target, opened[0])
        if far not in self._dropped:
            self._dropped[far] = await is_dropped(self._over, far)
        text = phrase(FIREWALL, far=far, adapter=session.cable.laptop.adapter)
        return [hazard.Hazard(code="firewall", text=text, address=target)] if self._dropped[far] else []

    async def door(self, session: Session, now: Callable[[], float]) -> LearningDoor | None:
        """Return a door to the device's page, or None where it has none, or the laptop cannot talk to it.

        Raises:
            MachineRefused: no loopback port is to be had.
        """
        far = page_at(session)
        if far is None or self._over is None:
            return None
        port, key = far.port, (session.device.unit, far.port)
        async with self._opening:  # a second key comes while the first one's door opens
            if key not in self._doors:
                for old in [each for each in self._doors if each[0] != session.device.unit]:
                    await self._doors.pop(old).close()  # the device before has gone
                door = LearningDoor(self._over, far, secure=port in SECURE_PORTS, now=now)
                await door.open()
                self._doors[key] = door
            return self._doors[key]

    def opened(self, session: Session) -> LearningDoor | None:
        """Return the door to this device that stands open, or None."""
        return next((door for (unit, _), door in self._doors.items() if unit == session.device.unit), None)

    def passed(self, session: Session) -> LearningDoor | None:
        """Return the door through which something passed to this device, or None."""
        passed = (door for (unit, _), door in self._doors.items() if unit == session.device.unit and door.exchanges)
        return next(passed, None)
