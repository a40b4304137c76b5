"""Whether an ARP answer is worth believing: its sender is asked for neighbours of that address that nobody holds.

A box that answers for others (proxy ARP, RFC 1027) answers for those too. It may do so only for one range, only for
some senders of questions, late, or not every time: so the neighbours lie in the range, the sender is that of the
question which was answered, each is asked for several times, and slow answers are waited for.
"""

from collections.abc import Collection, Iterator
from ipaddress import IPv4Address
from zlib import crc32

from askport.core import machine, wire
from askport.core.addresses import BROADCAST_MAC, UNSPECIFIED, MacAddress, host_fault_of
from askport.core.finding.clues import SHOWS_HOLDING, SPEAKS_ARP, ClueKind
from askport.core.finding.readers import read_clues
from askport.core.formats.arp import Arp, Op, arp_question
from askport.core.formats.ethernet import Ethernet

_ASKS_AT_S = (0.0, 0.15, 0.3)
"""When each neighbour is asked for; a box that loses a tenth of its answers misses all six once in a million."""
_WAIT_S = 1.0
"""From the last question to believing: proxies wait a random time of up to 0.8 s before they answer a broadcast."""
_SLOWER = 3.0
"""A box that took its time for the first answer gets this many times as long for the others."""
_NEAR, _FAR = 2, 250
"""Neighbours are as near as this, in addresses, so that they lie in a range that is passed on, or in its subnet."""


def neighbours(address: IPv4Address, avoid: Collection[IPv4Address], turn: int) -> Iterator[IPv4Address]:
    """Yield addresses beside one, each once, in an order that no box can foresee by habit: near ones and far ones."""
    seed = crc32(address.packed + bytes((turn & 0xFF,)))
    base = int(address) & ~0xFF
    near = [int(address) + step for step in (-_NEAR, -1, 1, _NEAR) if (int(address) + step) & ~0xFF == base]
    far = [base + 1 + (seed // 7 + step * 37) % _FAR for step in range(16)]
    near = near[seed % len(near) :] + near[: seed % len(near)]
    for number in dict.fromkeys(each for pair in zip(near[:1] + far, far, strict=False) for each in pair):
        other = IPv4Address(number)
        if other != address and other not in avoid and not host_fault_of(other) and number & 0xFF not in (0, 255):
            yield other


class Check(machine.Machine):
    """Checks one answer of one MAC address."""

    def __init__(
        self,
        laptop_mac: MacAddress,
        mac: MacAddress,
        address: IPv4Address,
        *,
        sender: IPv4Address,
        now: float,
        took_s: float | None = None,
        avoid: Collection[IPv4Address] = (),
        turn: int = 0,
        again: bool = False,
    ) -> None:
        """Begin now.

        Args:
            sender: of the question that was answered; a proxy may answer only some.
            took_s: how long that answer took, in seconds, where it is known.
            avoid: addresses that somebody was heard at, or that are ours.
            turn: counts the checks of this MAC address, so that each asks for other neighbours.
            again: whether the address itself is asked for as well, to see that it is still answered.
        """
        super().__init__()
        self._laptop_mac, self.mac, self.address = laptop_mac, mac, address
        found = neighbours(address, avoid, turn)
        self._neighbours = tuple(each for each, _ in zip(found, range(2), strict=False))
        self._asked_for = (*self._neighbours, address) if again else self._neighbours
        self.sender, self.is_again = sender, again
        self._began_at, self._asks = now, 0
        self._wait_s = max(_WAIT_S, _SLOWER * (took_s or 0.0))
        self.answers_for_others: bool | None = None
        """Whether it answered for an address that is not its own; None while that is not known."""
        self.still_answers = not again

    @property
    def asks_for(self) -> tuple[IPv4Address, ...]:
        """The neighbours that it asks for: whoever answers for one holds nothing by that."""
        return self._neighbours

    @property
    def done(self) -> bool:
        return self.answers_for_others is not None

    def receive(self, heard: wire.Heard) -> None:
        arp, ethernet = heard.packet.get(Arp), heard.packet.get(Ethernet)
        if self.done or arp is None or ethernet is None or ethernet.src != self.mac or arp.op != Op.REPLY:
            return
        if arp.spa in self._neighbours:
            self.answers_for_others = True
        elif arp.spa == self.address:
            self.still_answers = True

    def link_changed(self, link: wire.Link, now: float) -> None:
        """Give up: who answers after this may be another."""
        self.answers_for_others = self.answers_for_others if self.done else True

    def next_deadline(self) -> float | None:
        if self.done:
            return None
        wait = _ASKS_AT_S[self._asks] if self._asks < len(_ASKS_AT_S) else _ASKS_AT_S[-1] + self._wait_s
        return self._began_at + wait

    def handle_timer(self, now: float) -> None:
        """Ask for the neighbours, straight and of everybody by turns; believe when nothing has come."""
        due = self.next_deadline()
        if due is None or now < due:
            return
        if self._asks == len(_ASKS_AT_S):
            self.answers_for_others = False
            return
        to = BROADCAST_MAC if self._asks % 2 else self.mac  # some wait before they answer a broadcast
        self._asks += 1
        for each in self._asked_for:
            question = arp_question(self._laptop_mac, each, sender=self.sender)
            self._send(to + question[6:])


def is_answer_to(arp: Arp, laptop_mac: MacAddress, ours: Collection[IPv4Address]) -> bool:
    """Whether this answers a question of the laptop, so that it can be checked by asking in the same way."""
    return arp.op == Op.REPLY and arp.tha == laptop_mac and (arp.tpa == UNSPECIFIED or arp.tpa in ours)


class Witness(machine.Machine):
    """Sees at which addresses one device shows itself: by ARP of its own at once, by an answer once it was checked."""

    def __init__(self, laptop_mac: MacAddress, mac: MacAddress, ours: Collection[IPv4Address]) -> None:
        """Watch one device."""
        super().__init__()
        self._laptop_mac, self.mac, self._ours = laptop_mac, mac, set(ours)
        self._checks: dict[IPv4Address, Check] = {}
        self._sure: set[IPv4Address] = set()
        self._turn = 0
        self.answers_for_others = False
        """Whether it answers for addresses that are not its own: none of its answers counts then."""

    def forget(self) -> None:
        """Believe nothing any more of what was shown up to now: the device may have started anew."""
        self._checks.clear()
        self._sure.clear()

    def shows(self, heard: wire.Heard) -> set[IPv4Address]:
        """Return the addresses that this frame shows it at for sure, and begin to check those that it answers for."""
        ethernet = heard.packet.get(Ethernet)
        if ethernet is None or ethernet.src != self.mac:
            return set()
        for check in self._checks.values():
            check.receive(heard)
        shown: set[IPv4Address] = set()
        for clue in read_clues(heard.packet):
            if clue.mac != self.mac or clue.kind not in SHOWS_HOLDING or not clue.address:
                continue
            if clue.kind is ClueKind.SENDS_ON_LINK:
                continue  # somebody behind it may have sent it
            if clue.kind in SPEAKS_ARP:
                shown.add(clue.address)
                self._sure.add(clue.address)
            elif clue.address in self._sure:
                shown.add(clue.address)
            else:
                self._begin(clue.address, heard)
        return shown - self._ours

    def _begin(self, address: IPv4Address, heard: wire.Heard) -> None:
        arp = heard.packet.get(Arp)
        if arp is None or self.answers_for_others or address in self._checks:
            return
        if is_answer_to(arp, self._laptop_mac, self._ours):
            self._turn += 1
            self._checks[address] = Check(
                self._laptop_mac, self.mac, address, sender=arp.tpa, now=heard.at, avoid=self._ours, turn=self._turn
            )

    def confirmed(self, now: float) -> set[IPv4Address]:
        """Let time pass; return the addresses whose checked answer has turned out to be worth believing now."""
        shown: set[IPv4Address] = set()
        for address, check in list(self._checks.items()):
            check.handle_timer(now)
            self._effects += check.poll()
            if check.done:
                del self._checks[address]
                self.answers_for_others |= bool(check.answers_for_others)
                if not check.answers_for_others:
                    shown.add(address)
        if self.answers_for_others:
            self._checks.clear()
            return set()
        self._sure |= shown
        return shown

    def next_deadline(self) -> float | None:
        return machine.earliest(*(each.next_deadline() for each in self._checks.values()))
