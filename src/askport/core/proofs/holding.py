"""Proofs of who holds an address, by ARP (RFC 826)."""

from ipaddress import IPv4Address

from askport.core.addresses import MacAddress
from askport.core.finding.tracking import Tracker
from askport.core.formats.arp import Arp, arp_question
from askport.core.machine import Effect, earliest
from askport.core.proofs.proof import ATTEMPTS, Repeated, Subject
from askport.core.wire import Heard
from askport.core.words import listed


class _Holders(Repeated):
    """Asks for one address and notes everybody who answers."""

    def __init__(self, subject: Subject, address: IPv4Address, *, now: float) -> None:
        super().__init__(now=now)
        self.subject, self.address = subject, address
        self.holders: dict[MacAddress, None] = {}

    def ask(self, now: float) -> None:
        """Ask who holds the address."""
        self._send(arp_question(self.subject.laptop_mac, self.address, sender=self.subject.laptop.ip))

    def receive(self, heard: Heard) -> None:
        """Note who holds it."""
        arp = heard.packet.get(Arp)
        if arp and arp.spa == self.address and arp.sha != self.subject.laptop_mac:
            self.holders[arp.sha] = None


class SameMac(_Holders):
    """The device, and nobody else, answers at its new address."""

    name = "same-mac"

    def __init__(self, subject: Subject, *, now: float) -> None:
        super().__init__(subject, subject.at.ip, now=now)
        self.expected = f"{subject.at.ip} answered by {subject.mac}"
        self._tracker = Tracker(subject.laptop_mac, subject.mac, [subject.laptop.ip], meant=subject.at.ip)

    def receive(self, heard: Heard) -> None:
        """Note who holds it, and whether the device itself shows it or only answers."""
        super().receive(heard)
        self._tracker.receive(heard)

    def handle_timer(self, now: float) -> None:
        """Ask, and let what was answered be checked before it counts."""
        self._tracker.handle_timer(now)
        if self.asked < ATTEMPTS or self._tracker.next_deadline() is None:
            super().handle_timer(now)

    def next_deadline(self) -> float | None:
        """Return when to ask next, or when a check goes on."""
        checked = self._tracker.next_deadline()
        return (
            None
            if self.done
            else checked
            if checked and self.asked == ATTEMPTS
            else earliest(super().next_deadline(), checked)
        )

    def poll(self) -> list[Effect]:
        """Return what is to be done now."""
        return [*super().poll(), *self._tracker.poll()]

    def conclude(self, now: float) -> None:
        """Pass if exactly this device answered."""
        mac, others = self.subject.mac, [each for each in self.holders if each != self.subject.mac]
        measured = f"answered by {listed(self.holders)}" if self.holders else "no answer"
        elsewhere = listed(sorted(self._tracker.seen.keys() - {self.address}))
        is_sure = self.address in self._tracker.seen
        if not self.holders:
            where = f" {mac} is at {elsewhere}." if elsewhere else ""
            because = f"Nobody answered when asked for {self.address} {self.asked} times (ARP).{where}"
        elif others and mac in self.holders:
            because = f"{listed(others)} answers for {self.address} as well: two devices hold one address."
        elif others:
            because = f"{self.address} is held by {listed(others)}, not by {mac}."
        elif not is_sure:
            because = f"It answers for addresses that are not its own, so that {self.address} is its own is not shown."
        else:
            because = f"It, and nobody else, answered when asked for {self.address} (ARP)."
        self._end(list(self.holders) == [mac] and is_sure, measured, because)


class StillThere(_Holders):
    """The device answers at the address where it is talked to, before anything is set there."""

    name = "still-there"

    def __init__(self, subject: Subject, *, now: float) -> None:
        super().__init__(subject, subject.at.ip, now=now)
        self.expected = f"{subject.mac} at {subject.at.ip}"

    def receive(self, heard: Heard) -> None:
        """Pass as soon as it answers: nothing more is asked here."""
        super().receive(heard)
        if self.subject.mac in self.holders:
            self.conclude(heard.at)

    def conclude(self, now: float) -> None:
        """Pass if this device answered; others may hold the address too."""
        others = [each for each in self.holders if each != self.subject.mac]
        who = f"; {listed(others)} does" if others else ""
        here = self.subject.mac in self.holders
        because = (
            f"{self.subject.mac} {'answers' if here else 'does not answer'} at {self.address}{'' if here else who}."
        )
        self._end(here, "answered" if here else "no answer", because)


class OldGone(_Holders):
    """The device no longer answers at the address that it had."""

    name = "old-gone"

    def __init__(self, subject: Subject, old: IPv4Address, *, now: float) -> None:
        super().__init__(subject, old, now=now)
        self.expected = f"{old} left by {subject.mac}"

    def conclude(self, now: float) -> None:
        """Pass unless this device answered; another one there is a twin and none of its business."""
        mac, others = self.subject.mac, [each for each in self.holders if each != self.subject.mac]
        if mac in self.holders:
            self._end(False, f"still answered by {mac}", f"It still answers when asked for {self.address} (ARP).")
        elif others:
            because = f"It is gone from {self.address}; another device, {listed(others)}, holds that address."
            self._end(True, f"answered by {listed(others)}", because)
        else:
            self._end(True, "no answer", f"Nobody answered when asked for {self.address} {self.asked} times (ARP).")
