"""Page: the requests of its kind to the device's own page, followed to the new address."""

from collections.abc import Mapping
from dataclasses import replace

from askport.core.channels import HttpPort
from askport.core.kinds.model import Kind, PageWay
from askport.core.phrases import phrase
from askport.core.ways import conversation, page_talk, talking
from askport.core.ways.start import Start


def page_of(by: PageWay, start: Start) -> HttpPort:
    """Return where a kind's page is.

    Raises:
        ValueError: it is not known where the device is.
    """
    if start.talks_at is None:
        raise ValueError(phrase("a page is reached where the device is"))
    secure = by.scheme == "https"
    number = start.port or by.port or (443 if secure else 80)
    return HttpPort(start.talks_at, number, secure, start.log_in.user, start.log_in.password)


def read_page(by: PageWay, start: Start) -> page_talk.PageTalk | None:
    """Return what reads its settings on its page, or None where its kind does not say how.

    Raises:
        ValueError: it is not known where the device is.
        BadInput: what it is entered with was not given.
    """
    if not by.read:
        return None
    steps, values = [*by.login, *by.read], start.log_in.values
    page_talk.shown_steps(steps, values)  # what is missing is said before anything is sent
    return page_talk.PageTalk(page_of(by, start), steps, values)


class Page(talking.Talking):
    """Sends the requests of its kind, and sees the device move."""

    name = "page"
    what = "page"

    def __init__(self, start: Start, kind: Kind, by: PageWay, values: Mapping[str, str]) -> None:
        """Begin with the first request; ``values`` is what the placeholders stand for.

        Raises:
            ValueError: it cannot be reached, before and after.
        """
        self._page, self._values = by, {**values, **start.log_in.values}
        super().__init__(start, kind, by, [text for step in by.set for text in step.texts])

    def _set(self) -> conversation.Conversation:
        return page_talk.PageTalk(page_of(self._page, self._start), [*self._page.login, *self._page.set], self._values)

    def _read(self, now: float) -> conversation.Conversation | None:
        return read_page(self._page, replace(self._start, now=now))
