"""By hand: the technician uses the device's own page or keypad, and the wire tells when it has moved, and where to."""

from collections.abc import Iterable
from ipaddress import IPv4Address, IPv4Interface

from askport.core.addresses import LINK_LOCAL, UNSPECIFIED, MacAddress, is_transposition
from askport.core.formats.arp import arp_question
from askport.core.machine import earliest
from askport.core.plan.target import Target
from askport.core.ways.way import Result, Way
from askport.core.wire import Heard

_LOOK_INTERVAL_S = 1.0
"""Between questions for the new and the old address: people type for minutes, so one a second is soon enough."""
_GONE_AFTER = 3
"""Unanswered questions after which the device counts as gone from its old address."""


class ByHand(Way):
    """Watches the wire while somebody else changes the address."""

    name = "hand"
    gives = False
    permanent = None

    def __init__(
        self,
        mac: MacAddress,
        target: Target,
        *,
        laptop_mac: MacAddress,
        laptop: IPv4Interface | None,
        old: IPv4Address | None,
        now: float,
    ) -> None:
        """Start watching.

        Args:
            mac: the device that is to move.
            target: where to.
            laptop_mac: the laptop's end.
            laptop: the laptop's address, if it has one; questions come from it.
            old: the address that the device holds now.
            now: the wire's time.
        """
        super().__init__(mac, target, laptop_mac=laptop_mac, ours=[laptop.ip] if laptop else [], now=now)
        self._sender = laptop.ip if laptop else UNSPECIFIED
        self._old = old
        self._unanswered = 0
        self._look_at: float | None = now
        self._beside: dict[IPv4Address, None] = {}
        """Addresses at which it was seen beside its old one."""
        self._said_proxy = False
        self._moved_to: IPv4Address | None = None
        self.left_old = False

    @property
    def moved_to(self) -> IPv4Address | None:
        """Where the device is now, if it has left its old address for another than the planned one."""
        return self._moved_to

    @property
    def waits_for(self) -> str:
        """What it waits for."""
        target = self.target.interface.ip
        if self._witness.answers_for_others:
            return self._proxy_sentence()
        if self._moved_to and self._moved_to in LINK_LOCAL:
            return f"It has no address of its own now and fell back to {self._moved_to}. Waiting for {target}."
        if self._moved_to:
            return f"It moved to {self._moved_to}, not to {target}. Correct it at {self._moved_to}."
        if self.left_old:
            return f"It has left {self._old}. Waiting for it at {target}."
        return "Type these values into its own page or keypad and save. It will be seen when it moves."

    def receive(self, heard: Heard) -> None:
        """See where the device is."""
        if not self.done:
            self._see(self._witness.shows(heard), heard.at)

    def _see(self, shown: Iterable[IPv4Address], now: float) -> None:
        for address in shown:
            if address == self.target.interface.ip:
                self._look_at = None
                self._finish(Result.TAKEN, f"It has moved to {address}.", now)
                return
            if self._old is None:
                self._old = address  # where it is, before it moves
            elif address == self._old:
                self._at_old_still(now)
            elif address not in self._beside:
                self._beside[address] = None
                self._note(f"It shows {address} as well, which is a second address while {self._old} answers.", now)
            if self.left_old and address in self._beside and address != self._moved_to:
                self._moved_wrong(address, now)

    def _at_old_still(self, now: float) -> None:
        if self.left_old:
            self._note(f"It is at {self._old} again.", now)
        self._unanswered, self.left_old, self._moved_to = 0, False, None

    def _moved_wrong(self, address: IPv4Address, now: float) -> None:
        self._moved_to = address
        target = self.target.interface.ip
        hint = ": two digits or octets are swapped" if is_transposition(address, target) else ""
        self._note(f"It moved to {address} instead of {target}{hint}.", now)

    def handle_timer(self, now: float) -> None:
        """Ask for the new and the old address."""
        if self.done:
            return
        self._see(self._witness.confirmed(now), now)
        if self._witness.answers_for_others and not self._said_proxy:
            self._said_proxy = True
            self._note(self._proxy_sentence(), now)
        if self._look_at is None or now < self._look_at:
            return
        self._look_at = now + _LOOK_INTERVAL_S
        self._send(arp_question(self._laptop_mac, self.target.interface.ip, sender=self._sender))
        if self._old:
            self._send(arp_question(self._laptop_mac, self._old, sender=self._sender))
            self._unanswered += 1
            if self._unanswered > _GONE_AFTER and not self.left_old:
                self.left_old = True
                self._note(f"It no longer answers at {self._old}.", now)
                # The last address that it has shown beside the old one is where it is now; a fallback counts least.
                for address in sorted(self._beside, key=lambda each: each not in LINK_LOCAL)[-1:]:
                    self._moved_wrong(address, now)

    def next_deadline(self) -> float | None:
        """Return when to ask next."""
        return None if self.done else earliest(self._look_at, self._witness.next_deadline())
