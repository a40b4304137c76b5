"""The proof that the settings survive a power cycle.

A power cycle shows in the device's start, and that only the device itself can show: its own clock begins anew.
How long the link was down, and how long nothing was heard, shows nothing: a small switch, a media converter or a
wireless bridge in between looks the same when its own plug or cable is pulled. Nor does what devices say when their
link comes up (announcements and probes of their address, group reports, IPv6): they say it after a pulled cable too
(RFC 5227 section 2.1). Where the device shows no start, whoever is there is asked, and the record says so.
"""

from collections.abc import Iterable
from dataclasses import dataclass
from enum import Enum, auto
from ipaddress import IPv4Address

from askport.core import machine, wire
from askport.core.finding import clues, tracking
from askport.core.finding.readers import read_clues
from askport.core.formats.arp import arp_question
from askport.core.formats.dhcp import BootpOp, Dhcp, MessageType
from askport.core.formats.ethernet import Ethernet
from askport.core.phrases import listed, phrase
from askport.core.proofs import own_clock, proof

_LOOK_INTERVAL_S = 0.5
_LONGEST_GAP_S = 1.5
"""Between two questions, for the time between them to count as silence."""
_SHORTEST_CUT_S = 1.0
"""A link that is down for less than this was wiggled."""
_SILENT_S = 3.0
"""Silence from which on it is taken to be off, at the least."""
LONGEST_BOOT_S = 180.0
"""From power back to giving up: the slowest devices of the trade take two minutes."""
_LONGEST_OFF_S = 600.0
"""How long one that fell silent is waited for."""
_ELSEWHERE_S = 45.0
"""How long a device may be at another address while it starts: boot loaders and fallbacks come first."""
_CLOCK_S = 15.0
"""From its first word until its ports open again, where they have shown its own clock before."""
_STAYS_S = 5.0
"""Since when it was last seen at an address where it still is; it is asked for in less."""
_ASKS = (None, MessageType.DISCOVER, MessageType.REQUEST)


class Power(Enum):
    """Where the power cycle stands."""

    ON = auto()
    """Waiting for the power to be pulled."""
    OFF = auto()
    """The link is down, or the device has stopped answering."""
    STARTING = auto()
    """It has power again, and is waited for at its address."""
    UNSURE = auto()
    """It is back, and nothing has shown that its power was cut: whoever pulled it can say so."""


_LOOKS = (Power.STARTING, Power.UNSURE)


@dataclass(slots=True)
class Lane:
    """The moments of the power cycle, in the wire's time; None where not reached."""

    began_at: float
    off_at: float | None = None
    link_at: float | None = None
    first_heard_at: float | None = None
    back_at: float | None = None


class PowerCycle(proof.Proof):
    """After its power was pulled and put back, the device holds its new address without asking anybody."""

    name = "power-cycle"

    def __init__(
        self,
        subject: proof.Subject,
        *,
        now: float,
        boot_s: float | None = None,
        clock: own_clock.OwnClock | None = None,
        landings: Iterable[IPv4Address] = (),
        wait_s: float | None = None,
    ) -> None:
        """Begin to wait for the cut.

        Args:
            boot_s: the longest from power to first answer, by its kind, in seconds.
            clock: its own clock, as far as it was seen by now.
            landings: where it may be after the cut instead, its old and its delivered address first.
            wait_s: how long the cut is waited for, in seconds; None without limit.
        """
        super().__init__()
        self.subject = subject
        self.expected = phrase("{ip} kept after a power cycle", ip=subject.at.ip)
        self.power = Power.ON
        self.lane = Lane(began_at=now)
        self.wiggled = ""
        """What looked like a cut and was none, as a sentence."""
        self.takes_power_by_cable = False
        """Whether it says that its power comes through the cable."""
        self._tracker = tracking.Tracker(
            subject.laptop_mac, subject.mac, [subject.laptop.ip], meant=subject.at.ip, landings=landings
        )
        self._longest_boot_s = boot_s * 1.5 + 10.0 if boot_s else LONGEST_BOOT_S
        self._wait_s = wait_s
        self._clock = clock or own_clock.OwnClock(subject, (), now=now)
        self._wait_until = None if wait_s is None else now + wait_s
        self._link_up = True
        self._told = False
        self._last_heard_at = now
        self._asked_at = now
        self._silent_since = now
        """Since when it was asked all along and said nothing."""
        self._longest_gap_s = 0.0
        """The longest that it left the laptop waiting while its power was on."""
        self._look_at = now
        self._give_up_at: float | None = None
        self._elsewhere_at: float | None = None
        self._clock_until = now
        """Until when its own clock is waited for, before anybody is asked."""

    # The cut

    def link_changed(self, link: wire.Link, now: float) -> None:
        if self.done or link.up is self._link_up:
            return
        self._link_up = link.up
        if not link.up:
            self._off(now)
        elif self.power is Power.OFF and self.lane.off_at is not None:
            if now - self.lane.off_at < _SHORTEST_CUT_S:
                self._no_cut(
                    phrase(
                        "The link was down for {now:.1f} s only. That was the cable, not the power.",
                        now=now - self.lane.off_at,
                    ),
                    now,
                )
            else:
                self.lane.link_at = self._silent_since = now
                self._starts(now)

    def _off(self, now: float) -> None:
        self.power, self.wiggled = Power.OFF, ""
        self.lane = Lane(began_at=self.lane.began_at, off_at=now)
        is_limited = self._link_up or self._wait_s is not None
        self._give_up_at, self._elsewhere_at = now + _LONGEST_OFF_S if is_limited else None, None
        self._clock.see_cut(now)
        self._tracker.forget()
        self._tracker.stop_looking()

    def _no_cut(self, why: str, now: float) -> None:
        """Go back to waiting for the cut."""
        self.power, self.wiggled, self._last_heard_at, self._give_up_at = Power.ON, why, now, None
        self._tracker.stop_looking()
        self._clock.go_on(now)
        self.lane = Lane(began_at=self.lane.began_at)
        self._wait_until = None if self._wait_s is None else now + self._wait_s

    def receive(self, heard: wire.Heard) -> None:
        """Hear the device before, and above all after, the power cycle."""
        ethernet, off_at = heard.packet.get(Ethernet), self.lane.off_at
        if self.done or ethernet is None:
            return
        if ethernet.src != self.subject.mac:
            return
        self.takes_power_by_cable |= any(clue.kind is clues.ClueKind.TAKES_POWER for clue in read_clues(heard.packet))
        self._clock.receive(heard)
        if self.power is Power.ON:
            if heard.at > self._last_heard_at and self._asked_at <= heard.at:
                self._longest_gap_s = max(self._longest_gap_s, heard.at - max(self._last_heard_at, self._silent_since))
            self._last_heard_at = max(self._last_heard_at, heard.at)
            return
        if off_at is None or not self._link_up or heard.at < (self.lane.link_at or off_at):
            return  # on its way already when the power went
        if self.lane.first_heard_at is None:
            self.lane.first_heard_at = heard.at
            self._starts(heard.at)
            if not self._told and not asks_for_address(heard):  # that alone fails the proof, cut or not
                self.power = Power.UNSURE
            self._clock_until = heard.at + _CLOCK_S if self._clock.is_steady else heard.at
        self._take_clock(heard.at)
        if self.power is Power.UNSURE:
            self._last_heard_at = heard.at
        self._judge(heard)

    def _take_clock(self, now: float) -> None:
        """Take in that its own clock shows a start; what was seen of it since the cut counts."""
        if self.power is Power.UNSURE and self._clock.is_anew:
            self.power = Power.STARTING
            self._give_up_at = now + self._longest_boot_s

    def _starts(self, now: float) -> None:
        """Look for it, where it is meant to be and where it may be instead."""
        self.power, self._give_up_at = Power.STARTING, now + self._longest_boot_s
        self._tracker.look_from(now)

    @property
    def unsure(self) -> str:
        """Say what was seen that shows no power cycle, where that is so."""
        lane = self.lane
        if self.power is not Power.UNSURE or lane.first_heard_at is None:
            return ""
        if self._clock.is_anew is False:
            return phrase("It is there again, and its own clock has run on (TCP): its power was not cut.")
        if lane.link_at is None:
            return phrase("The device went silent and came back. This does not prove that its power was off.")
        after = phrase(
            "It spoke {first_heard_at:.1f} s after the link came back",
            first_heard_at=lane.first_heard_at - lane.link_at,
        )
        return phrase("{after}; nothing on the wire shows that its power was cut.", after=after)

    @property
    def elsewhere(self) -> str:
        """Where it is instead of its new address, while it starts; a boot loader has one of its own."""
        return listed(sorted(self._tracker.seen)) if self._elsewhere_at is not None else ""

    @property
    def may_be_confirmed(self) -> bool:
        """Whether it is where it is meant to be, and only somebody's word is missing that its power was cut."""
        if self.power is not Power.UNSURE or self.done or self.subject.at.ip not in self._tracker.seen:
            return False
        return self._clock.is_anew is False or self._asked_at >= self._clock_until

    def confirm(self, now: float) -> None:
        """Take in that the power was cut, from whoever pulled it; only what is seen from now on counts beside that."""
        if self.power is Power.UNSURE:
            self._told = True
            self._tracker.forget()
            self._starts(now)

    @property
    def back(self) -> bool:
        """Whether it was seen at its address after the cut, whatever came of it."""
        return self.lane.back_at is not None

    def not_shown(self, because: str) -> None:
        """End without a verdict: that its power was cut was not shown."""
        self.cannot_be_made(because)
        self.measured = phrase("not shown")

    # What comes after it

    def _judge(self, heard: wire.Heard) -> None:
        if protocol := asks_for_address(heard):
            self.overturn(
                phrase("asks for an address"),
                phrase("It asked for an address by {protocol} {tell_it}", protocol=protocol, tell_it=_TELL_IT),
            )
            return
        self._tracker.receive(heard)
        self._see(heard.at)

    def _see(self, now: float) -> None:
        address = self.subject.at.ip
        if address in self._tracker.seen and self.power is Power.UNSURE:
            # that it is there shows nothing yet; that it is elsewhere does, cut or not
            self._elsewhere_at = self._give_up_at = None
        elif address in self._tracker.seen:
            self.lane.back_at = now
            since = self.lane.link_at or self.lane.first_heard_at or now
            took = now - since
            cut = self._cut_words()
            because = phrase(
                "{cut} It held {address} again {took:.0f} s after its power came back.",
                cut=cut,
                address=address,
                took=took,
            )
            measured = (
                phrase("back after {took:.0f} s, power cycle confirmed by the technician", took=took)
                if self._told
                else phrase("back after {took:.0f} s", took=took)
            )
            self._end(True, measured, because)
        elif self._tracker.seen:
            self._elsewhere_at = self._elsewhere_at or now

    def _cut_words(self) -> str:
        if not self._told:
            return phrase("Its own clock began anew (TCP).")
        if self._clock.is_anew is False:
            return phrase("The technician confirmed the power cycle; its own clock has run on through it (TCP).")
        return phrase("The technician confirmed the power cycle; nothing on the wire shows it.")

    def overturn(self, measured: str, because: str) -> None:
        """Fail, also after it passed: what came later counts."""
        self._end(False, measured, because)

    def add(self, watched_s: float) -> None:
        """Take in for how long after its first word nothing spoke against it."""
        self.because = phrase(
            "{because} Watched for {watched_s:.0f} s after its first word.", because=self.because, watched_s=watched_s
        )

    def handle_timer(self, now: float) -> None:
        """Keep asking, so that going and coming are seen; give up after the longest boot."""
        if self.done:
            return
        self._clock.handle_timer(now)
        if self.power in _LOOKS:
            self._count_silence(now)
            self._tracker.handle_timer(now)
            self._take_clock(now)
            self._see(now)
            if not self.done and self._tracker.answers_for_others:
                self._end(False, phrase("answers for others"), phrase("It answers for addresses that are not its own."))
        gives_up = self._give_up_at is not None and now >= self._give_up_at
        if not self.done and (
            gives_up or (self._elsewhere_at is not None and now >= self._elsewhere_at + _ELSEWHERE_S)
        ):
            self._see_elsewhere(now)
        if not self.done and gives_up:
            longest = _LONGEST_OFF_S if self.power is Power.OFF else self._longest_boot_s
            since = phrase("it fell silent") if self.power is Power.OFF else phrase("its power came back")
            because = phrase(
                "It was not heard at {ip} for {longest:.0f} s after {since}.",
                ip=self.subject.at.ip,
                longest=longest,
                since=since,
            )
            self._end(False, phrase("no answer"), because)
        if not self.done and self._wait_until is not None and now >= self._wait_until and not self._is_cut:
            self.not_shown(
                self.unsure or phrase("Nobody pulled its power within {wait_s:.0f} s.", wait_s=self._wait_s or 0)
            )
        if self.done or now < self._look_at:
            return
        self._look_at = now + _LOOK_INTERVAL_S
        if self.power in (Power.ON, Power.UNSURE) and self._is_silent(now):
            self._off(self._last_heard_at)
        if self.power in _LOOKS:
            return  # its tracker asks
        self._count_silence(now)
        self._send(arp_question(self.subject.laptop_mac, self.subject.at.ip, sender=self.subject.laptop.ip))

    def _see_elsewhere(self, now: float) -> None:
        """Fail where it is at another address now."""
        if there := [each for each, at in self._tracker.seen.items() if now - at < _STAYS_S]:
            found = listed(sorted(there))
            self._end(
                False,
                phrase("at {found}", found=found),
                phrase("It is at {found} after the power cycle: the change was not saved.", found=found),
            )

    @property
    def _is_cut(self) -> bool:
        """Whether the power is off, or was: it is not waited for any more."""
        return self.power in (Power.OFF, Power.STARTING)

    def _count_silence(self, now: float) -> None:
        """Take in that it is asked now; a laptop that was busy, and did not ask, has not seen silence."""
        if now - self._asked_at > _LONGEST_GAP_S:
            self._silent_since = now
        self._asked_at = now

    def _is_silent(self, now: float) -> bool:
        """Whether it left question after question unanswered for as long as a start takes."""
        if now - max(self._last_heard_at, self._asked_at) > _LONGEST_GAP_S:
            self._last_heard_at = now
        return now - self._last_heard_at > max(_SILENT_S, 2 * self._longest_gap_s + 1.0)

    def next_deadline(self) -> float | None:
        if self.done:
            return None
        elsewhere = self._elsewhere_at + _ELSEWHERE_S if self._elsewhere_at is not None else None
        tracked = self._tracker.next_deadline() if self.power in _LOOKS else None
        wait = None if self._is_cut else self._wait_until
        return machine.earliest(self._look_at, self._give_up_at, elsewhere, tracked, wait, self._clock.next_deadline())

    @property
    def children(self) -> list[machine.Machine]:
        return [self._tracker, self._clock]


_TELL_IT = phrase("after the power cycle: make the address static on the device.")


def asks_for_address(heard: wire.Heard) -> str:
    """Return the protocol by which this frame asks for an address, or nothing."""
    dhcp = heard.packet.get(Dhcp)
    if dhcp is None or dhcp.op != BootpOp.BOOTREQUEST or dhcp.message_type not in _ASKS:
        return ""
    return "BOOTP" if dhcp.message_type is None else "DHCP"
