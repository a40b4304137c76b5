"""Requests to a device's own page, one after the other: statuses, what is to be found, where it sends the browser."""

from collections.abc import Mapping, Sequence
from ipaddress import AddressValueError, IPv4Address
from urllib.parse import urlsplit

import regex

from askport.core.channels import ChannelEvent, Closed, Fetch, Fetched, HttpPort, PageCall
from askport.core.errors import BadInput
from askport.core.finding.page_title import ASKS_LOG_IN
from askport.core.kinds import model, placeholders
from askport.core.lessons.exchange import searched
from askport.core.phrases import phrase
from askport.core.text import display_text
from askport.core.ways.conversation import Ended
from askport.core.ways.step_talk import StepTalk

_FINDS_S = 0.5
_REDIRECTS = frozenset({301, 302, 303, 307, 308})


class PageTalk(StepTalk[model.PageStep]):
    """One set of requests."""

    def __init__(self, far: HttpPort, steps: Sequence[model.PageStep], values: Mapping[str, str]) -> None:
        """Send the first request.

        Args:
            steps: the requests, in order.
        """
        super().__init__(steps, values)
        self._far, self._total = far, len(steps)
        self._page = "/"
        """The page that the browser would be on, as it would say in a Referer."""
        self._call: PageCall | None = None
        self._say(0.0)

    def _say(self, now: float) -> None:
        step = self._steps[0]
        fields = step.form or step.json_
        values = {**self._values, **self._found}
        try:
            path = placeholders.fill(step.place, values)
            headers = {name: placeholders.fill(text, values) for name, text in (step.headers or {}).items()}
            body = (placeholders.fill(step.body, values), step.type_ or "") if step.body is not None else None
            filled = {key: placeholders.fill(text, values) for key, text in fields.items()} if fields else None
        except BadInput as error:
            self._finish(Ended.SILENT, error.message.rstrip("."))
            return
        if not model.is_own_place(path) or not all(each.isprintable() and each.isascii() for each in headers.values()):
            self._finish(Ended.REFUSED, phrase("what its page said leads to another host, or is no header"))
            return
        as_json = step.json_ is not None
        headers = {**self._as_browser(step), **headers}
        self._call = PageCall(self._far, step.method, path, filled, as_json=as_json, body=body, headers=headers)
        self._page = path if step.get is not None else self._page
        self._goes_out(f"{self._call.method} {display_text(self._blanked(path), 60)}", changes=step.get is None)
        self._effects.append(Fetch(self._call))

    def _as_browser(self, step: model.PageStep) -> dict[str, str]:
        """Return what a browser would say of where it is (RFC 9110 section 10.1.3, RFC 6454 section 7)."""
        usual = 443 if self._far.secure else 80
        host = self._far.host if self._far.port == usual else str(self._far)
        origin = f"http{'s' if self._far.secure else ''}://{host}"
        said = {"Referer": f"{origin}{self._page}"} if self.spoken else {}
        return said if step.get is not None else {**said, "Origin": origin}

    def channel_event(self, event: ChannelEvent, now: float) -> None:
        if self.done or event.channel is not self._call:
            return
        spoken, step, last = self.spoken[-1], self._steps[0], self.has_said_all
        before = len(self.spoken) - 1
        match event:
            case Closed(_, because):
                told = "“{text}” was not answered, after {before} of {total} requests: {because}"
                told = told if before else "“{text}” was not answered: {because}"
                ended = Ended.CLOSED if before or last else Ended.UNREACHED
                self._finish(
                    ended,
                    phrase(told, text=spoken.text, before=before, total=self._total, because=because),
                )
            case Fetched(_, status, text, location, key):
                text = searched(text, event.headers)
                self.key = key or self.key
                elsewhere = self._elsewhere(location) if status in _REDIRECTS else None
                if elsewhere is not None and last:
                    self._answered(now, answer=phrase("it sends the browser to {elsewhere}", elsewhere=elsewhere))
                elif status not in step.status and status in ASKS_LOG_IN:
                    self.wants_log_in = True
                    lacks = phrase("it does not take this log-in") if self._far.user else phrase("it asks for a log-in")
                    self._finish(
                        Ended.REFUSED,
                        phrase("{lacks} ({status} to “{text}”)", lacks=lacks, status=status, text=spoken.text),
                    )
                elif status not in step.status:
                    self._finish(
                        Ended.REFUSED, phrase("it answered {status} to “{text}”", status=status, text=spoken.text)
                    )
                elif step.find and not self._find(step.find, text):
                    what = display_text(_missing(step.find, text), 60)
                    self._finish(
                        Ended.REFUSED,
                        phrase("it has no “{what}”: it may want a log-in, or be another version", what=what),
                    )
                else:
                    self._answered(now, answer=phrase("answered with {status}", status=status))

    def _elsewhere(self, location: str | None) -> IPv4Address | None:
        try:
            host = urlsplit(location or "").hostname
            address = IPv4Address(host) if host else None
        except (AddressValueError, ValueError):
            return None
        return address if address != self._far.address else None


def _missing(find: str, text: str) -> str:
    """Return what of an expression is not in a text, by the names that it gives; all of it where it gives none."""
    pieces = [f"(?:{each}" for each in find.split("(?=.*?")[1:]] or [find]
    for piece in pieces:
        try:
            pattern = regex.compile(piece)
            if pattern.groupindex and not pattern.search(text, timeout=_FINDS_S):
                return ", ".join(each.removeprefix("has_") for each in pattern.groupindex)
        except (regex.error, TimeoutError):
            return find  # a part of it is no expression alone, or takes for ever
    return find


def shown_steps(steps: Sequence[model.PageStep], values: Mapping[str, str]) -> list[str]:
    """Return the requests as they will go, with secrets blanked; what a page has to tell first stays in braces.

    Raises:
        BadInput: a placeholder has no value.
    """
    shown, found = [], set[str]()
    for step in steps:
        known = {**values, **{each: f"{{{each}}}" for each in found}}
        if placeholders.SECRET in known:
            known[placeholders.SECRET] = placeholders.BLANK
        fields = {**(step.headers or {}), **(step.form or {}), **(step.json_ or {})}
        filled = " ".join(f"{key}={placeholders.fill(text, known)}" for key, text in fields.items())
        filled += " ".join(placeholders.fill(step.body, known).split()) if step.body else ""
        shown.append(f"{step.method} {placeholders.fill(step.place, known)} {filled}".rstrip())
        found |= set(regex.compile(step.find).groupindex) if step.find else set()
    return shown
