"""By hand: the technician uses the device's own page or keypad, and the wire tells when it has moved, and where to."""

from ipaddress import IPv4Address, IPv4Interface

from askport.core.addresses import UNSPECIFIED, MacAddress, is_transposition
from askport.core.finding.readers import addresses_shown
from askport.core.formats.arp import arp_question
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
        super().__init__(mac, target, now=now)
        self._laptop_mac = laptop_mac
        self._sender = laptop.ip if laptop else UNSPECIFIED
        self._old = old
        self._unanswered = 0
        self._look_at: float | None = now
        self.moved_to: IPv4Address | None = None
        """Where the device was seen last, if not at its old address."""
        self.left_old = False

    @property
    def waits_for(self) -> str:
        """What it waits for."""
        target = self.target.interface.ip
        if self.moved_to:
            return f"It moved to {self.moved_to}, not to {target}. Correct it at {self.moved_to}."
        if self.left_old:
            return f"It has left {self._old}. Waiting for it at {target}."
        return "Type these values into its own page or keypad and save. It will be seen when it moves."

    def receive(self, heard: Heard) -> None:
        """See where the device is."""
        if self.done:
            return
        for address in addresses_shown(heard.packet, self.mac):
            if address == self.target.interface.ip:
                self._look_at = None
                self._finish(Result.TAKEN, f"It has moved to {address}.", heard.at)
                return
            if address == self._old:
                self._unanswered, self.left_old = 0, False
            elif address != self.moved_to:
                self._moved_wrong(address, heard.at)

    def _moved_wrong(self, address: IPv4Address, now: float) -> None:
        self.moved_to = address
        target = self.target.interface.ip
        hint = ": two digits or octets are swapped" if is_transposition(address, target) else ""
        self._note(f"It moved to {address} instead of {target}{hint}.", now)

    def stray(self) -> None:
        """End, because the device is at a wrong address now and has to be reached there first."""
        last = self.steps[-1] if self.steps else None
        self._look_at = None
        self.result, self.because = Result.SENT, last.text if last else ""

    def handle_timer(self, now: float) -> None:
        """Ask for the new and the old address."""
        if self._look_at is None or now < self._look_at:
            return
        self._look_at = now + _LOOK_INTERVAL_S
        self._send(arp_question(self._laptop_mac, self.target.interface.ip, sender=self._sender))
        if self._old and self.moved_to is None:
            self._send(arp_question(self._laptop_mac, self._old, sender=self._sender))
            self._unanswered += 1
            if self._unanswered > _GONE_AFTER and not self.left_old:
                self.left_old = True
                self._note(f"It no longer answers at {self._old}.", now)

    def next_deadline(self) -> float | None:
        """Return when to ask next."""
        return self._look_at
