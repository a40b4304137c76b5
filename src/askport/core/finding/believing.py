"""Which ARP answers are believed: each is checked, and again for as long as it is asked."""

from collections.abc import Callable, Iterable, Iterator, Mapping, Set
from ipaddress import IPv4Address
from itertools import islice

from askport.core import machine, wire
from askport.core.addresses import MacAddress
from askport.core.finding import checking, clues, doubts
from askport.core.finding.beliefs import Gathered
from askport.core.formats.arp import Arp, arp_question

MAX_CHECKS = 32
"""Answers checked at a time: each sends six frames, and more devices than that are no cable to one device."""
MAX_LIKELY = 64
"""Addresses asked for because a device is likely to hold them: a router's are endless, and a few tell as much."""
_LIKELY_AT_S = (0.0, 1.0, 2.0, 3.5)
"""When such an address is asked for; the last is when it has had its time."""
_AGAIN_S = 4.0
"""How long a checked answer is believed before it is checked again; a proxy may start at any time."""

_STILL_EVERY_S, _STILL_WAITS_S = 5.0, 2.0
"""How long a device may say nothing from an address before it is asked for, and how long an answer may take."""

_Key = tuple[MacAddress, IPv4Address]


class AnswerChecks(machine.Machine):
    """Checks the answers to the laptop's questions, and writes down what that comes to with what was gathered."""

    def __init__(self, laptop_mac: MacAddress, ours: Set[IPv4Address], gathered: Mapping[MacAddress, Gathered]) -> None:
        """Begin with nothing to check.

        Args:
            ours: the laptop's addresses, kept up to date by their owner.
            gathered: what is known of each device, kept by its owner.
        """
        super().__init__()
        self.laptop_mac, self._ours, self._gathered = laptop_mac, ours, gathered
        self._running: dict[_Key, checking.Check] = {}
        self._again: dict[_Key, tuple[float, IPv4Address]] = {}
        """When a checked answer is checked again, and from which sender."""
        self._turn = 0

    @property
    def done(self) -> bool:
        """Whether no check is under way, those again aside."""
        return all(check.is_again for check in self._running.values())

    def clear(self) -> None:
        """Check nothing any more."""
        self._running.clear()
        self._again.clear()

    def forget(self, mac: MacAddress) -> None:
        """Check nothing of this device any more."""
        self._running = {key: check for key, check in self._running.items() if key[0] != mac}
        self._again = {key: due for key, due in self._again.items() if key[0] != mac}

    def is_idle(self, clue: clues.Clue, gathered: Gathered) -> bool:
        """Whether an answer says nothing: it is for nobody's address, or from one that answers for all."""
        if clue.kind is not clues.ClueKind.ANSWERS:
            return False
        return self._is_asked_of(clue.mac, clue.address) or (gathered.answers_for_all and clue not in gathered.tallies)

    def _is_asked_of(self, mac: MacAddress, address: IPv4Address | None) -> bool:
        return any(address in check.asks_for for key, check in self._running.items() if key[0] == mac)

    def answered(self, address: IPv4Address, gathered: Gathered, heard: wire.Heard, took_s: float | None) -> None:
        """Have an answer checked, unless it was or cannot be; ``took_s`` is how long it took, where that is known."""
        arp, key = heard.packet.get(Arp), (gathered.mac, address)
        if arp is None or gathered.answers_for_all or key in self._running or key in self._again:
            return  # it is checked again when that is due
        if len(self._running) >= MAX_CHECKS or self._is_asked_of(gathered.mac, address):
            return
        if checking.is_answer_to(arp, self.laptop_mac, self._ours):
            self._begin(key, arp.tpa, heard.at, took_s=took_s)

    def _begin(
        self, key: _Key, sender: IPv4Address, now: float, *, took_s: float | None = None, again: bool = False
    ) -> None:
        self._turn += 1
        avoid = set(self._ours).union(*(each.holdings.shown for each in self._gathered.values()))
        self._running[key] = checking.Check(
            self.laptop_mac, *key, sender=sender, now=now, took_s=took_s, avoid=avoid, turn=self._turn, again=again
        )

    def receive(self, heard: wire.Heard) -> None:
        for check in self._running.values():
            check.receive(heard)

    def handle_timer(self, now: float) -> None:
        """Ask on, take in what checks have come to, and check again what is due."""
        for key, check in list(self._running.items()):
            check.handle_timer(now)
            if check.done:
                self._effects += check.poll()
                del self._running[key]
                self._conclude(key, check, now)
        for key, (at, sender) in list(self._again.items()):
            if now >= at and len(self._running) < MAX_CHECKS:
                del self._again[key]
                if key[0] in self._gathered and not self._gathered[key[0]].answers_for_all:
                    self._begin(key, sender, now, again=True)

    def _conclude(self, key: _Key, check: checking.Check, now: float) -> None:
        gathered, address = self._gathered.get(check.mac), check.address
        if gathered is None:
            return
        gathered.revision += 1
        if check.answers_for_others:
            gathered.answers_for_all = True
            return
        if check.still_answers:
            gathered.holdings.checked.add(address)
        else:
            gathered.holdings.unanswered[address] = gathered.holdings.unanswered.get(address, 0) + 1
        if len(self._again) < MAX_CHECKS:
            self._again[key] = now + _AGAIN_S, check.sender

    @property
    def children(self) -> Iterable[machine.Machine]:
        return self._running.values()

    def next_deadline(self) -> float | None:
        again = (at for at, _ in self._again.values()) if len(self._running) < MAX_CHECKS else ()
        return machine.earliest(*again, *(check.next_deadline() for check in self._running.values()))


class LikelyAsks(machine.Machine):
    """Asks by ARP for addresses that a device is likely to hold; one that it does not answer for is somebody else's."""

    def __init__(self, laptop_mac: MacAddress) -> None:
        super().__init__()
        self._laptop_mac = laptop_mac
        self._known: set[_Key] = set()
        self._running: dict[_Key, tuple[Gathered, float, int]] = {}
        """When each began to be asked for, and how often it was."""

    @property
    def done(self) -> bool:
        """Whether every address was asked for and had its time."""
        return not self._running

    def clear(self) -> None:
        """Ask for nothing any more; what was not finished may be asked for again."""
        self._known -= self._running.keys()
        self._running.clear()

    def about(self, mac: MacAddress, address: IPv4Address, gathered: Gathered, now: float, *, allowed: bool) -> None:
        """Ask for an address from now on, once, where asking is allowed and it was not shown yet."""
        key = (mac, address)
        if (
            allowed
            and key not in self._known
            and not gathered.holdings.has_answered(address)
            and len(self._known) < MAX_LIKELY
        ):
            self._known.add(key)
            self._running[key] = gathered, now, 0

    def handle_timer(self, now: float) -> None:
        """Ask for what is due, and say what was not answered."""
        for key, (gathered, began_at, asked) in list(self._running.items()):
            if now < began_at + _LIKELY_AT_S[asked]:
                continue
            if asked + 1 < len(_LIKELY_AT_S) and not gathered.holdings.has_answered(key[1]):
                self._send(arp_question(self._laptop_mac, key[1]))
                self._running[key] = gathered, began_at, asked + 1
                continue
            del self._running[key]
            if not gathered.holdings.has_answered(key[1]):
                gathered.holdings.unanswered[key[1]] = doubts.GIVEN_UP_AFTER
                gathered.revision += 1

    def next_deadline(self) -> float | None:
        """Return when the next question is due, or its time is over."""
        return machine.earliest(*(began_at + _LIKELY_AT_S[asked] for _, began_at, asked in self._running.values()))


class StillHeld(machine.Machine):
    """Asks again for addresses that a device spoke from and says nothing from any more.

    What was certain decays: a boot loader has an address of its own for some seconds, and nobody answers there later.
    """

    def __init__(
        self, laptop_mac: MacAddress, gathered: Mapping[MacAddress, Gathered], allowed: Callable[[], bool], now: float
    ) -> None:
        """Begin with nothing to ask.

        Args:
            gathered: what is known of each device, kept by its owner.
            allowed: says whether anything may be asked now.
        """
        super().__init__()
        self._laptop_mac, self._gathered, self._allowed = laptop_mac, gathered, allowed
        self._asked: dict[_Key, float] = {}
        """When each was asked for that has not answered yet."""
        self._look_at = now

    def clear(self) -> None:
        """Wait for nothing that was asked."""
        self._asked.clear()

    def _silent(self, now: float) -> Iterator[tuple[Gathered, IPv4Address]]:
        for gathered in self._gathered.values():
            if gathered.is_present and not gathered.answers_for_all:
                for address in gathered.holdings.spoken:
                    if now - gathered.holdings.shown[address].last_at >= _STILL_EVERY_S:
                        yield gathered, address

    def handle_timer(self, now: float) -> None:
        """Ask for those that were silent for a while, and count who has not answered."""
        for key, at in list(self._asked.items()):
            gathered = self._gathered.get(key[0])
            shown = gathered.holdings.shown.get(key[1]) if gathered else None
            if gathered is None or shown is None or shown.last_at > at:
                del self._asked[key]
            elif now >= at + _STILL_WAITS_S:
                del self._asked[key]
                gathered.holdings.unanswered[key[1]] = gathered.holdings.unanswered.get(key[1], 0) + 1
                gathered.revision += 1
        if now < self._look_at or not self._allowed():
            return
        self._look_at = now + _STILL_EVERY_S
        for gathered, address in islice(self._silent(now), MAX_CHECKS):
            self._asked.setdefault((gathered.mac, address), now)
            self._send(arp_question(self._laptop_mac, address))

    def next_deadline(self) -> float | None:
        """Return when to ask next, or when a question has had its time."""
        if not self._gathered:
            return None
        look = self._look_at if self._allowed() else None
        return machine.earliest(look, *(at + _STILL_WAITS_S for at in self._asked.values()))
