"""Proofs of who holds an address, by ARP (RFC 826)."""

from ipaddress import IPv4Address

from askport.core.addresses import MacAddress
from askport.core.formats.arp import Arp, arp_question
from askport.core.proofs.proof import Repeated, Subject
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

    def conclude(self, now: float) -> None:
        """Pass if exactly this device answered."""
        mac, others = self.subject.mac, [each for each in self.holders if each != self.subject.mac]
        measured = f"answered by {listed(self.holders)}" if self.holders else "no answer"
        if not self.holders:
            because = f"Nobody answered when asked for {self.address} {self.asked} times (ARP)."
        elif others and mac in self.holders:
            because = f"{listed(others)} answers for {self.address} as well: two devices hold one address."
        elif others:
            because = f"{self.address} is held by {listed(others)}, not by {mac}."
        else:
            because = f"It, and nobody else, answered when asked for {self.address} (ARP)."
        self._end(list(self.holders) == [mac], measured, because)


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
