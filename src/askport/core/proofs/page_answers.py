"""Proof that the device's page is there, with the title that it had."""

from askport.core.channels import ChannelEvent, Closed, Fetch, Fetched, HttpPort, PageCall
from askport.core.finding.page_title import title_of
from askport.core.phrases import phrase
from askport.core.proofs.proof import Proof, Subject

PAGE_PORTS = {80: False, 443: True, 8080: False, 8443: True}
"""Ports on which pages are, with whether they are secured."""
_LONGEST_S = 8.0


class PageAnswers(Proof):
    """Its page is asked for once, where it was shown who is at the address; a port without a page proves nothing."""

    name = "page"

    def __init__(self, subject: Subject, port: int, title: str, shown: Proof, *, now: float) -> None:
        """Wait until ``shown`` has shown that it is this device at this address.

        Args:
            port: where its page is.
            title: the title that it was found with, or an empty text where that is not known.
        """
        super().__init__()
        self.expected = (
            phrase("web page titled '{title}'", title=title) if title else phrase("web page on port {port}", port=port)
        )
        self._title, self._shown, self._now = title, shown, now
        self._call = PageCall(HttpPort(subject.at.ip, port, PAGE_PORTS.get(port, False)), "GET", "/")
        self._until: float | None = None

    def handle_timer(self, now: float) -> None:
        self._now = now
        if self.done or not self._shown.done:
            return
        if not self._shown.passed:
            self.cannot_be_made(phrase("Not tried: nothing shows who is at its address."))
        elif self._until is None:
            self._until = now + _LONGEST_S
            self._effects.append(Fetch(self._call))
        elif now >= self._until:
            self.cannot_be_made(phrase("No page came within {longest_s:.0f} s.", longest_s=_LONGEST_S))

    def channel_event(self, event: ChannelEvent, now: float) -> None:
        if self.done or event.channel is not self._call:
            return
        match event:
            case Closed(_, because):
                self.cannot_be_made(phrase("No page came: {because}.", because=because or "it ended the connection"))
            case Fetched(_, status, text):
                title = title_of(text)
                said = f"'{title}'" if title else phrase("status {status}, without a title", status=status)
                if self._title and title and title != self._title:
                    self._end(
                        False,
                        said,
                        phrase(
                            "Its page is titled {said}, and was '{title}' as it was found.",
                            said=said,
                            title=self._title,
                        ),
                    )
                else:
                    self._end(True, said, phrase("Its page answered (HTTP)."))

    def next_deadline(self) -> float | None:
        if self.done:
            return None
        return self._until if self._until is not None else self._now if self._shown.done else None
