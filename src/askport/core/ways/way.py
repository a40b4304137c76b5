"""What every way of setting an address has in common."""

from collections.abc import Collection, Iterable
from dataclasses import dataclass
from enum import StrEnum
from ipaddress import IPv4Address

from askport.core import addresses, machine
from askport.core.finding.tracking import Tracker
from askport.core.phrases import phrase
from askport.core.plan.target import Target


class Result(StrEnum):
    """How setting an address ended."""

    TAKEN = "taken"
    """The device itself showed that it holds the new address."""
    SENT = "sent"
    """Everything was said to it, and it did not show that it took it."""
    REFUSED = "refused"
    """Not done, for safety, or because the device would not."""
    NO_ANSWER = "no-answer"
    """The device never gave the occasion."""


@dataclass(frozen=True, slots=True)
class Happening:
    """One thing that happened on the way, in a sentence."""

    at: float
    text: str


FOLLOW_S = 20.0
"""How long a device is waited for at its new address once everything was said to it, beside what its kind takes to
start."""


class Way(machine.Machine):
    """One method of setting a device's address, for one MAC address and one target."""

    name: str
    gives: bool
    """Whether it writes the values itself and the device confirms them, or somebody is to type them."""
    wrote: tuple[str, ...] | None = None
    """Which of mask, gateway and dns it writes beside the address; None for all."""
    shown_key: str | None = None
    """The key by which the far end of its conversation can be known again."""
    permanent: bool | None
    """Whether what this way sets survives a power cycle; None where that depends on the device."""
    wants_log_in = False
    """Whether the device has refused for want of a log-in, or of the right one."""
    only_looks = False
    """Whether it has not begun yet: nothing has been told to the device."""

    def __init__(
        self,
        mac: addresses.MacAddress,
        target: Target,
        *,
        laptop_mac: addresses.MacAddress,
        ours: Collection[IPv4Address],
        now: float,
        was: IPv4Address | None = None,
        landings: Iterable[IPv4Address] = (),
    ) -> None:
        super().__init__()
        self.mac = mac
        self.target = target
        self._laptop_mac = laptop_mac
        self._tracker = Tracker(
            laptop_mac, mac, ours, meant=target.interface.ip, was=was, landings=landings, sees_coming=was is not None
        )
        self.steps: list[Happening] = []
        self.result: Result | None = None
        self.because = ""
        self._started_at = now
        self._has_sent = False

    @property
    def has_acted(self) -> bool:
        """Whether it has told the device something."""
        return self._has_sent

    @property
    def has_changed(self) -> bool:
        """Whether the device took something of what it was told, though not all."""
        return self.result in (Result.TAKEN, Result.SENT)

    def _send(self, data: bytes) -> None:
        self._has_sent = True
        super()._send(data)

    def drop(self) -> list[machine.Effect]:
        """End without its result: what was told by then may have been taken, and the record says so."""
        if not self.done:
            at = self.steps[-1].at if self.steps else self._started_at
            if self.has_acted:
                self._finish(
                    Result.SENT,
                    phrase("Stopped before the end: the device may have taken what it was told by then."),
                    at,
                )
            else:
                self._finish(Result.NO_ANSWER, phrase("Stopped before the device was told anything."), at)
        return self.poll()

    @property
    def done(self) -> bool:
        return self.result is not None

    @property
    def waits_for(self) -> str:
        """What the way waits for now, as a sentence for the technician."""
        return ""

    @property
    def wants_power(self) -> bool:
        """Whether the device's power is to be pulled and put back now."""
        return False

    @property
    def moved_to(self) -> IPv4Address | None:
        """Where the device is now, if it has left its old address for another than the planned one."""
        return None

    def end_elsewhere(self) -> None:
        """End, because the device is at a wrong address now and has to be reached there first."""
        last = self.steps[-1] if self.steps else None
        self.result, self.because = Result.SENT, last.text if last else ""

    @property
    def children(self) -> list[machine.Machine]:
        return [self._tracker]

    def close(self, now: float) -> None:
        """End the way now, with the result that it has come to."""
        if not self.done:
            self._finish(Result.NO_ANSWER, phrase("The device gave no chance to set it in the time given."), now)

    def _note(self, text: str, now: float) -> None:
        self.steps.append(Happening(now, text))

    def _finish(self, result: Result, because: str, now: float) -> None:
        self.result, self.because = result, because
        self._note(because, now)

    def _not_come(self, now: float) -> None:
        """End, because it did not come to its new address; say where it is instead."""
        there = self._tracker.moved_to or (None if self._tracker.has_left else self._tracker.was)
        where = (
            phrase("it is at {there}", there=there) if there else phrase("it does not answer anywhere: power-cycle it")
        )
        text = phrase(
            "All settings were sent, but the device is not at {ip}: {where}.", ip=self.target.interface.ip, where=where
        )
        self._finish(Result.SENT, text, now)

    def _proxy_sentence(self) -> str:
        return phrase(
            "{mac} answers for addresses that are not its own, so its answers show nothing. Look on "
            "its display, or connect straight to the device.",
            mac=self.mac,
        )
