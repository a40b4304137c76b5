"""A lesson on a console: the lines that were sent, with the prompt before each; secrets and corrections left out."""

import re
from collections.abc import Sequence
from dataclasses import dataclass, field
from ipaddress import AddressValueError, IPv4Address, IPv4Interface

from askport.core.addresses import prefix_of_mask
from askport.core.lessons.values import Stood
from askport.core.plan.target import Target
from askport.core.text import display_text

_MOST_HEARD = 4_000
"""Characters since the last line, of which the end is the prompt."""
_MOST_LINES = 200
_LONGEST = 300
_LONGEST_PROMPT = 24
_ESCAPES = re.compile(r"\x1b(?:\[[0-?]*[ -/]*[@-~]|[@-Z\\-_])")
_SECRET = re.compile(r"pass|secret|\bpin\b|kennwort", re.IGNORECASE)
_PAGES = re.compile(r"-+\s*more\s*-+\s*$|press any key\W*$|\(q\)uit\W*$", re.IGNORECASE)
_LOOKS = re.compile(r"(?:show|sh|display|get|list|print|ls|help|\?|ping)\b", re.IGNORECASE)
_LEAVES = re.compile(r"(?:exit|quit|logout|bye|end)\s*$", re.IGNORECASE)
_KEEPS = re.compile(r"(?:save|write|wr|commit|copy\s+run|store|keep)\b", re.IGNORECASE)
_RESTARTS = re.compile(r"(?:reboot|reload|restart|reset)\b", re.IGNORECASE)
_ADDRESS = re.compile(r"(?<![\d.])\d{1,3}(?:\.\d{1,3}){3}(?![\d.])")


@dataclass(frozen=True, slots=True)
class Typed:
    """One line that was sent."""

    prompt: str
    """What stood before it."""
    text: str
    """Empty where it was a secret."""
    is_secret: bool


class Listening:
    """Hears both ends of a console, byte by byte, and keeps the lines."""

    def __init__(self) -> None:
        self._lines: list[Typed] = []
        self._heard = ""
        self._line = ""
        self._echo_from = 0
        self._pending: tuple[str, str] | None = None
        """The last line with its prompt, of which it is not known yet whether the device says it back."""

    def said(self, data: bytes) -> None:
        """Take what was typed; what was taken back is not part of the line."""
        for character in data.decode("utf-8", "replace"):
            if character in "\r\n":
                self._end_line()
            elif character in "\x08\x7f":
                self._line = self._line[:-1]
            elif character == "\x15":
                self._line = ""
            elif not self._line and (character == " " or _PAGES.search(self._heard[-40:])):
                continue  # turns a page
            elif character.isprintable() and len(self._line) < _LONGEST:
                if not self._line:
                    self._echo_from = len(self._heard)
                self._line += character

    def heard(self, data: bytes) -> None:
        """Take what the device said."""
        text = _ESCAPES.sub("", data.decode("utf-8", "replace"))
        self._heard += text
        if len(self._heard) > _MOST_HEARD:
            cut = len(self._heard) - _MOST_HEARD
            self._heard, self._echo_from = self._heard[cut:], max(0, self._echo_from - cut)

    @property
    def lines(self) -> list[Typed]:
        """The lines so far."""
        self._settle(self._heard)
        return list(self._lines)

    def _end_line(self) -> None:
        line, self._line = self._line.strip(), ""
        if not line:
            return
        before, echo = self._heard[: self._echo_from], self._heard[self._echo_from :]
        self._settle(before)
        prompt = re.split(r"[\r\n]", before.rstrip(" "))[-1].strip() if before else ""
        if line[:1] in echo and not _SECRET.search(prompt) and "*" * len(line) not in echo:
            self._add(Typed(display_text(prompt, 200), line, False))
        else:
            self._pending = line, display_text(prompt, 200)
        self._heard, self._echo_from = "", 0

    def _settle(self, after: str) -> None:
        """Decide of the last line: a device that says it back once it is whole is no secret's."""
        if self._pending:
            (line, prompt), self._pending = self._pending, None
            shown = line in after[: 2 * _LONGEST] and not _SECRET.search(prompt)
            self._add(Typed(prompt, line if shown else "", not shown))

    def _add(self, typed: Typed) -> None:
        if len(self._lines) < _MOST_LINES:
            self._lines.append(typed)


@dataclass(slots=True)
class ConsoleLesson:
    """What was learned; ``why_not`` says why nothing was."""

    login: list[dict[str, str]] = field(default_factory=list)
    set: list[dict[str, str]] = field(default_factory=list)
    keep: list[dict[str, str]] = field(default_factory=list)
    restart: list[dict[str, str]] = field(default_factory=list)
    stood: list[Stood] = field(default_factory=list)
    target: Target | None = None
    why_not: str = ""

    @property
    def words(self) -> str:
        """What it is, in a few words."""
        lines = [*self.login, *self.set, *self.keep, *self.restart]
        secrets = sum("{password}" in each["send"] or "{user}" in each["send"] for each in lines)
        asked = f", {secrets} secret{'' if secrets == 1 else 's'} asked for" if secrets else ""
        values = f"{len(self.stood)} value{'' if len(self.stood) == 1 else 's'} put in"
        return f"{len(lines)} line{'' if len(lines) == 1 else 's'}, {values}{asked}"


def learn_lines(lines: Sequence[Typed], target: Target | None = None, name: str = "") -> ConsoleLesson:
    """Return what the lines of one session teach.

    Args:
        lines: as they were sent.
        target: what the unit became, where that is known; else it is read out of the lines.
        name: what it is called, or an empty text.
    """
    lesson = ConsoleLesson(target=target or _meant(lines))
    last_secret = max((place for place, each in enumerate(lines) if each.is_secret), default=-1)
    for place, line in enumerate(lines):
        step = {"expect": _expect(line.prompt) or "\n"}
        if line.is_secret:
            lesson.login.append({**step, "send": "{password}"})
            continue
        text = _with_placeholders(line.text, lesson, name) if lesson.target else line.text
        follows = lines[place + 1] if place + 1 < len(lines) else None
        if place < last_secret and follows and follows.is_secret and text == line.text and line.prompt.endswith(":"):
            lesson.login.append({**step, "send": "{user}"})
        elif place < last_secret:
            lesson.login.append({**step, "send": text})
        elif _LEAVES.match(text) or (_LOOKS.match(text) and text == line.text):
            continue
        elif _KEEPS.match(text):
            lesson.keep.append({**step, "send": text})
        elif _RESTARTS.match(text):
            lesson.restart.append({**step, "send": text})
        else:
            lesson.set.append({**step, "send": text})
    if not lesson.stood and not lesson.keep:
        lesson.why_not = "No line told the device an address: nothing can be learned from it."
    return lesson


def _expect(prompt: str) -> str:
    """Return what of a prompt is the same at every unit: a question whole, of a shell its last character."""
    if prompt[-1:] in "#>$%" and len(prompt) > 1 and prompt[-2] not in " ":
        return prompt[-1]
    return prompt[-_LONGEST_PROMPT:]


def _meant(lines: Sequence[Typed]) -> Target | None:
    """Return what lines mean a device to become, by their words."""
    interface, gateway, dns = None, None, list[IPv4Address]()
    for line in lines:
        addresses = [found for text in _ADDRESS.findall(line.text) if (found := _plain(text)) is not None]
        real = [each for each in addresses if int(each)]
        if not real:
            continue
        if re.search(r"dns|name.?serv", line.text, re.IGNORECASE):
            dns += real
        elif re.search(r"gateway|router|route|\bgw\b", line.text, re.IGNORECASE) and interface is not None:
            gateway = next((each for each in reversed(real) if prefix_of_mask(each) in (None, 0)), gateway)
        elif interface is None and (known := _interface(line.text, real)):
            interface, rest = known
            gateway = rest[0] if rest else gateway
    return Target(interface=interface, gateway=gateway, dns=tuple(dns)) if interface else None


def _interface(text: str, addresses: Sequence[IPv4Address]) -> tuple[IPv4Interface, list[IPv4Address]] | None:
    """Return an address with its mask or prefix, and the other addresses of the line."""
    address = addresses[0]
    masks = [each for each in addresses[1:] if (prefix_of_mask(each) or 0) >= 8]
    prefix = prefix_of_mask(masks[0]) if masks else None
    if prefix is None and (found := re.search(rf"{re.escape(str(address))}\s*/\s*(\d{{1,2}})\b", text)):
        prefix = int(found[1]) if int(found[1]) <= 32 else None
    if prefix is None:
        return None
    return IPv4Interface((int(address), prefix)), [each for each in addresses[1:] if each not in masks]


def _plain(text: str) -> IPv4Address | None:
    try:
        return IPv4Address(text)
    except AddressValueError:
        return None


def _with_placeholders(text: str, lesson: ConsoleLesson, name: str) -> str:
    target = lesson.target
    if target is None:
        return text
    values = {target.interface.ip: "address", target.interface.netmask: "mask"}
    values |= {each: f"dns{place}" for place, each in enumerate(target.dns[:3], 1)}
    values |= {target.gateway: "gateway"} if target.gateway else {}

    def put(found: re.Match[str]) -> str:
        address = _plain(found[0])
        key = values.get(address) if address else None
        if key is None:
            return found[0]
        lesson.stood.append(Stood(f"{{{key}}}", found[0], text))
        return f"{{{key}}}"

    made = _ADDRESS.sub(put, text)
    made, count = re.subn(rf"(\{{address\}}\s*/\s*){target.interface.network.prefixlen}\b", r"\1{prefix}", made)
    lesson.stood += [Stood("{prefix}", str(target.interface.network.prefixlen), text)] * count
    if name and re.search(rf"(?<!\S){re.escape(name)}(?!\S)", made):
        made = re.sub(rf"(?<!\S){re.escape(name)}(?!\S)", "{name}", made)
        lesson.stood.append(Stood("{name}", name, text))
    return made
