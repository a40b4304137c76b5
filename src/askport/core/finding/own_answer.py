"""An answer that a device can only give itself: seen at its new address at once, and not after a check.

While it is still where it was, it is asked for neighbours of the address that it is to get: one that answers for others
is found out beforehand. When it then answers for that address, an echo goes there that no router passes on (time to
live 1, RFC 791 section 3.2): whoever answers that has the address.
"""

from collections.abc import Collection
from ipaddress import IPv4Address
from itertools import islice

from askport.core import machine, wire
from askport.core.addresses import BROADCAST_MAC, MacAddress
from askport.core.finding.checking import is_answer_to, neighbours
from askport.core.formats.arp import Arp, Op, arp_question
from askport.core.formats.ethernet import Ethernet
from askport.core.formats.icmp import Icmp, IcmpType
from askport.core.formats.packet import STAYS_ON_LINK, Ends, ends_of, frame_between

_ROUNDS = 2
"""How often it must have stayed silent about the neighbours while it answered for itself."""
_SILENT_S = 1.5
"""And for how long: boxes that answer for others wait up to 0.8 s before they do."""
_IDENTIFIER = 0x4157
_ECHO_EVERY_S = 0.2


class OwnAnswer(machine.Machine):
    """Watches one device that is to come to one address."""

    def __init__(
        self, laptop_mac: MacAddress, mac: MacAddress, meant: IPv4Address, ours: Collection[IPv4Address]
    ) -> None:
        super().__init__()
        self._laptop_mac, self._mac, self._meant, self._ours = laptop_mac, mac, meant, set(ours)
        self._sender = next(iter(ours))
        self._neighbours = tuple(islice(neighbours(meant, self._ours, 0), 2))
        self._rounds = self._asks = 0
        self._waits_for_itself = self._answers_for_others = False
        self._since, self._echo_at = float("inf"), float("-inf")

    def forget(self) -> None:
        """Believe nothing any more: it may be another, or have started anew."""
        self._rounds, self._waits_for_itself, self._since = 0, False, float("inf")

    def ask(self, now: float) -> None:
        """Ask for the neighbours, straight and of everybody by turns."""
        self._since = min(self._since, now)
        to = BROADCAST_MAC if self._asks % 2 else self._mac
        self._asks += 1
        self._waits_for_itself = True
        for each in self._neighbours:
            self._send(to + arp_question(self._laptop_mac, each, sender=self._sender)[6:])

    def shows(self, heard: wire.Heard, was: IPv4Address | None) -> bool:
        """Whether this frame shows that it holds the address; ``was`` is where it is before."""
        ethernet, arp, icmp = heard.packet.get(Ethernet), heard.packet.get(Arp), heard.packet.get(Icmp)
        if ethernet is None or ethernet.src != self._mac or self._answers_for_others:
            return False
        if arp and arp.op == Op.REPLY:
            self._take(arp, was, heard.at)
        if icmp is None or icmp.type != IcmpType.ECHO_REPLY or icmp.identifier != _IDENTIFIER:
            return False
        return self._is_trusted(heard.at) and ends_of(heard.packet) == self._ends.back

    @property
    def _ends(self) -> Ends:
        return Ends(src_mac=self._laptop_mac, src=self._sender, dst_mac=self._mac, dst=self._meant)

    def _take(self, arp: Arp, was: IPv4Address | None, now: float) -> None:
        if arp.spa in self._neighbours:
            self._answers_for_others = True
        elif arp.spa == was and self._waits_for_itself:
            self._rounds, self._waits_for_itself = self._rounds + 1, False
        elif arp.spa != self._meant or now < self._echo_at or not self._is_trusted(now):
            return
        elif is_answer_to(arp, self._laptop_mac, self._ours):
            self._echo_at = now + _ECHO_EVERY_S
            echo = Icmp(type=IcmpType.ECHO, identifier=_IDENTIFIER, sequence_number=self._asks & 0xFFFF)
            self._send(frame_between(self._ends, echo, STAYS_ON_LINK))

    def _is_trusted(self, now: float) -> bool:
        """Whether it has stayed silent about the neighbours for long enough, while it was there."""
        return self._rounds >= _ROUNDS and now >= self._since + _SILENT_S
