"""Proof that a device itself says what is planned, on its console or page."""

from collections.abc import Callable
from ipaddress import IPv4Address

from askport.core import channels, wire
from askport.core.kinds.own_word import ReadBack, contradictions, read_back, words_of
from askport.core.phrases import phrase
from askport.core.proofs.proof import Expected, Proof, Subject
from askport.core.ways.conversation import Conversation, Ended

Reads = Callable[[float], Conversation]
"""Begins to read, at a moment."""


class ReadsBack(Proof):
    """What its console or page says is what was planned; read only where the device was shown to be itself."""

    name = "read-back"
    expected = phrase("settings read back")

    def __init__(self, reads: Reads, subject: Subject, expected: Expected, shown: Proof, *, now: float) -> None:
        """Wait until ``shown`` has shown that it is this device at this address, and read then."""
        super().__init__()
        self._reads, self._subject, self._expected, self._shown = reads, subject, expected, shown
        self._talk: Conversation | None = None
        self._now = now
        self.said: ReadBack | None = None

    @property
    def children(self) -> list[Conversation]:
        return [self._talk] if self._talk else []

    def receive(self, heard: wire.Heard) -> None:
        self._now = max(self._now, heard.at)
        if not self.done:
            super().receive(heard)
            self._conclude()

    def handle_timer(self, now: float) -> None:
        self._now = max(self._now, now)
        if self._talk is None and self._shown.done:
            if self._shown.passed:
                self._talk = self._reads(now)
            else:
                self.cannot_be_made(phrase("Not read: nothing shows who is at its address."))
        if not self.done:
            super().handle_timer(now)
            self._conclude()

    def channel_event(self, event: channels.ChannelEvent, now: float) -> None:
        if not self.done:
            super().channel_event(event, now)
            self._conclude()

    def next_deadline(self) -> float | None:
        """Return when to begin or to go on."""
        if self.done:
            return None
        return super().next_deadline() if self._talk else self._now if self._shown.done else None

    def _conclude(self) -> None:
        said = self._talk.said if self._talk else None
        if said is None:
            return
        if said.ended is not Ended.WELL:
            self.cannot_be_made(phrase("It could not be read: {because}.", because=said.because))
            return
        told = self.said = read_back(said.found)
        wrong = [*contradictions(told, self._subject.mac, self._subject.at.ip), *self._differing(told), *told.unread]
        because = " ".join(f"{each.rstrip('.')}." for each in wrong) or phrase("Read from the device itself.")
        self._end(not wrong and told.address is not None, words_of(told, called=bool(self._expected.name)), because)

    def _differing(self, told: ReadBack) -> list[str]:
        at, expected, found = self._subject.at, self._expected, []
        if told.prefix is not None and told.prefix != at.network.prefixlen:
            found.append(
                phrase(
                    "It says that its prefix is /{prefix}, planned is /{prefixlen}.",
                    prefix=told.prefix,
                    prefixlen=at.network.prefixlen,
                )
            )
        # Its own address stands for none where it insists on a gateway.
        gateways: set[IPv4Address | None] = {expected.gateway or at.ip, expected.gateway}
        if expected.plans_gateway and "gateway" in told.said and told.gateway not in gateways:
            found.append(
                phrase(
                    "It says that its gateway is {gateway}, planned is {gateway_2}.",
                    gateway=told.gateway or phrase("none"),
                    gateway_2=expected.gateway or phrase("none"),
                )
            )
        if expected.dns is not None and "dns" in told.said and told.dns != expected.dns[: max(len(told.dns), 1)]:
            said, meant = (", ".join(map(str, each)) or phrase("none") for each in (told.dns, expected.dns))
            found.append(
                phrase("It says that its DNS servers are {said}, planned are {meant}.", said=said, meant=meant)
            )
        if expected.name and told.name and told.name.casefold() != expected.name.casefold():
            found.append(
                phrase(
                    "It says that it is called {name}, and was told {expected_name}.",
                    name=told.name,
                    expected_name=expected.name,
                )
            )
        return found
