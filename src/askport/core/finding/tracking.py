"""Following one device by its MAC address, wherever it goes: moved, gone, a second address, back where it was."""

from collections import deque
from collections.abc import Collection, Iterable
from dataclasses import dataclass
from enum import Enum, auto
from ipaddress import IPv4Address
from itertools import islice

from askport.core import addresses, machine, wire
from askport.core.finding import checking, own_answer
from askport.core.formats.arp import arp_question

_LOOK_INTERVAL_S = 0.25
"""Between questions for where it is meant to be, so that it is seen there within a second."""
_ALL_EVERY = 2
"""Looks after which it is asked for where it was and where slips land as well."""
_GONE_AFTER = 3
"""Unanswered questions after which the device counts as gone from its old address."""
_MAX_NEWS = 64
_LANDINGS_A_LOOK = 16
"""Of the places where it may have landed, how many are asked for at a time: all of them within a few seconds."""


class Sighting(Enum):
    """What was seen of the device."""

    ARRIVED = auto()
    """It holds the address that it is meant to have."""
    SECOND = auto()
    """It holds another address beside the one where it was."""
    GONE = auto()
    """It no longer answers where it was."""
    MOVED = auto()
    """It has left where it was, and holds another address than the one that is meant."""
    BACK = auto()
    """It is where it was again."""


@dataclass(frozen=True, slots=True)
class Seen:
    """One sighting."""

    kind: Sighting
    address: IPv4Address
    at: float


class Tracker(machine.Machine):
    """Sees where a device is by what it shows, and asks for it where it may be, once it was told to look."""

    def __init__(
        self,
        laptop_mac: addresses.MacAddress,
        mac: addresses.MacAddress,
        ours: Collection[IPv4Address],
        *,
        meant: IPv4Address,
        was: IPv4Address | None = None,
        landings: Iterable[IPv4Address] = (),
        sees_coming: bool = False,
    ) -> None:
        """Follow a device.

        Args:
            ours: the laptop's addresses; questions come from the first.
            was: where it is before it moves, where that is known.
            landings: where a slip may take it, and where it falls back to; asked for once it is gone.
            sees_coming: whether it is watched before it moves, so that its first answer there can be believed.
        """
        super().__init__()
        self._laptop_mac = laptop_mac
        self._sender = next(iter(ours), addresses.UNSPECIFIED)
        self._witness = checking.Witness(laptop_mac, mac, ours)
        self._own_answer = own_answer.OwnAnswer(laptop_mac, mac, meant, ours) if sees_coming and ours else None
        self.meant, self.was = meant, was
        self._landings = [each for each in dict.fromkeys(landings) if each not in (meant, was, *ours)]
        self.seen: dict[IPv4Address, float] = {}
        """Every address that it was seen at for sure, with the last time."""
        self.has_left = False
        """Whether it no longer answers where it was."""
        self.moved_to: IPv4Address | None = None
        """Where it is now, if it has left its old address for another than the one that is meant."""
        self._beside: dict[IPv4Address, None] = {}
        self._news: deque[Seen] = deque(maxlen=_MAX_NEWS)
        self._look_at: float | None = None
        self._looks = self._unanswered = self._looks_around = 0

    @property
    def answers_for_others(self) -> bool:
        """Whether it answers for addresses that are not its own: none of its answers counts then."""
        return self._witness.answers_for_others

    @property
    def was_heard_before(self) -> bool:
        """Whether it has answered where it was, since it is followed: only then can it be said to have left."""
        return self.was in self.seen

    def look_from(self, now: float) -> None:
        """Begin to ask for it."""
        self._look_at = now

    def stop_looking(self) -> None:
        """Ask no more."""
        self._look_at = None

    def forget(self) -> None:
        """Believe nothing any more of what was shown up to now: the device may have started anew."""
        self._witness.forget()
        if self._own_answer:
            self._own_answer.forget()
        self.seen.clear()

    def news(self) -> list[Seen]:
        """Return what was seen since the last time."""
        news = list(self._news)
        self._news.clear()
        return news

    def receive(self, heard: wire.Heard) -> None:
        self._see(self._witness.shows(heard), heard.at)
        if self._own_answer and self._own_answer.shows(heard, self.was):
            self._see([self.meant], heard.at)

    def handle_timer(self, now: float) -> None:
        self._see(self._witness.confirmed(now), now)
        if self._look_at is None or now < self._look_at:
            return
        self._look_at = now + _LOOK_INTERVAL_S
        self._ask(self.meant)
        self._looks += 1
        if self._looks % _ALL_EVERY == 1:
            self._look_everywhere(now)

    def _look_everywhere(self, now: float) -> None:
        """Ask for where it was, and once it has gone for where slips land."""
        self._unanswered += 1
        if self._own_answer:
            self._own_answer.ask(now)
        if self.was:
            self._ask(self.was)
            if self._unanswered > _GONE_AFTER and not self.has_left:
                self.has_left = True
                self._say(Sighting.GONE, self.was, now)
                # The last address that it has shown beside the old one is where it is now; a fallback counts least.
                for address in sorted(self._beside, key=lambda each: each not in addresses.LINK_LOCAL)[-1:]:
                    self._moved(address, now)
        if self._landings and self.moved_to is None and self._unanswered > _GONE_AFTER:
            self._look_around()

    def next_deadline(self) -> float | None:
        """Return when to ask next, or when a check goes on."""
        return machine.earliest(self._look_at, self._witness.next_deadline())

    @property
    def children(self) -> list[machine.Machine]:
        return [self._witness, *filter(None, [self._own_answer])]

    def _ask(self, address: IPv4Address) -> None:
        self._send(arp_question(self._laptop_mac, address, sender=self._sender))

    def _look_around(self) -> None:
        begin = self._looks_around * _LANDINGS_A_LOOK % len(self._landings)
        self._looks_around += 1
        for address in islice(self._landings, begin, begin + _LANDINGS_A_LOOK):
            self._ask(address)

    def _say(self, kind: Sighting, address: IPv4Address, now: float) -> None:
        self._news.append(Seen(kind, address, now))

    def _see(self, shown: Iterable[IPv4Address], now: float) -> None:
        for address in shown:
            self.seen[address] = now
            if address == self.meant:
                self._say(Sighting.ARRIVED, address, now)
            elif self.was is None:
                self.was = address  # where it is, before it moves
            elif address == self.was:
                if self.has_left:
                    self._say(Sighting.BACK, address, now)
                self._unanswered, self.has_left, self.moved_to = 0, False, None
            elif address not in self._beside:
                self._beside[address] = None
                self._say(Sighting.SECOND, address, now)
            if self.has_left and address in self._beside and address != self.moved_to:
                self._moved(address, now)

    def _moved(self, address: IPv4Address, now: float) -> None:
        self.moved_to = address
        self._say(Sighting.MOVED, address, now)
