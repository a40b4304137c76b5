"""What is set on its own page."""

from collections.abc import Mapping

from askport.bench import pages, person_at_browser, stand_in
from askport.core.addresses import MacAddress
from askport.core.lessons.exchange import Exchange
from askport.core.plan.target import Target


class PageDevice(stand_in.StandIn):
    """Takes the new settings after a short restart, which it makes by itself, and keeps them."""

    boot_s = 5.0
    hand = "page"
    title = "Settings"
    """Of its page."""
    by_octets = False
    """Whether its page has four fields for an address."""
    restart_s = 2.0
    says_saved = "Saved. It restarts."
    answers_for_s = 0.5
    """How long it stays up after saving, so that its page can answer."""

    def __init__(self, mac: MacAddress, factory: stand_in.Settings) -> None:
        super().__init__(mac, factory)
        self._page = pages.SettingsPage(self.title, by_octets=self.by_octets)
        self._down_at: float | None = None
        self._now = 0.0
        self.passed: list[Exchange] = []
        """What passed when somebody filled in its page."""

    def power(self, on: bool, now: float) -> None:
        """Pull its power, or put it back."""
        super().power(on, now)
        self._down_at = None

    def started(self, now: float) -> list[bytes]:
        super().started(now)
        self.host.ports = (80,)
        return self.host.announce()

    def tick(self, now: float) -> list[bytes]:
        """Restart after saving, or do what is due."""
        if self._down_at is None or now < self._down_at:
            return super().tick(now)
        self._restart(now)
        return []

    def _restart(self, now: float) -> None:
        self._down_at, self.up = None, False
        self.host.take(None, None)
        self._up_at = self.next_at = now + self.restart_s

    def talk(self, port: int) -> stand_in.Talk | None:
        """Offer its page."""
        return pages.WebTalk(self._serve) if port == 80 else None

    def receive(self, data: bytes, now: float) -> list[bytes]:
        self._now = now
        return super().receive(data, now)

    def _serve(self, method: str, path: str, fields: Mapping[str, str]) -> pages.Answer | None:
        shown = stand_in.Settings(self.host.interface, self.host.gateway, self.saved.dns)
        return self._page.serve(method, path, fields, shown, self.save)

    def save(self, settings: stand_in.Settings) -> pages.Answer | None:
        """Take what its form says; return what the page answers, or None where the connection is lost."""
        self.saved = settings
        self._down_at = self.next_at = self._now + self.answers_for_s
        return pages.Answer(200, self.says_saved)

    def type_in(self, target: Target, now: float, *, over_the_cable: bool) -> str:
        """Fill in its page, as a person does; at saving it restarts with the new settings."""
        self._need_page(over_the_cable)
        self._now = now
        self.passed = person_at_browser.fill_in(lambda: pages.WebTalk(self._serve), pages.SETS_AT, target, now)
        if self._down_at is not None:
            self._restart(now)
        return self.says_saved
