"""Proof that its DNS servers are the planned ones: it says so itself, or was heard asking them."""

from ipaddress import IPv4Address

from askport.core.channels import ChannelEvent
from askport.core.proofs.calls import Calls
from askport.core.proofs.own_word_proof import ReadsBack
from askport.core.proofs.proof import Proof
from askport.core.text import listed
from askport.core.wire import Heard


class DnsAsPlanned(Proof):
    """Nothing is asked for it: which servers a device has is seen in its own word and in its own questions only."""

    name = "dns"

    def __init__(self, planned: tuple[IPv4Address, ...], own_word: ReadsBack | None, calls: Calls | None) -> None:
        """Wait for its own word.

        Args:
            planned: its servers, in their order.
            own_word: what it says itself, where that is read.
            calls: whom it calls after its power cut, where that is listened for.
        """
        super().__init__()
        self._planned, self._own_word, self._calls = planned, own_word, calls
        self.expected = f"its DNS servers: {_row(planned)}"

    def settle(self) -> None:
        """Take in whom it was heard calling by now, where it does not say itself which servers it has."""
        if self.not_made and self._calls and self._calls.dns_called:
            asked = listed(self._calls.dns_called)
            self.not_made = False
            self._end(bool(self._calls.passed), f"asks {asked}", f"It asks {asked} for names by itself.")

    def receive(self, heard: Heard) -> None:
        """Conclude once there is something to go by."""
        self._conclude()

    def channel_event(self, event: ChannelEvent, now: float) -> None:
        """Conclude once there is something to go by."""
        self._conclude()

    def handle_timer(self, now: float) -> None:
        """Conclude once there is something to go by."""
        self._conclude()

    def begin(self, now: float) -> None:
        """Conclude, where there is nothing to wait for."""
        self._conclude()

    def _conclude(self) -> None:
        own = self._own_word
        if self.done or (own is not None and not own.done):
            return
        if own is None or own.said is None or "dns" not in own.said.said:
            self.cannot_be_made("Nothing has shown which DNS servers it uses: read its page, console or display.")
            return
        said = own.said.dns
        # Some say only their first.
        passed = bool(said) and said == self._planned[: len(said)]
        servers = _row(said) or "none"
        planned = "" if passed else f"; planned are {_row(self._planned)}"
        self._end(passed, servers, f"It says itself that its DNS servers are {servers}{planned}.")


def _row(servers: tuple[IPv4Address, ...]) -> str:
    return ", ".join(map(str, servers))
