"""A device whose address is known is asked once more, from beside it: without a gateway it can answer nobody else.

The questions go to it alone, from an address of its subnet that nobody has; it is told a stand-in for that address's
MAC address, where it asks for one.
"""

from collections.abc import Callable, Collection
from dataclasses import dataclass
from ipaddress import IPv4Address

from askport.core import machine, wire
from askport.core.addresses import LINK_LOCAL, MacAddress, host_fault_of
from askport.core.finding.greeting import ask_for_numbers
from askport.core.finding.questioning import sources_sharing, stand_in_answer
from askport.core.formats.arp import Arp, Op, arp_question
from askport.core.formats.packet import Ends

_ASK_FIRST_S = 0.15
"""How long anybody may take to say that the address is theirs."""
_ANSWERS_S = 4.0
"""How long it may ask who the asking address is."""
_BESIDE = 29
"""Leading bits that are shared: such an address is inside of nearly every subnet."""
MAX_ASKED = 64


@dataclass(slots=True)
class _Round:
    mac: MacAddress
    address: IPv4Address
    source: IPv4Address
    ask_at: float
    asked: bool = False


class AskingBeside(machine.Machine):
    """Asks each device once, at each of its addresses."""

    def __init__(
        self, laptop_mac: MacAddress, asked_from: set[IPv4Address], avoid: Callable[[], Collection[IPv4Address]]
    ) -> None:
        """Begin with nobody.

        Args:
            asked_from: where the asking addresses are put, so that whoever looks for them was made to.
        """
        super().__init__()
        self._laptop_mac, self._asked_from, self._avoid = laptop_mac, asked_from, avoid
        self._known: set[tuple[MacAddress, IPv4Address]] = set()
        self._rounds: list[_Round] = []

    def about(self, mac: MacAddress, address: IPv4Address, now: float) -> None:
        """Ask a device from now on, unless it was asked."""
        if (mac, address) in self._known or address in LINK_LOCAL or len(self._known) >= MAX_ASKED:
            return
        self._known.add((mac, address))
        sources = sources_sharing(address, _BESIDE, int(address))
        avoid = {*self._avoid(), *self._asked_from, *(each.source for each in self._rounds)}
        source = next((each for each in sources if each not in avoid and not host_fault_of(each)), None)
        if source:
            self._send(arp_question(self._laptop_mac, source))
            self._rounds.append(_Round(mac, address, source, now + _ASK_FIRST_S))

    def receive(self, heard: wire.Heard) -> None:
        """Answer where it asks who asks; leave off where somebody has that address."""
        arp = heard.packet.get(Arp)
        if arp is None:
            return
        for each in list(self._rounds):
            if arp.op == Op.REPLY and arp.spa == each.source:
                self._rounds.remove(each)
            elif each.asked and arp.op == Op.REQUEST and (arp.sha, arp.tpa) == (each.mac, each.source):
                self._send(stand_in_answer(arp, self._laptop_mac))

    def handle_timer(self, now: float) -> None:
        for each in list(self._rounds):
            if not each.asked and now >= each.ask_at:
                each.asked = True
                self._asked_from.add(each.source)
                ends = Ends(src_mac=self._laptop_mac, src=each.source, dst_mac=each.mac, dst=each.address)
                for frame in ask_for_numbers(ends, now)[1:]:  # the first needs no address, and was asked of everybody
                    self._send(frame)
            elif now >= each.ask_at + _ANSWERS_S:
                self._rounds.remove(each)

    def next_deadline(self) -> float | None:
        return machine.earliest(*(each.ask_at + (_ANSWERS_S if each.asked else 0.0) for each in self._rounds))
