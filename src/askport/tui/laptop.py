"""What the screen sees of the laptop itself: its adapters and routes, and doors to the device."""

import asyncio
from ipaddress import IPv4Address

from askport.core.errors import AskPortError
from askport.core.finding.hazards import Hazard
from askport.core.proofs.answering import PortOpens
from askport.core.reach.adapters import cable_hazards
from askport.core.session import Session
from askport.edges.adapters import list_adapters, way_to
from askport.edges.door import FIREWALL, Door, FarEnd, is_dropped

_PAGES = (80, 443)


def door_target(session: Session) -> IPv4Address | None:
    """Return where a door would lead: the device's address, while the laptop can talk to it."""
    present = session.present_address
    return present[0] if present and session.laptop_for(present[0]) else None


def _opened(session: Session) -> list[int]:
    """Return the ports that opened to a bare question on the device as found."""
    return [each.port for each in session.greeting if isinstance(each, PortOpens) and each.passed]


class LaptopWatch:
    """Looks at the laptop for the work on one cable, and keeps the doors that were opened."""

    def __init__(self) -> None:
        self._dropped: dict[FarEnd, bool] = {}
        self._doors: dict[FarEnd, Door] = {}

    async def look(self, session: Session) -> None:
        """Tell the session what is dangerous about the laptop now."""
        present = session.present_address
        device = present[0] if present else None
        try:
            # In threads of their own, because the netlink library brings its own event loop.
            adapters = await asyncio.to_thread(list_adapters)
            way_out = await asyncio.to_thread(way_to, device) if device else None
        except AskPortError:
            return  # the kernel did not tell this time; what was known stays
        hazards = cable_hazards(
            adapters, session.adapter, borrowed=list(session.borrowed), device=device, way_out=way_out
        )
        session.laptop_hazards = [*hazards, *await self._firewall(session)]

    async def _firewall(self, session: Session) -> list[Hazard]:
        """See whether what opens to a bare question opens to the laptop's own programs too; asked once a device."""
        target, opened = door_target(session), _opened(session)
        if target is None or not opened:
            return []
        far = FarEnd(target, opened[0])
        if far not in self._dropped:
            self._dropped[far] = await is_dropped(session.adapter, far)
        text = FIREWALL.format(far=far, adapter=session.adapter)
        return [Hazard(code="firewall", text=text, address=target)] if self._dropped[far] else []

    async def door(self, session: Session) -> Door | None:
        """Return a door to the device's page, or None while the laptop cannot talk to it.

        Raises:
            MachineRefused: no loopback port is to be had.
        """
        target, opened = door_target(session), _opened(session)
        if target is None:
            return None
        far = FarEnd(target, next((each for each in (*_PAGES, *opened) if each in opened), _PAGES[0]))
        if far not in self._doors:
            door = Door(session.adapter, far)
            await door.open()
            self._doors[far] = door
        return self._doors[far]
