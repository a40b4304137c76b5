"""Proof that its DNS servers are the planned ones: it says so itself, or was heard asking them."""

from ipaddress import IPv4Address

from askport.core import channels, wire
from askport.core.phrases import listed, phrase
from askport.core.proofs.calls import Calls
from askport.core.proofs.own_word_proof import ReadsBack
from askport.core.proofs.proof import Proof


class DnsAsPlanned(Proof):
    """Nothing is asked for it: which servers a device has is seen in its own word and in its own questions only."""

    name = "dns"

    def __init__(self, planned: tuple[IPv4Address, ...], own_word: ReadsBack | None, calls: Calls | None) -> None:
        """Wait for its own word.

        Args:
            planned: its servers, in their order.
            own_word: what it says itself, where that is read.
            calls: whom it calls after its power cycle, where that is listened for.
        """
        super().__init__()
        self._planned, self._own_word, self._calls = planned, own_word, calls
        self._shown: tuple[IPv4Address, ...] = ()
        self.expected = phrase("DNS servers {row}", row=_row(planned))

    def settle(self) -> None:
        """Take in whom it was heard calling by now, where its own word leaves a server open."""
        if self.not_made and self._calls and self._calls.dns_called:
            self._judge(
                phrase("It asks {dns_called} for names by itself", dns_called=listed(self._calls.dns_called)),
                self._calls.dns_called,
            )

    def receive(self, heard: wire.Heard) -> None:
        self._conclude()

    def channel_event(self, event: channels.ChannelEvent, now: float) -> None:
        self._conclude()

    def handle_timer(self, now: float) -> None:
        self._conclude()

    def begin(self, now: float) -> None:
        """Conclude, where there is nothing to wait for."""
        self._conclude()

    def _conclude(self) -> None:
        own = self._own_word
        if self.done or (own is not None and not own.done):
            return
        if own is None or own.said is None or "dns" not in own.said.said:
            self.cannot_be_made(phrase("DNS servers not verified. Check them on its web page, console or display."))
            return
        servers = _row(own.said.dns) or phrase("none")
        told = phrase("It says itself that its DNS servers are {servers}", servers=servers)
        if own.said.dns == self._planned[: len(own.said.dns)] != ():
            self._judge(told, own.said.dns)  # some say only their first
        else:
            self._end(False, servers, phrase("{told}; planned are {row}.", told=told, row=_row(self._planned)))

    def _judge(self, told: str, shown: tuple[IPv4Address, ...]) -> None:
        """Pass where each planned server was shown, by its own word or by its calls, and no other."""
        self._shown, self.not_made = tuple(dict.fromkeys((*self._shown, *shown))), False
        if wrong := [each for each in self._shown if each not in self._planned]:
            self._end(
                False, _row(self._shown), phrase("{told}; {wrong} is not planned.", told=told, wrong=listed(wrong))
            )
        elif missing := [each for each in self._planned if each not in self._shown]:
            self.cannot_be_made(phrase("{told}; nothing has shown {missing}.", told=told, missing=listed(missing)))
        else:
            self._end(True, _row(self._shown), phrase("{told}.", told=told))


def _row(servers: tuple[IPv4Address, ...]) -> str:
    return ", ".join(map(str, servers))
