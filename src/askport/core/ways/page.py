"""Page: the requests of its kind to the device's own page, followed to the new address."""

from collections.abc import Mapping, Sequence
from ipaddress import AddressValueError, IPv4Address
from urllib.parse import urlsplit

import regex

from askport.core.channels import ChannelEvent, Closed, Fetch, Fetched, HttpPort, PageCall
from askport.core.errors import BadInput
from askport.core.finding.tracking import Sighting
from askport.core.kinds.model import Kind, PageStep, PageWay
from askport.core.kinds.placeholders import BLANK, SECRET, fill, wrote_by
from askport.core.machine import earliest
from askport.core.text import display_text
from askport.core.ways.start import Start
from askport.core.ways.way import FOLLOW_S, Result, Way
from askport.core.wire import Heard

_FIND_S = 0.5
_FIND_IN = 200_000
"""Characters of a page that are searched."""
_REDIRECTS = frozenset({301, 302, 303, 307, 308})


class Page(Way):
    """Sends the requests of its kind, and sees the device move."""

    name = "page"
    gives = True

    def __init__(self, start: Start, kind: Kind, by: PageWay, values: Mapping[str, str]) -> None:
        """Begin with the first request.

        Args:
            start: the device, its final settings, and what it is reached with.
            kind: its kind.
            by: the page of the kind.
            values: what the placeholders stand for.

        Raises:
            ValueError: it cannot be reached, before and after.
        """
        laptop, at = start.reached
        super().__init__(
            start.mac,
            start.target,
            laptop_mac=start.laptop_mac,
            ours=[laptop.ip],
            now=start.now,
            was=at,
            landings=start.landings,
        )
        self._kind, self._by, self._at = kind, by, at
        secure, log_in = by.scheme == "https", start.log_in
        number = start.port or by.port or (443 if secure else 80)
        self._far = HttpPort(at, number, secure, log_in.user, log_in.password)
        self._values = {**values, **log_in.values}
        self._steps = [*by.login, *by.set]
        self._place = 0
        self._call: PageCall | None = None
        self._follow_until: float | None = None
        self.wrote = wrote_by(text for step in by.set for text in step.texts)
        self.permanent = {"yes": True, "no": False}.get(by.permanent or "")
        self._ask(start.now)

    @property
    def moved_to(self) -> IPv4Address | None:
        """Where the device is now, if it has left its old address for another than the planned one."""
        return self._tracker.moved_to if self._follow_until is not None else None

    @property
    def waits_for(self) -> str:
        """What it waits for."""
        if self._follow_until is not None:
            return f"Waiting for it at {self.target.interface.ip}."
        return f"Filling in its page at {self._at}: step {self._place + 1} of {len(self._steps)}."

    def _ask(self, now: float) -> None:
        step = self._steps[self._place]
        fields = step.form or step.json_
        try:
            path = fill(step.get or step.post or "/", self._values)
            filled = {key: fill(text, self._values) for key, text in fields.items()} if fields else None
        except BadInput as error:
            self._finish(Result.NO_ANSWER, error.message, now)
            return
        self._call = PageCall(self._far, "POST" if step.post else "GET", path, filled, as_json=step.json_ is not None)
        self._effects.append(Fetch(self._call))
        if self._place == len(self._steps) - 1:
            self._tracker.look_from(now)  # it may move before it answers

    def channel_event(self, event: ChannelEvent, now: float) -> None:
        """Go on with the next request, or follow."""
        if self.done or self._call is None or event.channel is not self._call or self._follow_until is not None:
            return
        step, call = self._steps[self._place], self._call
        shown = f"{call.method} {display_text(self._blank(call.path), 60)}"
        last = self._place == len(self._steps) - 1
        match event:
            case Closed(_, because) if last:
                self._note(f"“{shown}”: {because}; it may have moved with that.", now)
                self._follow(now)
            case Closed(_, because):
                did = f"after {self._place} of {len(self._steps)} requests" if self._place else "at the first request"
                result = Result.SENT if self._place > len(self._by.login) else Result.NO_ANSWER
                self._finish(result, f"Its page at {self._at} was lost {did}, “{shown}”: {because}.", now)
            case Fetched(_, status, text, location):
                elsewhere = self._elsewhere(location)
                if elsewhere is not None and status in _REDIRECTS and last:
                    self._note(f"“{shown}”: it sends the browser to {elsewhere}.", now)
                    self._follow(now)
                elif status not in step.status:
                    self._finish(Result.REFUSED, f"Its page answered {status} to “{shown}”.", now)
                elif self._find(step, text, now):
                    self._note(f"“{shown}”: answered with {status}.", now)
                    self._place += 1
                    self._follow(now) if last else self._ask(now)

    def _elsewhere(self, location: str | None) -> IPv4Address | None:
        try:
            host = urlsplit(location or "").hostname
            address = IPv4Address(host) if host else None
        except (AddressValueError, ValueError):
            return None
        return address if address != self._at else None

    def _find(self, step: PageStep, text: str, now: float) -> bool:
        if step.find is None:
            return True
        try:
            match = regex.search(step.find, text[:_FIND_IN], timeout=_FIND_S)
        except (TimeoutError, regex.error):
            match = None
        if match is None:
            self._finish(Result.REFUSED, f"Its page has no “{display_text(step.find, 60)}”: it may want a log-in.", now)
            return False
        self._values |= {key: value for key, value in match.groupdict().items() if value is not None}
        return True

    def _blank(self, text: str) -> str:
        secret = self._values.get(SECRET)
        return text.replace(secret, BLANK) if secret else text

    def _follow(self, now: float) -> None:
        starts = self._kind.needs.boot_s or 0.0
        self._follow_until = now + FOLLOW_S + starts
        if self._by.takes_effect == "after restart":
            self._note("It uses them after a restart.", now)
        if self.target.interface.ip in self._tracker.seen:
            self._arrived(now)

    def receive(self, heard: Heard) -> None:
        """See where the device is."""
        if not self.done:
            self._tracker.receive(heard)
            self._see(heard.at)

    def _see(self, now: float) -> None:
        for seen in self._tracker.news():
            if self.done:
                return
            if seen.kind is Sighting.ARRIVED and self._place >= len(self._steps) - 1:
                self._arrived(now)
            elif seen.kind is Sighting.MOVED:
                self._note(f"It moved to {seen.address} instead of {self.target.interface.ip}.", seen.at)

    def _arrived(self, now: float) -> None:
        self._note(f"It moved: {self._at} to {self.target.interface.ip}, same MAC.", now)
        self._finish(Result.TAKEN, f"It holds {self.target.interface}.", now)

    def handle_timer(self, now: float) -> None:
        """Ask where the device is, and give up in the end."""
        if self.done:
            return
        self._tracker.handle_timer(now)
        self._see(now)
        if self._follow_until is not None and not self.done and now >= self._follow_until:
            self._not_come(now)

    def next_deadline(self) -> float | None:
        """Return when to ask next."""
        return None if self.done else earliest(self._tracker.next_deadline(), self._follow_until)


def shown_steps(steps: Sequence[PageStep], values: Mapping[str, str]) -> list[str]:
    """Return the requests as they will go, with secrets blanked; what a page has to tell first stays in braces.

    Raises:
        BadInput: a placeholder has no value.
    """
    shown, found = [], set[str]()
    for step in steps:
        known = {**values, **{each: f"{{{each}}}" for each in found}}
        if SECRET in known:
            known[SECRET] = BLANK
        fields = {**(step.form or {}), **(step.json_ or {})}
        filled = " ".join(f"{key}={fill(text, known)}" for key, text in fields.items())
        shown.append(f"{'POST' if step.post else 'GET'} {fill(step.get or step.post or '/', known)} {filled}".rstrip())
        found |= set(regex.compile(step.find).groupindex) if step.find else set()
    return shown
