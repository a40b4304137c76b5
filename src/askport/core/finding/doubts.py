"""What speaks against an address that a device has shown: its own later words, those of others, silence when asked."""

from collections.abc import Collection, Iterator
from dataclasses import dataclass, field
from ipaddress import IPv4Address, IPv4Interface
from itertools import combinations

from askport.core.addresses import LINK_LOCAL, MacAddress, common_prefix, host_fault
from askport.core.phrases import phrase

WIDEST_PREFIX = 8
"""No IPv4 subnet is wider than the widest private range (RFC 1918)."""
SAME_QUESTION_S = 2.0
"""Answers of several devices within this time may be to one and the same question: all of them hold the address."""
MANY = 3
"""From so many addresses of one MAC address on, others are likely to speak through it: a wireless bridge, a proxy."""
LATELY_S = 60.0
"""Within this time many addresses are those of several hosts; a device that is set anew has one after the other."""
_NEIGHBOURS = 16
"""Addresses that share so many leading bits may lie in one subnet: a device with two has them in two."""
GIVEN_UP_AFTER = 2
"""Rounds of unanswered questions after which an address counts as left."""


@dataclass(slots=True)
class Shown:
    """When a device has shown that it holds one address, in the wire's time."""

    first_at: float
    last_at: float
    began_at: float = float("-inf")
    """When it last announced that it has just taken it."""
    spoke: bool = False
    """Whether it said so by itself, and did not only answer."""
    answered: bool = False
    asked_others: bool = False
    """Whether it asked for others by ARP from there."""
    only_announced: bool = True
    """Whether it did nothing else than announce it."""


@dataclass(frozen=True, slots=True)
class Rival:
    """Another MAC address that has shown the same address."""

    mac: MacAddress
    at: float
    by_answer: bool
    only_announced: bool = False
    """Whether that other one did nothing else than announce it."""


@dataclass(frozen=True, slots=True)
class _Summary:
    """What one device has shown, added up."""

    only_answered: list[IPv4Address]
    spoken: list[IPv4Address]
    mixed: list[IPv4Address]
    """Those of ``spoken`` that it speaks from by turns with a neighbour of theirs."""
    taken: list[tuple[float, IPv4Address]]
    """The last two addresses that it took by itself, and when, the latest first."""


@dataclass(slots=True)
class Holdings:
    """Which addresses one device has shown, and what was learned about each."""

    ours: Collection[IPv4Address] = ()
    """The laptop's addresses."""
    shown: dict[IPv4Address, Shown] = field(default_factory=dict)
    checked: set[IPv4Address] = field(default_factory=set)
    """Those whose answers were checked: it does not answer for their neighbours."""
    left: set[IPv4Address] = field(default_factory=set)
    """Those that it was seen to move away from."""
    unanswered: dict[IPv4Address, int] = field(default_factory=dict)
    """How many rounds of questions for an address were not answered since it was last shown."""
    rivals: dict[IPv4Address, Rival] = field(default_factory=dict)
    claim: tuple[IPv4Address, float] | None = None
    """The address that it last asked for in order to take it, and when."""
    _summary: "_Summary | None" = None

    def show(
        self, address: IPv4Address, at: float, *, by_answer: bool, begins: bool, asks_others: bool = False
    ) -> None:
        """Take in that it has shown an address: by an answer, or by itself, and then perhaps as just taken."""
        shown = self.shown.setdefault(address, Shown(at, at))
        shown.last_at = max(shown.last_at, at)
        shown.spoke |= not by_answer
        shown.answered |= by_answer
        shown.asked_others |= asks_others
        shown.only_announced &= begins
        if begins:
            shown.began_at = at
        self.unanswered.pop(address, None)
        self.left.discard(address)
        self._summary = None

    def has_answered(self, address: IPv4Address) -> bool:
        """Whether it answered for this address, or asked others from it."""
        shown = self.shown.get(address)
        return shown is not None and (shown.answered or shown.asked_others)

    def leave(self, address: IPv4Address) -> None:
        """Take in that it was seen to move away from an address."""
        self.left.add(address)
        self._summary = None

    def _add_up(self) -> "_Summary":
        """Add up what was shown, once for each change."""
        if self._summary is None:
            latest = max((each.last_at for each in self.shown.values()), default=0.0)
            here = [(address, each) for address, each in self.shown.items() if address not in self.left]
            spoken = {
                address: each
                for address, each in here
                if each.spoke and latest - each.last_at < LATELY_S and address not in LINK_LOCAL
            }
            pairs = [pair for pair in combinations(spoken, 2) if self._by_turns(*pair)] if len(spoken) < MANY else []
            self._summary = _Summary(
                only_answered=[address for address, each in here if not each.spoke],
                spoken=list(spoken),
                mixed=list(spoken) if len(spoken) >= MANY else [each for pair in pairs for each in pair],
                taken=sorted(
                    (
                        (max(each.first_at, each.began_at), address)
                        for address, each in self.shown.items()
                        if each.spoke
                    ),
                    reverse=True,
                )[:2],
            )
        return self._summary

    @property
    def only_answered(self) -> list[IPv4Address]:
        """The addresses that it answered for, and neither spoke from nor has left."""
        return self._add_up().only_answered

    @property
    def answers_for_others(self) -> bool:
        """Whether it answers for more than it ever spoke from: they may be those of others behind it."""
        return len(self.only_answered) > 1

    def _by_turns(self, one: IPv4Address, other: IPv4Address) -> bool:
        """Whether two neighbours speak by turns through one MAC address; one that was set anew speaks from one only."""
        first, second = self.shown[one], self.shown[other]
        overlap = max(first.first_at, second.first_at) < min(first.last_at, second.last_at)
        return overlap and common_prefix(one, other) >= _NEIGHBOURS

    def speaks_elsewhere(self, address: IPv4Address) -> IPv4Address | None:
        """Return another address that it speaks from by itself and has not left, where it never spoke from this one."""
        shown = self.shown.get(address)
        if shown is not None and shown.spoke:
            return None
        return next((each for each in self.spoken if each != address), None)

    @property
    def mixed(self) -> list[IPv4Address]:
        """The addresses that may be those of several hosts behind it: many, or neighbours that speak by turns."""
        return self._add_up().mixed

    @property
    def spoken(self) -> list[IPv4Address]:
        """The addresses that it has spoken from lately, link-local ones and those that it has left aside."""
        return self._add_up().spoken

    def doubts(self, address: IPv4Address, prefix: int | None, longest: int) -> Iterator[str]:
        """Yield what speaks against an address, as sentences; with any of them it is not certain.

        Args:
            prefix: its prefix length, where it is known.
            longest: the longest prefix length that fits what was heard.
        """
        shown = self.shown.get(address)
        if address in self.ours:
            yield phrase("The laptop itself has this address.")
        if fault := _fault(address, prefix, longest):
            yield fault
        if shown is None:
            if self.unanswered.get(address, 0) >= GIVEN_UP_AFTER:
                yield phrase("It does not answer when it is asked for this address.")
            return
        if address in self.left:
            yield phrase("It has left this address.")
        elif later := self._later(address, shown):
            yield phrase("Since then it has shown {later}, and not this one.", later=later)
        if rival := self._rival(address, shown):
            yield phrase("Since then {rival} has shown that it holds this address.", rival=rival)
        elif shown.only_announced and (other := self.rivals.get(address)) and not other.only_announced:
            yield phrase("It only announced this address, and {mac} has shown it too.", mac=other.mac)
        if self.unanswered.get(address, 0) >= GIVEN_UP_AFTER:
            yield phrase("It no longer answers when it is asked for this address.")
        if address in self.mixed:
            yield phrase(
                "It speaks from {count} addresses: they may be those of others behind it.", count=len(self.mixed)
            )

    def _later(self, address: IPv4Address, shown: Shown) -> IPv4Address | None:
        """Return an address that it has taken since it last showed this one, or tried to take."""
        taken = [(at, other) for at, other in self._add_up().taken if other != address and at > shown.last_at]
        if self.claim and self.claim[0] != address and self.claim[1] > shown.last_at:
            taken.append((self.claim[1], self.claim[0]))
        return max(taken)[1] if taken else None

    def _rival(self, address: IPv4Address, shown: Shown) -> MacAddress | None:
        rival = self.rivals.get(address)
        if rival is None or rival.at <= shown.last_at:
            return None
        # Twins answer one question both, and each of them holds the address.
        at_once = rival.by_answer and shown.answered and rival.at - shown.last_at < SAME_QUESTION_S
        return None if at_once else rival.mac


def _fault(address: IPv4Address, prefix: int | None, longest: int) -> str | None:
    """Say why it may be an address that no host of its subnet can have, or return None."""
    if prefix is not None:
        fault = host_fault(IPv4Interface((address, prefix)))
        return phrase("No host can have it: {fault}.", fault=fault) if fault else None
    if int(address) & 0xFF in (0, 255) and any(
        host_fault(IPv4Interface((address, each))) for each in range(WIDEST_PREFIX, min(longest, 30) + 1)
    ):
        return phrase("Whether a host can have this address depends on its mask, which is not known.")
    return None
