"""Whether a device stays what it was after its start: some ask for an address, or fall back, once they were seen.

It is watched for as long as its start has taken, and no less than ``LEAST_S``, beside whatever goes on meanwhile.
"""

from collections.abc import Iterable
from ipaddress import IPv4Address

from askport.core import machine, wire
from askport.core.finding.tracking import Tracker
from askport.core.formats.ethernet import Ethernet
from askport.core.phrases import phrase
from askport.core.proofs import power_cycle, proof

LEAST_S = 20.0
"""From its first word on."""
_GONE_S = 3.0
"""After so long without an answer, while it is asked four times a second, it has left the address."""


class AfterStart(machine.Machine):
    """Goes on asking where it is, and overturns the proof by the power cycle where it does not stay there."""

    is_aside = True

    def __init__(self, subject: proof.Subject, cycle: power_cycle.PowerCycle, landings: Iterable[IPv4Address]) -> None:
        """Wait for the proof by the power cycle.

        Args:
            landings: where it may be instead, its old and its delivered address first.
        """
        super().__init__()
        self._subject, self._cycle = subject, cycle
        self._tracker = Tracker(
            subject.laptop_mac, subject.mac, [subject.laptop.ip], meant=subject.at.ip, landings=landings
        )
        self._since = self._until = self._there_at = 0.0
        self._over = True

    @property
    def done(self) -> bool:
        return self._over

    def begin(self, now: float) -> None:
        """Watch from now on; it was seen at its address. Again, this does nothing."""
        if self._since:
            return
        lane = self._cycle.lane
        self._since = lane.first_heard_at if lane.first_heard_at is not None else now
        took = self._since - (lane.link_at if lane.link_at is not None else lane.off_at or self._since)
        self._until, self._there_at, self._over = self._since + max(LEAST_S, took), now, False
        self._tracker.look_from(now)

    def left_s(self, now: float) -> float:
        """Return for how long it is still watched."""
        return 0.0 if self.done else max(0.0, self._until - now)

    def stop(self) -> None:
        """Watch no more, and say in the proof for how long it was."""
        if not self._since:
            return
        if self._cycle.passed:
            self._cycle.add(self._there_at - self._since)
        self._since, self._over = 0.0, True

    def receive(self, heard: wire.Heard) -> None:
        ethernet = heard.packet.get(Ethernet)
        if self.done or ethernet is None or ethernet.src != self._subject.mac:
            return
        if protocol := power_cycle.asks_for_address(heard):
            after = phrase("{at:.0f} s after its first word", at=heard.at - self._since)
            because = phrase(
                "It asked for an address by {protocol} {after}: make the address static on the device.",
                protocol=protocol,
                after=after,
            )
            self._overturn(phrase("asks for an address"), because)
        self._tracker.receive(heard)
        self._see(heard.at)

    def _see(self, now: float) -> None:
        meant, seen = self._subject.at.ip, self._tracker.seen
        self._there_at = max(self._there_at, seen.get(meant, 0.0))
        elsewhere = [each for each, at in seen.items() if each != meant and at > self._there_at + _GONE_S]
        if elsewhere and not self.done:
            because = phrase(
                "It held {meant}, and went to {elsewhere} after that: the change was not saved.",
                meant=meant,
                elsewhere=elsewhere[0],
            )
            self._overturn(phrase("at {elsewhere}", elsewhere=elsewhere[0]), because)

    def _overturn(self, measured: str, because: str) -> None:
        self._cycle.overturn(measured, because)
        self._over = True

    @property
    def children(self) -> list[machine.Machine]:
        return [] if self.done else [self._tracker]

    def handle_timer(self, now: float) -> None:
        if self.done:
            return
        super().handle_timer(now)
        self._see(now)
        self._over |= now >= self._until

    def next_deadline(self) -> float | None:
        return None if self.done else machine.earliest(self._until, self._tracker.next_deadline())
