"""A lesson on a console: the lines that were sent, with the prompt before each; secrets and corrections left out."""

import re
from collections.abc import Sequence
from dataclasses import dataclass, field
from ipaddress import AddressValueError, IPv4Address, IPv4Interface

from askport.core.addresses import prefix_of_mask
from askport.core.lessons.values import Stood
from askport.core.phrases import phrase, phrase_of
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
    """Hears both ends of one session on a console, byte by byte, and keeps the lines.

    ``at`` says where the console was, for a device that moved between two sessions.
    """

    def __init__(self, at: str = "") -> None:
        self.at = at
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
        """The lines so far; one that nothing was heard after is a line only where it told an address.

        A device that has moved says nothing back, and what is typed into a connection that is gone was told to nobody.
        """
        if not self._heard and self._pending and not _SECRET.search(self._pending[1]):
            line, prompt = self._pending
            return [*self._lines, *([Typed(prompt, line, False)] if _ADDRESS.search(line) else [])]
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


Step = dict[str, str]
"""A line as a kind file has it: what is expected before it, and what is sent."""


@dataclass(slots=True)
class ConsoleLesson:
    """What was learned; ``why_not`` says why nothing was."""

    login: list[Step] = field(default_factory=list)
    set: list[Step] = field(default_factory=list)
    keep: list[Step] = field(default_factory=list)
    restart: list[Step] = field(default_factory=list)
    stood: list[Stood] = field(default_factory=list)
    target: Target | None = None
    saves: bool = False
    """Whether a line that saves is told with those that set."""
    why_not: str = ""

    @property
    def words(self) -> str:
        """What it is, in a few words."""
        lines = [*self.login, *self.set, *self.keep, *self.restart]
        secrets = sum("{password}" in each["send"] or "{user}" in each["send"] for each in lines)
        parts = [
            phrase_of(len(lines), "{count} line", "{count} lines"),
            phrase_of(len(self.stood), "{count} value put in", "{count} values put in"),
            phrase_of(secrets, "{count} secret asked for", "{count} secrets asked for") if secrets else "",
        ]
        return ", ".join(filter(None, parts))


def learn_lines(sessions: Sequence[Listening], target: Target | None = None, name: str = "") -> ConsoleLesson:
    """Return what the sessions with one unit teach.

    What was typed in the session that told it its address is told in one session again, in the same order. What was
    typed in later ones is told once it has moved.

    Args:
        sessions: in order.
        target: what the unit became, where that is known; else it is read out of the lines.
    """
    spoken = [each.lines for each in sessions]
    lesson = ConsoleLesson(target=target or _meant([line for lines in spoken for line in lines]))
    told_at = None
    for listening, lines in zip(sessions, spoken, strict=True):
        login, told = _told(lines, lesson, name)
        if not told:
            continue  # somebody looked round
        lesson.login = lesson.login or login
        saves = any(part == "keep" for part, _ in told)
        steps = {part: [step for of, step in told if of == part] for part in ("set", "keep", "restart")}
        if told_at is None and any("{address}" in each["send"] for each in steps["set"]):
            told_at = listening.at
            if saves and not steps["restart"]:  # it was still there to be told: that may be what makes it move
                steps = {"set": [step for _, step in told], "keep": []}
                lesson.saves = True
        elif saves and (told_at is not None or not lesson.stood):
            steps["set"], steps["keep"] = [], [step for part, step in told if part != "restart"]
        elif told_at is not None and any("{" in each["send"] for each in steps["set"]):
            lesson.why_not = phrase(
                "It was told more after it had moved, without a line that saves: that cannot be learned."
            )
        lesson.set += steps["set"]
        lesson.keep += steps["keep"]
        if told_at in (None, listening.at):  # a restart after the move was no part of it
            lesson.restart += steps.get("restart", [])
    lesson.set = _without_corrected(lesson.set)
    if lesson.set and told_at is None and (lesson.stood or not lesson.keep):
        lesson.why_not = phrase("No line told the device its address: nothing can be learned from it.")
    elif not lesson.set and not lesson.keep:
        lesson.why_not = phrase("No line told the device an address: nothing can be learned from it.")
    return lesson


def _told(lines: Sequence[Typed], lesson: ConsoleLesson, name: str) -> tuple[list[Step], list[tuple[str, Step]]]:
    """Return how one session was entered, and what it told, each line with the part of a kind that it belongs to.

    A line that answers a question of the device (a confirmation, a value, a password) belongs to what provoked that.
    """
    texts = [_with_placeholders(each.text, lesson, name) if lesson.target else each.text for each in lines]
    told = [place for place, each in enumerate(lines) if texts[place] != each.text or _part_of(each.text)]
    if not told:
        return [], []
    begin = max((place + 1 for place in range(told[0]) if lines[place].is_secret), default=0)
    login, steps, part = list[Step](), list[tuple[str, Step]](), ""
    for place, line in enumerate(lines):
        step = {"expect": _expect(line.prompt) or "\n", "send": "{password}" if line.is_secret else texts[place]}
        if place < begin:
            is_user = lines[place + 1].is_secret and texts[place] == line.text and line.prompt.endswith(":")
            login.append(step | ({"send": "{user}"} if is_user and not line.is_secret else {}))
            continue
        answers = place > begin and _is_question(line.prompt) and line.prompt != lines[begin].prompt
        if texts[place] != line.text:
            part = "set"
        elif not answers:
            is_aside = _LEAVES.match(line.text) or _LOOKS.match(line.text)
            part = "" if is_aside else _part_of(line.text) or "set"
        if part:
            steps.append((part, step))
    return login, steps


def _part_of(text: str) -> str:
    return "keep" if _KEEPS.match(text) else "restart" if _RESTARTS.match(text) else ""


def _is_question(prompt: str) -> bool:
    """Whether a device asked something, rather than wait for a command."""
    return prompt[-1:] in "?:])" and prompt != ""


def _without_corrected(steps: Sequence[Step]) -> list[Step]:
    """Leave out lines that told an address which a later line of the same words told otherwise."""
    words = [re.sub(r"/\d+|/\{prefix\}", "", _ADDRESS.sub("*", re.sub(r"\{(?!prefix)\w+\}", "*", each["send"])))
             for each in steps]  # fmt: skip
    return [
        step for place, step in enumerate(steps)
        if not (_ADDRESS.search(step["send"]) and any("{" in each["send"] and said == words[place]
                for each, said in zip(steps[place + 1 :], words[place + 1 :], strict=True)))
    ]  # fmt: skip


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
