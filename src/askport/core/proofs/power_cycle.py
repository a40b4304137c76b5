"""The proof that the settings survive a power cut."""

from dataclasses import dataclass
from enum import Enum, auto

from askport.core.finding.readers import addresses_shown
from askport.core.formats.arp import arp_question
from askport.core.formats.dhcp import BootpOp, Dhcp
from askport.core.formats.ethernet import Ethernet
from askport.core.proofs.proof import Proof, Subject
from askport.core.wire import Heard, Link
from askport.core.words import listed

_LOOK_INTERVAL_S = 0.5
_GONE_AFTER = 6
"""Unanswered questions, three seconds, that count as power off where a switch or dock keeps the link up."""
LONGEST_BOOT_S = 180.0
"""From power back to giving up: the slowest devices of the trade take two minutes."""


class Phase(Enum):
    """Where the power cycle stands."""

    ON = auto()
    """Waiting for the power to be pulled."""
    OFF = auto()
    """The link is down, or the device has stopped answering."""
    STARTING = auto()
    """The link is up again."""


@dataclass(slots=True)
class Lane:
    """The moments of the power cycle, in the wire's time; None where not reached."""

    began_at: float
    off_at: float | None = None
    link_at: float | None = None
    first_heard_at: float | None = None
    back_at: float | None = None


class PowerCycle(Proof):
    """After its power was pulled and put back, the device holds its new address without asking anybody."""

    name = "power-cycle"

    def __init__(self, subject: Subject, *, now: float) -> None:
        super().__init__()
        self.subject = subject
        self.expected = f"still at {subject.at.ip} after a power cut"
        self.phase = Phase.ON
        self.lane = Lane(began_at=now)
        self._unanswered = 0
        self._look_at = now
        self._give_up_at: float | None = None

    def link_changed(self, link: Link, now: float) -> None:
        """See the power go and come by the link."""
        if not link.up and self.phase is not Phase.OFF:
            self._off(now)
        elif link.up and self.phase is Phase.OFF:
            self._starting(now)

    def _off(self, now: float) -> None:
        self.phase = Phase.OFF
        self.lane.off_at, self.lane.link_at, self.lane.first_heard_at = now, None, None
        self._give_up_at = None

    def _starting(self, now: float) -> None:
        self.phase, self.lane.link_at = Phase.STARTING, now
        self._give_up_at = now + LONGEST_BOOT_S

    def receive(self, heard: Heard) -> None:
        """Hear the device before, and above all after, the power cut."""
        ethernet, dhcp = heard.packet.get(Ethernet), heard.packet.get(Dhcp)
        if ethernet is None or ethernet.src != self.subject.mac:
            return
        self._unanswered = 0
        if self.phase is Phase.ON:
            return
        if self.phase is Phase.OFF:
            self._starting(heard.at)
        if self.lane.first_heard_at is None:
            self.lane.first_heard_at = heard.at
        shown = addresses_shown(heard.packet, self.subject.mac)
        if dhcp and dhcp.op == BootpOp.BOOTREQUEST:
            protocol = "BOOTP" if dhcp.message_type is None else "DHCP"
            because = f"It asked for an address by {protocol} after the power cut: tell it to keep the one it has."
            self._end(False, "asks for an address", because)
        elif self.subject.at.ip in shown:
            self.lane.back_at = heard.at
            since = self.lane.link_at if self.lane.link_at is not None else heard.at
            took = heard.at - since
            measured = f"back after {took:.0f} s"
            self._end(True, measured, f"It held {self.subject.at.ip} again {took:.0f} s after its power came back.")
        elif shown:
            found = listed(sorted(shown))
            self._end(False, f"at {found}", f"It is at {found} after the power cut: the change was not saved.")

    def handle_timer(self, now: float) -> None:
        """Keep asking, so that going and coming are seen; give up after the longest boot."""
        if self.done or now < self._look_at:
            return
        if self._give_up_at is not None and now >= self._give_up_at:
            because = (
                f"It has not been heard at {self.subject.at.ip} for {LONGEST_BOOT_S:.0f} s after its power came back."
            )
            self._end(False, "no answer", because)
            return
        self._look_at = now + _LOOK_INTERVAL_S
        self._unanswered += 1
        if self.phase is Phase.ON and self._unanswered > _GONE_AFTER:
            self._off(now)
        self._send(arp_question(self.subject.laptop_mac, self.subject.at.ip, sender=self.subject.laptop.ip))

    def next_deadline(self) -> float | None:
        """Return when to ask next."""
        return None if self.done else self._look_at
