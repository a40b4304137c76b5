"""Access for the laptop: choosing an address, asking whether it is free, borrowing it, naming another."""

from collections.abc import Iterable
from ipaddress import IPv4Address, IPv4Interface
from itertools import islice

from askport.core import addresses, machine
from askport.core.errors import AskPortError, BadInput, Refused
from askport.core.phrases import phrase
from askport.core.reach import free_address, whom_it_answers
from askport.core.visit import steps, transitions
from askport.core.visit.visit import Visit

_FREE_FOR_S = 10.0
"""How long an address counts as free after nobody answered for it; a device may have started since."""
_SITE_CANDIDATES = 32
"""As many as are ever asked for (see reach.free_address)."""


class Access:
    """Gets the laptop an address from which it can talk, without taking anybody's."""

    def __init__(self, visit: Visit) -> None:
        self._visit = visit

    def look_beside(self, address: IPv4Address, prefix: int | None, now: float) -> None:
        """Look for a free laptop address beside a device."""
        around = self._visit.cable.around
        candidates = (each for each in free_address.near(address, prefix, self._avoid()) if not around.in_pool(each))
        self._visit.free_address = None
        over_ipv6 = self._visit.ask_over_ipv6(now)
        self._visit.go(transitions.Event.OUT_OF_REACH, self._asking(candidates, now), *over_ipv6)

    def within_target(self, now: float) -> machine.Machine | None:
        """Return what looks for a laptop address in the target's subnet, or None where the laptop has one."""
        target = self._visit.device.target
        if target is None or self._visit.laptop_within:
            return None
        return self._asking(self.site_candidates(target.interface), now)

    def site_candidates(self, target: IPv4Interface) -> list[IPv4Interface]:
        """Return laptop addresses in the target's subnet, outside the pool and away from the plan."""
        around = self._visit.cable.around
        free = (each for each in free_address.from_the_top(target.network, self._avoid()) if not around.in_pool(each))
        return list(islice(free, _SITE_CANDIDATES))

    def _asking(self, candidates: Iterable[IPv4Interface], now: float) -> free_address.FreeAddressSearch:
        return free_address.FreeAddressSearch(self._visit.cable.laptop.mac, self._in_turn(candidates), now=now)

    def _in_turn(self, candidates: Iterable[IPv4Interface]) -> list[IPv4Interface]:
        """Return candidates in another order for each place, so that those side by side do not all want the same."""
        place = self._visit.cable.laptop.place
        first = list(islice(candidates, place + _SITE_CANDIDATES))
        return first[place:] + first[:place]

    def _avoid(self) -> set[IPv4Address]:
        target = self._visit.device.target
        planned = {target.interface.ip, *target.dns, *filter(None, (target.gateway,))} if target else set()
        return self._visit.cable.somebodys() | planned

    def take_free(self, offer: IPv4Interface | None, now: float) -> None:
        """Take in which address nobody answered for just now."""
        self._visit.free_address, self._visit.free_since = offer, now

    def borrow(self, event: transitions.Event, now: float) -> None:
        """Borrow what is offered, after asking again where the last time was too long ago to count."""
        visit = self._visit
        if visit.free_address is None:
            return
        if now - visit.free_since > _FREE_FOR_S:
            visit.go(event, self._asking([visit.free_address], now))
        else:
            visit.go(event)
            visit.effects.append(self._borrowing(visit.free_address))

    def borrow_on_adapter(self, interface: IPv4Interface) -> None:
        """Borrow on the adapter what is borrowed beside it: the device answers there only."""
        visit, laptop = self._visit, self._visit.cable.laptop
        laptop.give_all_back()
        laptop.go_on_adapter(whom_it_answers.answers_adapter_only(laptop.adapter))
        visit.go(transitions.Event.GOES_ON_ADAPTER)
        visit.effects.append(machine.Borrow(interface, on_adapter=True))

    def show_one_mac(self) -> None:
        """Borrow on the adapter from now on: the port goes down at a second MAC address."""
        laptop = self._visit.cable.laptop
        laptop.go_on_adapter(
            phrase(
                "The link of {adapter} goes down each time a second MAC address is shown: it goes on with one.",
                adapter=laptop.adapter,
            )
        )
        self._visit.effects.append(machine.GiveBack())

    def asked_again(self, choosing: free_address.FreeAddressSearch, now: float) -> bool:
        """Borrow what is free still; else say so, and return that another address has to be looked for."""
        visit = self._visit
        self.take_free(choosing.chosen, now)
        if choosing.chosen:
            visit.effects.append(self._borrowing(choosing.chosen))
            return False
        visit.go(transitions.Event.NOT_BORROWED)
        if len(choosing.taken) == 1:
            ((address, holder),) = choosing.taken.items()
            visit.trouble = Refused(
                "{address} has been taken by {holder} meanwhile: another address is looked for.",
                address=address,
                holder=holder,
            )
        return True

    def _borrowing(self, interface: IPv4Interface) -> machine.Borrow:
        return machine.Borrow(interface, on_adapter=not self._visit.cable.laptop.is_beside)

    def refused(self, error: AskPortError) -> None:
        """Take in that the adapter could not be given the address."""
        self._visit.trouble = error
        self._visit.go(transitions.Event.NOT_BORROWED)

    def name_other(self, text: str, now: float) -> None:
        """Have the laptop take another address than the one offered, after the same question whether it is free.

        Raises:
            BadInput: it is no address, or one that cannot be the laptop's here.
        """
        visit, interface = self._visit, addresses.parse_interface(text, phrase("laptop address"))
        device, target = visit.device.whereabouts, visit.device.target
        if device == interface.ip:
            raise BadInput("{ip} is the device's own address: choose another for the laptop.", ip=interface.ip)
        if visit.phase is steps.Phase.MAY_BORROW and device and device not in interface.network:
            raise BadInput(
                "{interface} does not reach {device}: its subnet is {network}.",
                interface=interface,
                device=device,
                network=interface.network,
            )
        if visit.cable.around.in_pool(interface):
            raise BadInput(
                "{ip} lies in the site's DHCP pool: the server may give it to somebody else.", ip=interface.ip
            )
        if interface.ip in self._avoid():
            raise BadInput("{ip} is taken, heard or planned: choose another for the laptop.", ip=interface.ip)
        if visit.phase is steps.Phase.MAY_BORROW:
            visit.free_address = None
            visit.go(transitions.Event.OUT_OF_REACH, self._asking([interface], now))
        elif target and visit.phase in (steps.Phase.MAY_SET, steps.Phase.MAY_PROVE):
            if target.interface.ip not in interface.network:
                raise BadInput(
                    "{interface} does not reach {target_interface}: give one in its subnet.",
                    interface=interface,
                    target_interface=target.interface,
                )
            self.take_free(interface, float("-inf"))  # it is asked for before it is borrowed
