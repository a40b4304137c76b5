"""When what it serves is there again after a power cycle: a device has its address back before its page is up."""

from collections.abc import Iterable

from askport.core import machine, wire
from askport.core.phrases import listed, phrase
from askport.core.proofs.power_cycle import PowerCycle
from askport.core.proofs.proof import Proof, Repeated, Subject
from askport.core.proofs.reachable import Echo, PortOpens

_ASKS_EVERY_S = 1.0
LONGEST_S = 60.0
"""After its address is back; the slowest pages of the trade take most of a minute."""


class Services(Proof):
    """Ping and ports are asked for again and again until each has answered; the moments are kept."""

    name = "services"

    def __init__(
        self, subject: Subject, cycle: PowerCycle, *, ports: Iterable[int], echo: bool, longest_s: float = LONGEST_S
    ) -> None:
        """Wait for the device to be back.

        Args:
            echo: whether it answered ping before.
            longest_s: how long each is waited for, in seconds from when its address is back.
        """
        super().__init__()
        self._subject, self._cycle, self._longest_s = subject, cycle, longest_s
        self._awaited: dict[str, int | None] = {"ping": None} if echo else {}
        self._awaited |= {phrase("port {port}", port=port): port for port in dict.fromkeys(ports)}
        self.expected = phrase("{awaited} back after the power cycle", awaited=listed(self._awaited))
        self.moments: dict[str, float] = {}
        """When each answered first, in seconds since the power was cut."""
        self._asking: dict[str, Repeated] = {}
        self._next_at: float | None = None
        self._until: float | None = None

    @property
    def is_wanted(self) -> bool:
        """Whether anything is to be asked for."""
        return bool(self._awaited)

    @property
    def done(self) -> bool:
        """Whether all answered, or the time is over, or it did not survive the power cycle."""
        return super().done or (self._cycle.done and not self._cycle.passed)

    def receive(self, heard: wire.Heard) -> None:
        for name, proof in list(self._asking.items()):
            proof.receive(heard)
            if proof.passed and self._cycle.lane.off_at is not None:
                self.moments[name] = round(heard.at - self._cycle.lane.off_at, 3)
                self._effects += proof.poll()
                del self._asking[name]
        self._conclude(heard.at)

    def handle_timer(self, now: float) -> None:
        """Ask what has not answered, once a second from when its address is back."""
        if self.done or not self._cycle.passed:
            return
        self._until = self._until or now + self._longest_s
        if self._next_at is None or now >= self._next_at:
            self._next_at = now + _ASKS_EVERY_S
            for name, port in self._awaited.items():
                if name not in self.moments:
                    self._asking[name] = _ask(self._subject, port, self._asking.get(name), now)
        for proof in self._asking.values():
            self._effects += proof.poll()
        self._conclude(now)

    def _conclude(self, now: float) -> None:
        if self.done or self._until is None:
            return
        missing = [name for name in self._awaited if name not in self.moments]
        measured = listed([phrase("{name} after {at:.1f} s", name=name, at=at) for name, at in self.moments.items()])
        if not missing:
            self._end(True, measured, phrase("Each answered again after the power cycle."))
        elif now >= self._until:
            because = phrase(
                "{missing} did not come back within {longest_s:.0f} s of its address.",
                missing=listed(missing),
                longest_s=self._longest_s,
            )
            self._end(False, measured or phrase("nothing"), because)

    def next_deadline(self) -> float | None:
        """Return when to ask next; as soon as its address is back."""
        if self.done or not self._cycle.passed:
            return None
        return machine.earliest(self._next_at, self._until) if self._next_at is not None else self._cycle.lane.back_at


def _ask(subject: Subject, port: int | None, before: Repeated | None, now: float) -> Repeated:
    asking = before or (Echo(subject, now=now) if port is None else PortOpens(subject, port, now=now))
    asking.passed, asking.not_made = None, False  # refused a second ago says nothing of now
    asking.ask(now)
    asking.asked += 1
    return asking
