"""What every proof has in common, and running several at once."""

from collections.abc import Collection, Iterable, Mapping
from dataclasses import dataclass, field
from ipaddress import IPv4Address, IPv4Interface

from askport.core import addresses, channels, machine, wire
from askport.core.formats.packet import Ends
from askport.core.phrases import phrase
from askport.core.proofs.verdict import Outcome, verdict_of

ATTEMPTS = 3
"""Questions before "no answer": some stacks drop the packet for which they first have to ask by ARP."""
INTERVAL_S = 0.4
"""Between questions; the last one waits as long for its answer."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Subject:
    """Who is proven, and from where."""

    mac: addresses.MacAddress
    at: IPv4Interface
    laptop_mac: addresses.MacAddress
    laptop: IPv4Interface
    """The laptop's address in the device's subnet: questions come from it, and the laptop answers ARP for it."""
    laptop_macs: Collection[addresses.MacAddress] = ()
    """Every MAC address of the laptop on this cable, those of its other places too."""

    @property
    def ends(self) -> Ends:
        """From the laptop straight to this device's MAC, so that no neighbour entry can lead elsewhere."""
        return Ends(src_mac=self.laptop_mac, src=self.laptop.ip, dst_mac=self.mac, dst=self.at.ip)


@dataclass(frozen=True, slots=True, kw_only=True)
class Expected:
    """What a device's final state must be, beside its address."""

    gateway: IPv4Address | None = None
    plans_gateway: bool = True
    """Whether ``gateway`` is planned; False where nothing is said about it."""
    dns: tuple[IPv4Address, ...] | None = None
    """None where nothing is said about them."""
    left: Collection[IPv4Address] = ()
    """Addresses that it must have left."""
    ports: Iterable[int] = ()
    echo: bool = True
    page: int | None = None
    """The port of its page, where it is known to have one."""
    title: str = ""
    """The title that its page was found with, where that is known."""
    name: str = ""
    """What it was told to be called; empty where nothing told it."""
    columns: Mapping[str, str] = field(default_factory=dict)
    """Whatever else the plan says of it, by the heads of its columns."""


class Proof(machine.Machine):
    """One check of the final state."""

    name: str
    """A stable word; with the port or another detail where there can be several."""
    expected: str
    """In plain words, as the screen shows it."""

    def __init__(self) -> None:
        super().__init__()
        self.measured = ""
        """What was found, empty while nothing was."""
        self.passed: bool | None = None
        self.not_made = False
        """Whether it turned out that it cannot be made here."""
        self.because = ""

    @property
    def done(self) -> bool:
        """Whether it passed or failed, or cannot be made."""
        return self.passed is not None or self.not_made

    @property
    def outcome(self) -> Outcome:
        """The outcome; a proof that was not finished has not passed."""
        return Outcome(
            name=self.name,
            expected=self.expected,
            measured=self.measured or phrase("nothing yet"),
            passed=None if self.not_made else bool(self.passed),
            because=self.because or phrase("The check was stopped before its end."),
        )

    def _end(self, passed: bool, measured: str, because: str) -> None:
        self.passed, self.measured, self.because = passed, measured, because

    @property
    def watches_until(self) -> float | None:
        """Until when what it has come to may still be overturned; None where it may not."""
        return None

    def watch(self, heard: wire.Heard) -> None:
        """See, after it is done and while others go on, what overturns it."""

    def begin(self, now: float) -> None:
        """Take in that what stands before it is done, where it waits for that."""

    def cannot_be_made(self, because: str) -> None:
        """End without a verdict: the record names it as not made."""
        self.passed, self.not_made, self.measured, self.because = None, True, phrase("not made"), because


class Repeated(Proof):
    """A proof that asks the same question a few times."""

    def __init__(self, *, now: float) -> None:
        super().__init__()
        self.asked = 0
        self.ran_out = False
        """Whether all questions had their time, and nothing decided it before."""
        self._next_at = now

    def next_deadline(self) -> float | None:
        return None if self.done else self._next_at

    def handle_timer(self, now: float) -> None:
        """Ask, or conclude when the last question has had its time."""
        if self.done or now < self._next_at:
            return
        if self.asked == ATTEMPTS:
            self.ran_out = True
            self.conclude(now)
            return
        self.ask(now)
        self.asked += 1
        self._next_at = now + INTERVAL_S

    def ask(self, now: float) -> None:
        """Send the question once."""
        raise NotImplementedError

    def conclude(self, now: float) -> None:
        """Decide, all questions having had their time."""
        raise NotImplementedError


class Proving(machine.Machine):
    """Several proofs at once, and those that need a quiet wire after them."""

    def __init__(self, proofs: Iterable[Proof], then: Iterable[Proof] = ()) -> None:
        super().__init__()
        self._first, self._then = list(proofs), list(then)
        self.proofs = [*self._first, *self._then]
        self._begun = False
        self._now = float("-inf")

    @property
    def done(self) -> bool:
        """Whether each has come to its end, and none may be overturned any more."""
        return all(proof.done for proof in self.proofs) and self._now >= (self._watches_until or self._now)

    @property
    def passed(self) -> bool:
        """Whether all that could be made have passed, and at least one could."""
        return verdict_of(proof.outcome for proof in self.proofs).nothing_failed

    @property
    def _watches_until(self) -> float | None:
        return max((each.watches_until for each in self.proofs if each.watches_until is not None), default=None)

    @property
    def children(self) -> list[Proof]:
        return [proof for proof in (self.proofs if self._begun else self._first) if not proof.done]

    def receive(self, heard: wire.Heard) -> None:
        """Let each see the frame, those that are done too."""
        self._now = max(self._now, heard.at)
        for proof in self.proofs:
            if proof.done:
                proof.watch(heard)
        super().receive(heard)

    def channel_event(self, event: channels.ChannelEvent, now: float) -> None:
        self._now = max(self._now, now)
        super().channel_event(event, now)

    def handle_timer(self, now: float) -> None:
        self._now = max(self._now, now)
        if not self._begun and all(proof.done for proof in self._first):
            self._begun = True
            for proof in self._then:
                proof.begin(now)
        super().handle_timer(now)

    def poll(self) -> list[machine.Effect]:
        """Return what is to be done now, by those too that have just ended: they close what they opened."""
        for proof in self.proofs:
            self._effects += proof.poll()
        return super().poll()

    def drop(self) -> list[machine.Effect]:
        return [*super().drop(), *(effect for proof in self.proofs for effect in proof.drop())]

    def next_deadline(self) -> float | None:
        """Return the first of their deadlines; those that come after the others begin at once."""
        running = self.children
        if not self._begun and self._then and not running:
            return self._now
        return super().next_deadline() if running else self._watches_until
