"""Proofs of who holds an address, by ARP (RFC 826) and by what only its holder can answer."""

from ipaddress import IPv4Address

from askport.core import addresses, machine, wire
from askport.core.finding.questioning import Kind, closing_frame, is_answer, question_frame, source_sharing
from askport.core.finding.tracking import Tracker
from askport.core.formats.arp import Arp, Op, arp_question
from askport.core.formats.icmp import Icmp, IcmpType
from askport.core.formats.packet import STAYS_ON_LINK, ends_of
from askport.core.phrases import listed, phrase, together
from askport.core.proofs.proof import ATTEMPTS, INTERVAL_S, Repeated, Subject

_LATE_S = 3.2
"""After the first question: a twin that is slow has answered by then."""
_AS_FAR_AS_IT_GOES = 64
"""The time to live that stacks send with."""
_BESIDE = 28
"""Sources of questions to an old address share so many bits with it: its mask need not be known."""


class _Holders(Repeated):
    """Asks for one address and notes everybody who answers."""

    def __init__(self, subject: Subject, address: IPv4Address, *, now: float) -> None:
        super().__init__(now=now)
        self.subject, self.address = subject, address
        self.holders: dict[addresses.MacAddress, None] = {}

    def ask(self, now: float) -> None:
        """Ask who holds the address."""
        self._send(arp_question(self.subject.laptop_mac, self.address, sender=self.subject.laptop.ip))

    def receive(self, heard: wire.Heard) -> None:
        arp = heard.packet.get(Arp)
        if arp and arp.spa == self.address and arp.sha != self.subject.laptop_mac:
            self.holders[arp.sha] = None


class SameMac(_Holders):
    """The device, and nobody else, has its new address.

    It answers ARP for it and not for its neighbours, and it answers there itself: what goes no further than this wire
    (time to live 1, RFC 791 section 3.2) reaches nobody behind it. Where that gets no answer, the same is asked as far
    as it goes; an answer to that comes from somebody behind it. ARP alone shows nobody: switches answer it for hosts
    that are off, and proxies for their neighbours. Whoever else speaks for the address until the last
    proof has ended counts against it.
    """

    name = "same-mac"

    def __init__(self, subject: Subject, *, now: float) -> None:
        super().__init__(subject, subject.at.ip, now=now)
        self.expected = phrase("{ip} answered by {mac}", ip=subject.at.ip, mac=subject.mac)
        self._tracker = Tracker(subject.laptop_mac, subject.mac, [subject.laptop.ip], meant=subject.at.ip)
        self._answers_itself = self._passes_on = self._asks_further = False
        self._began_at = now

    @property
    def watches_until(self) -> float | None:
        """Until when a twin may still answer."""
        return self._began_at + _LATE_S if self.passed else None

    def watch(self, heard: wire.Heard) -> None:
        """See whether anybody else speaks for the address."""
        before = len(self.holders)
        super().receive(heard)
        if len(self.holders) > before:
            self._judge()

    def receive(self, heard: wire.Heard) -> None:
        """Note who holds it, and whether the device itself shows it or only answers."""
        super().receive(heard)
        self._tracker.receive(heard)
        ends, icmp = ends_of(heard.packet), heard.packet.get(Icmp)
        if ends is None or ends.src_mac != self.subject.mac or ends.dst != self.subject.laptop.ip:
            return
        if icmp and icmp.type == IcmpType.TIME_EXCEEDED:
            self._passes_on = True
        elif ends.src == self.address:
            further = is_answer(heard.packet, self.subject.laptop.ip, self.asked + _AS_FAR_AS_IT_GOES)
            self._passes_on |= further and not self._answers_itself
            self._answers_itself |= not further
            if closing := closing_frame(heard.packet, self.subject.laptop_mac):
                self._send(closing)

    def ask(self, now: float) -> None:
        """Ask who holds the address, and its holder something in one of three ways."""
        super().ask(now)
        self._question(list(Kind)[self.asked])

    def _question(self, kind: Kind, ttl: int = STAYS_ON_LINK) -> None:
        mac, laptop = self.subject.mac, self.subject.laptop.ip
        self._send(question_frame(self.subject.laptop_mac, mac, self.address, laptop, kind, self.asked + ttl, ttl))

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
            else machine.earliest(super().next_deadline(), checked)
        )

    @property
    def children(self) -> list[machine.Machine]:
        return [self._tracker]

    def conclude(self, now: float) -> None:
        """Judge; where it has not answered itself, see first whether somebody behind it does."""
        answered = self.subject.mac in self.holders
        if answered and not (self._answers_itself or self._passes_on or self._asks_further):
            self._asks_further, self._next_at = True, now + INTERVAL_S
            for kind in Kind:
                self._question(kind, _AS_FAR_AS_IT_GOES)
            return
        self._judge()

    def answered_beside(self) -> None:
        """Take in that it has answered other questions that reach nobody behind it, from addresses of its subnet."""
        self._answers_itself = True
        if self.done and self.passed is None:
            self._judge()

    def _judge(self) -> None:
        """Pass if exactly this device answered, and for itself."""
        mac, others = self.subject.mac, [each for each in self.holders if each != self.subject.mac]
        measured = (
            phrase("answered by {holders}", holders=listed(self.holders)) if self.holders else phrase("no answer")
        )
        elsewhere = listed(sorted(self._tracker.seen.keys() - {self.address}))
        is_sure = self.address in self._tracker.seen and not self._passes_on
        if not self.holders:
            because = together(
                phrase(
                    "Nobody answered when asked for {address} {asked} times (ARP).",
                    address=self.address,
                    asked=self.asked,
                ),
                phrase("{mac} is at {elsewhere}.", mac=mac, elsewhere=elsewhere) if elsewhere else "",
            )
        elif others and mac in self.holders:
            because = phrase(
                "{others} answers for {address} as well: two devices hold one address.",
                others=listed(others),
                address=self.address,
            )
        elif others:
            because = phrase(
                "{address} is held by {others}, not by {mac}.",
                address=self.address,
                others=listed(others),
                mac=mac,
            )
        elif self._passes_on:
            because = phrase(
                "It answers for {address} but forwards the traffic: a device behind it has that address.",
                address=self.address,
            )
        elif not is_sure and not self._tracker.answers_for_others:
            because = phrase(
                "It speaks as {address}; whether it answers for other addresses too was not seen to the end.",
                address=self.address,
            )
        elif not is_sure:
            because = phrase(
                "It answers for other devices' addresses too, so this does not prove that {address} is its own.",
                address=self.address,
            )
        elif not self._answers_itself:
            rest = phrase("It did not answer ping, TCP or UDP itself, so that it is there is not shown.")
            self.cannot_be_made(
                phrase(
                    "Only this device answered when asked for {address} (ARP). {rest}",
                    address=self.address,
                    rest=rest,
                )
            )
            return
        else:
            because = phrase("Only this device answered when asked for {address} (ARP).", address=self.address)
        self._end(list(self.holders) == [mac] and is_sure, measured, because)


class StillThere(_Holders):
    """The device answers at the address where it is talked to, before anything is set there."""

    name = "still-there"

    def __init__(self, subject: Subject, *, now: float) -> None:
        super().__init__(subject, subject.at.ip, now=now)
        self.expected = phrase("{mac} at {ip}", mac=subject.mac, ip=subject.at.ip)

    def receive(self, heard: wire.Heard) -> None:
        """Pass as soon as it answers: nothing more is asked here."""
        super().receive(heard)
        if self.subject.mac in self.holders:
            self.conclude(heard.at)

    def conclude(self, now: float) -> None:
        """Pass if this device answered; others may hold the address too."""
        others = [each for each in self.holders if each != self.subject.mac]
        here = self.subject.mac in self.holders
        because = (
            "{mac} does not answer at {address}; {others} does." if others else "{mac} does not answer at {address}."
        )
        because = phrase(
            "{mac} answers at {address}." if here else because,
            mac=self.subject.mac,
            address=self.address,
            others=listed(others),
        )
        self._end(here, phrase("answered") if here else phrase("no answer"), because)


class OldGone(_Holders):
    """The device no longer answers at the address that it had.

    Some answer senders of their own subnet only (Linux: arp_ignore 2), so it is asked from there too: at its own MAC
    address, from addresses beside the old one that nobody has, by ARP and by an echo. Some keep it on another port,
    and answer for it by way of the new address alone: from there it is asked in each of the ways too. What is asked
    goes no further than this wire, so that nobody behind it answers.
    """

    name = "old-gone"

    def __init__(self, subject: Subject, old: IPv4Address, *, now: float) -> None:
        super().__init__(subject, old, now=now)
        self.expected = phrase("{old} left by {mac}", old=old, mac=subject.mac)
        avoid = {subject.at.ip, subject.laptop.ip}
        beside = (source_sharing(old, 30), source_sharing(old, _BESIDE), source_sharing(old, _BESIDE, 1))
        self._sources = [each for each in beside if each and each not in avoid and not addresses.host_fault_of(each)]
        self._taken: set[IPv4Address] = set()
        self._is_heard = False

    def ask(self, now: float) -> None:
        """Ask as the laptop, and from the old subnet once it is known that nobody has those addresses."""
        super().ask(now)
        laptop_mac, mac, laptop = self.subject.laptop_mac, self.subject.mac, self.subject.laptop.ip
        self._send(question_frame(laptop_mac, mac, self.address, laptop, list(Kind)[self.asked], self.asked))
        for source in self._sources:
            if not self.asked:
                self._send(arp_question(laptop_mac, source))
            elif source not in self._taken:
                self._send(mac + arp_question(laptop_mac, self.address, sender=source)[6:])
                self._send(question_frame(laptop_mac, mac, self.address, source, Kind.ECHO, self.asked))

    def receive(self, heard: wire.Heard) -> None:
        """Note who holds it, by ARP or by speaking from it."""
        super().receive(heard)
        arp, ends = heard.packet.get(Arp), ends_of(heard.packet)
        if arp and arp.op == Op.REPLY:
            self._taken.add(arp.spa)
        if ends and (ends.src_mac, ends.src) == (self.subject.mac, self.address):
            self._is_heard = True
            if closing := closing_frame(heard.packet, self.subject.laptop_mac):
                self._send(closing)

    def conclude(self, now: float) -> None:
        """Pass unless this device answered; another one there is a twin and none of its business."""
        mac, others = self.subject.mac, [each for each in self.holders if each != self.subject.mac]
        if mac in self.holders:
            self._end(
                False,
                phrase("still answered by {mac}", mac=mac),
                phrase("It still answers when asked for {address} (ARP).", address=self.address),
            )
        elif self._is_heard:
            self._end(
                False,
                phrase("still answered by {mac}", mac=mac),
                phrase("It still answers at {address} (IPv4).", address=self.address),
            )
        elif others:
            because = phrase(
                "It is gone from {address}; another device, {others}, holds that address.",
                address=self.address,
                others=listed(others),
            )
            self._end(True, phrase("answered by {others}", others=listed(others)), because)
        else:
            self._end(
                True,
                phrase("no answer"),
                phrase(
                    "Nobody answered when asked for {address} {asked} times (ARP).",
                    address=self.address,
                    asked=self.asked,
                ),
            )
