"""The proof that the settings survive a power cut."""

from collections.abc import Iterable
from dataclasses import dataclass
from enum import Enum, auto
from ipaddress import IPv4Address

from askport.core.finding.clues import ClueKind
from askport.core.finding.readers import read_clues
from askport.core.finding.tracking import Tracker
from askport.core.formats.arp import arp_question
from askport.core.formats.dhcp import BootpOp, Dhcp, MessageType
from askport.core.formats.ethernet import Ethernet
from askport.core.machine import Effect, earliest
from askport.core.proofs.proof import Proof, Subject
from askport.core.wire import Heard, Link
from askport.core.words import listed

_LOOK_INTERVAL_S = 0.5
_LONGEST_GAP_S = 1.5
"""Between two questions, for the time between them to count as silence."""
_SHORTEST_CUT_S = 1.0
"""A link that is down for less than this was wiggled."""
SHORTEST_START_S = 3.0
"""No device of the trade starts in less: silence of this length goes with a start, where its kind does not say more."""
LONGEST_BOOT_S = 180.0
"""From power back to giving up: the slowest devices of the trade take two minutes."""
_ELSEWHERE_S = 8.0
"""How long a device may be at another address while it starts: boot loaders and fallbacks come first."""
_STARTS = frozenset({ClueKind.ANNOUNCES, ClueKind.CLAIMS, ClueKind.ASKS_BOOTP, ClueKind.ASKS_DHCP, ClueKind.JOINS})
"""What devices say when they start, and seldom otherwise."""
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


@dataclass(slots=True)
class Lane:
    """The moments of the power cycle, in the wire's time; None where not reached."""

    began_at: float
    off_at: float | None = None
    link_at: float | None = None
    first_heard_at: float | None = None
    back_at: float | None = None


class PowerCycle(Proof):
    """After its power was pulled and put back, the device holds its new address without asking anybody.

    A cut is seen by a link that was down for long enough and a start after it; where something in between keeps the
    link up, by silence and a start. A missed answer, a wiggled cable and a frame from before are none.
    """

    name = "power-cycle"

    def __init__(
        self,
        subject: Subject,
        *,
        now: float,
        start_s: float = SHORTEST_START_S,
        boot_s: float = LONGEST_BOOT_S,
        landings: Iterable[IPv4Address] = (),
    ) -> None:
        """Begin to wait for the cut.

        Args:
            subject: who is proven.
            now: the wire's time.
            start_s: how long this kind of device takes to start at the least, in seconds.
            boot_s: how long it is waited for from power on, in seconds.
            landings: where it may be after the cut instead, its old and its delivered address first.
        """
        super().__init__()
        self.subject = subject
        self.expected = f"still at {subject.at.ip} after a power cut"
        self.power = Power.ON
        self.lane = Lane(began_at=now)
        self.wiggled = ""
        """What looked like a cut and was none, as a sentence."""
        self._tracker = Tracker(
            subject.laptop_mac, subject.mac, [subject.laptop.ip], meant=subject.at.ip, landings=landings
        )
        self._start_s, self._boot_s = start_s, boot_s
        self._link_up = True
        self._told = False
        self._last_heard_at = now
        self._asked_at = now
        self._look_at = now
        self._give_up_at: float | None = None
        self._elsewhere_at: float | None = None

    # The cut

    def link_changed(self, link: Link, now: float) -> None:
        """See the power go and come by the link."""
        if self.done or link.up is self._link_up:
            return
        self._link_up = link.up
        if not link.up:
            self._off(now)
        elif self.power is Power.OFF and self.lane.off_at is not None:
            if now - self.lane.off_at < _SHORTEST_CUT_S:
                self._no_cut(f"The link was down for {now - self.lane.off_at:.1f} s only: that was the cable.", now)
            else:
                self.lane.link_at = now
                self._starts(now)

    def _off(self, now: float) -> None:
        self.power, self.wiggled = Power.OFF, ""
        self.lane = Lane(began_at=self.lane.began_at, off_at=now)
        self._give_up_at, self._elsewhere_at = None, None
        self._tracker.forget()
        self._tracker.stop_looking()

    def _no_cut(self, why: str, now: float) -> None:
        """Go back to waiting for the cut."""
        self.power, self.wiggled, self._last_heard_at = Power.ON, why, now
        self._tracker.stop_looking()
        self.lane = Lane(began_at=self.lane.began_at)

    def receive(self, heard: Heard) -> None:
        """Hear the device before, and above all after, the power cut."""
        ethernet, off_at = heard.packet.get(Ethernet), self.lane.off_at
        if self.done or ethernet is None or ethernet.src != self.subject.mac:
            return
        if self.power is Power.ON:
            self._last_heard_at = max(self._last_heard_at, heard.at)
            return
        if off_at is None or not self._link_up or heard.at < (self.lane.link_at or off_at):
            return  # on its way already when the power went
        if self.power is Power.UNSURE:
            self._last_heard_at = heard.at
            return
        if not self._has_started(heard, off_at):
            return
        if self.lane.first_heard_at is None:
            self.lane.first_heard_at = heard.at
        if self.power is not Power.STARTING:
            self._starts(heard.at)
        self._judge(heard)

    def _starts(self, now: float) -> None:
        """Look for it, where it is meant to be and where it may be instead."""
        self.power, self._give_up_at = Power.STARTING, now + self._boot_s
        self._tracker.look_from(now)

    def _has_started(self, heard: Heard, off_at: float) -> bool:
        """Whether this frame comes from a device that has started anew; if it does not, say so."""
        if self.lane.first_heard_at is not None:
            return True
        if any(clue.kind in _STARTS for clue in read_clues(heard.packet) if clue.mac == self.subject.mac):
            return True
        if self.lane.link_at is None:
            self.power, self._last_heard_at, self.lane.first_heard_at = Power.UNSURE, heard.at, heard.at
            return False
        if heard.at - off_at >= self._start_s:
            return True
        self._no_cut("It was there again as soon as the link was: that was the cable, not its power.", heard.at)
        return False

    def confirm(self, now: float) -> None:
        """Take in that the power was cut, from whoever pulled it; only what is seen from now on counts beside that."""
        if self.power is Power.UNSURE:
            self._told = True
            self._starts(now)

    def wait_on(self, now: float) -> None:
        """Take in that its power was not cut yet."""
        if self.power is Power.UNSURE:
            self._no_cut("", now)

    # What comes after it

    def _judge(self, heard: Heard) -> None:
        dhcp = heard.packet.get(Dhcp)
        if dhcp and dhcp.op == BootpOp.BOOTREQUEST and dhcp.message_type in _ASKS:
            protocol = "BOOTP" if dhcp.message_type is None else "DHCP"
            because = f"It asked for an address by {protocol} after the power cut: tell it to keep the one it has."
            self._end(False, "asks for an address", because)
            return
        self._tracker.receive(heard)
        self._see(heard.at)

    def _see(self, now: float) -> None:
        address = self.subject.at.ip
        if address in self._tracker.seen:
            self.lane.back_at = now
            since = self.lane.link_at or self.lane.first_heard_at or now
            took = now - since
            cut = self._cut_words()
            because = f"{cut} It held {address} again {took:.0f} s after its power came back."
            measured = f"back after {took:.0f} s" + (", the cut as told" if self._told else "")
            self._end(True, measured, because)
        elif self._tracker.seen:
            self._elsewhere_at = self._elsewhere_at or now

    def _cut_words(self) -> str:
        off_at, link_at, first = self.lane.off_at or 0.0, self.lane.link_at, self.lane.first_heard_at
        if self._told:
            return "Whoever was there says that its power was cut; nothing on the wire shows it."
        if link_at is not None:
            return f"The link was down for {link_at - off_at:.0f} s."
        return f"It was silent for {(first or off_at) - off_at:.0f} s, and then started."

    def handle_timer(self, now: float) -> None:
        """Keep asking, so that going and coming are seen; give up after the longest boot."""
        if self.done:
            return
        if self.power is Power.STARTING:
            self._tracker.handle_timer(now)
            self._see(now)
            if not self.done and self._tracker.answers_for_others:
                self._end(False, "answers for others", "It answers for addresses that are not its own.")
            if not self.done and self._elsewhere_at is not None and now >= self._elsewhere_at + _ELSEWHERE_S:
                found = listed(sorted(self._tracker.seen))
                self._end(False, f"at {found}", f"It is at {found} after the power cut: the change was not saved.")
            if not self.done and self._give_up_at is not None and now >= self._give_up_at:
                because = f"It has not been heard at {self.subject.at.ip} for {self._boot_s:.0f} s after its power "
                self._end(False, "no answer", f"{because}came back.")
        if self.done or now < self._look_at:
            return
        self._look_at = now + _LOOK_INTERVAL_S
        if self.power in (Power.ON, Power.UNSURE) and self._is_silent(now):
            self._off(self._last_heard_at)
        if self.power is Power.STARTING:
            return  # its tracker asks
        self._asked_at = now
        self._send(arp_question(self.subject.laptop_mac, self.subject.at.ip, sender=self.subject.laptop.ip))

    def _is_silent(self, now: float) -> bool:
        """Whether it left question after question unanswered for as long as a start takes.

        A laptop that was busy, and did not ask, has not seen silence: it counts from now on.
        """
        if now - max(self._last_heard_at, self._asked_at) > _LONGEST_GAP_S:
            self._last_heard_at = now
        return now - self._last_heard_at > self._start_s

    def next_deadline(self) -> float | None:
        """Return when to ask next."""
        if self.done:
            return None
        elsewhere = self._elsewhere_at + _ELSEWHERE_S if self._elsewhere_at is not None else None
        tracked = self._tracker.next_deadline() if self.power is Power.STARTING else None
        return earliest(self._look_at, self._give_up_at, elsewhere, tracked)

    def poll(self) -> list[Effect]:
        """Return what is to be done now."""
        return [*super().poll(), *self._tracker.poll()]
