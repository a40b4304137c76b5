"""Lines over a channel: wait for a text, send a line, see whether it was refused, find what comes back.

What is waited for is looked for in what came since the last line was sent, never across it, with the device's echo of
that line left out. Everything that comes is hostile: escapes are taken out, the amount and the time are bounded.
"""

import re
from collections.abc import Mapping, Sequence

from askport.core import channels, errors
from askport.core.kinds.model import Line
from askport.core.kinds.placeholders import BLANK, SECRET, fill
from askport.core.phrases import phrase
from askport.core.text import display_text
from askport.core.ways.conversation import Conversation, Ended, Spoken

ANSWER_S = 10.0
"""How long a text is waited for."""
_GREETING_S = 30.0
"""How long the first text is waited for: servers look up the laptop's name, which nobody answers on a direct cable."""
_QUIET_S = 1.5
"""After the last line, how long the device may be silent until its answer counts as complete."""
_NUDGE_S = 2.0
"""A serial console that says nothing at first gets one empty line: many wait for somebody to press a key."""
_NUDGE_SERVER_S = 15.0
"""The same for Telnet and SSH, which greet by themselves: what greets late would take an empty line for a name."""
_SILENT_END_S = 5.0
"""After an answer that ends in no prompt which is known, how long it may be silent until it counts as complete."""
_MAX_ANSWER = 65_536
"""Bytes of one answer; a device that sends more is not in a dialogue."""
_MAX_PAGES = 200
_END = b"\r"
"""Ends a line: with a line feed behind it, the spare one would answer the next question."""
_ESCAPES = re.compile(r"\x1b(?:\[[0-?]*[ -/]*[@-~]|\][^\x07\x1b]*(?:\x07|\x1b\\)|[@-_])")
_MORE = re.compile(
    r"(?:--\s*more\s*--|\(more\)|press any key(?! to (?:stop|abort|interrupt|cancel|enter|halt))|<space>)[^\n]{0,20}$",
    re.IGNORECASE,
)
"""A page's end; a key that would stop a device's start is none."""


def shown_lines(lines: Sequence[Line], values: Mapping[str, str]) -> list[str]:
    """Return the lines as they will go, with secrets blanked.

    Raises:
        BadInput: a placeholder has no value.
    """
    open_values = {**values, SECRET: BLANK} if SECRET in values else values
    return [fill(line.send, open_values) for line in lines]


class Dialogue(Conversation):
    """One conversation, from connecting to the answer to its last line."""

    def __init__(
        self,
        far: channels.FarEnd,
        lines: Sequence[Line],
        values: Mapping[str, str],
        *,
        refused: Sequence[str] = (),
        now: float,
    ) -> None:
        """Connect now.

        Args:
            far: where to.
            lines: what to wait for and to send, in order.
        """
        super().__init__(values)
        self._channel = channels.Channel(far)
        self._lines = list(lines)
        self._refused = [each.lower() for each in refused]
        self._place = 0
        self._came, self._text, self._echo = b"", "", ""
        self._pages = 0
        self._is_open = False
        self._nudge_at: float | None = None
        self._quiet_at: float | None = None
        self._settled_at: float | None = None
        self._is_cut_short = False
        self._was_nudged = False
        self._give_up_at = now + ANSWER_S + 2.0
        self._effects.append(channels.OpenChannel(self._channel))

    @property
    def has_said_all(self) -> bool:
        """Whether every line was sent."""
        return self._place == len(self._lines) and self._is_open

    def channel_event(self, event: channels.ChannelEvent, now: float) -> None:
        if event.channel is not self._channel or self.done:
            return
        match event:
            case channels.Opened(_, key):
                self._is_open, self.key = True, key
                after_s = _NUDGE_S if isinstance(self._channel.far, channels.SerialLine) else _NUDGE_SERVER_S
                self._nudge_at, self._give_up_at = now + after_s, now + _GREETING_S
                self._go_on(now)
            case channels.Received(_, data):
                self._take(data, now)
            case channels.Closed(_, because):
                self._closed(because)

    def handle_timer(self, now: float) -> None:
        """Nudge a silent console, take an answer as complete, or give up."""
        if self.done:
            return
        if self._settled_at is not None and now >= self._settled_at:
            self._settled_at = None
            self._settle(now)
            return
        if self._nudge_at is not None and now >= self._nudge_at:
            self._nudge_at, self._was_nudged = None, True
            self._effects.append(channels.SendOn(self._channel, _END))
        if self._quiet_at is not None and now >= self._quiet_at:
            self._finish(Ended.WELL, "")
        elif now >= self._give_up_at:
            wanted = self._lines[min(self._place, len(self._lines) - 1)].expect
            came = display_text(" ".join(self._text.split())[-80:])
            told = "“{wanted}” did not come in {waited:.0f} s: it said “{came}”"
            told = told if came else "“{wanted}” did not come in {waited:.0f} s"
            waited = ANSWER_S if self.spoken else _GREETING_S
            self._finish(
                Ended.SILENT,
                phrase(told, wanted=display_text(wanted), waited=waited, came=came),
            )

    def next_deadline(self) -> float | None:
        moments = (self._nudge_at, self._settled_at, self._quiet_at, self._give_up_at)
        return None if self.done else min(each for each in moments if each)

    def _take(self, data: bytes, now: float) -> None:
        self._nudge_at = None
        self._came += data
        if not self.spoken:
            self._give_up_at = min(self._give_up_at, now + ANSWER_S)  # it speaks: what is waited for comes soon
        if len(self._came) > _MAX_ANSWER:
            self._finish(
                Ended.TOO_MUCH,
                phrase("it sent more than {max_answer} KB without what was waited for", max_answer=_MAX_ANSWER // 1024),
            )
            return
        self._text = self._readable()
        if self._quiet_at is not None:
            self._quiet_at = now + _QUIET_S
        self._go_on(now)

    def _readable(self) -> str:
        """Return what came since the last line, without escapes and without the echo of that line."""
        text = _ESCAPES.sub("", self._came.decode("utf-8", "replace")).replace("\r", "\n").replace("\0", "")
        head = text.lstrip("\n")
        if self._echo and head.startswith(self._echo):
            return head[len(self._echo) :]
        return text if not self._echo or not self._echo.startswith(head.rstrip("\n")) else ""

    def _go_on(self, now: float) -> None:
        text = self._text.lower()
        if self.spoken and not self.spoken[-1].acknowledged and (no := self._refusal()):
            line = self.spoken[-1].text
            self._finish(Ended.REFUSED, phrase("it answered “{no}” to “{line}”", no=no, line=display_text(line)))
            return
        if _MORE.search(self._text.rstrip()):
            self._turn_page(now)
            return
        last = self._place == len(self._lines)
        wanted = self._lines[self._place - 1 if last else self._place].expect.lower() if self._lines else ""
        if not self._is_open or not (wanted in text or (last and self._is_at_prompt())):
            if last and self._answers_question and self._text.strip():
                self._quiet_at, self._is_cut_short = now + _SILENT_END_S, True
            return
        if self._is_cut_short:
            self._quiet_at, self._is_cut_short = None, False  # a prompt came after all
        if self._was_nudged:  # what it answers to the empty line is none of the first line's
            self._settled_at = now + _QUIET_S
            return
        if self.spoken:
            self._acknowledge()
            if self.done:
                return
        if last:
            self._quiet_at = self._quiet_at or now + _QUIET_S  # a late refusal still counts
        else:
            self._say(self._lines[self._place], now)

    @property
    def _answers_question(self) -> bool:
        """Whether the last line answers a question, which does not come again, and not a prompt."""
        return len(self._lines) > 1 and all(each.expect != self._lines[-1].expect for each in self._lines[:-1])

    def _is_at_prompt(self) -> bool:
        """Whether what came ends in a text that was waited for before."""
        tail = next((line for line in reversed(self._text.lower().splitlines()) if line.strip()), "")
        return any(each.expect.lower().strip() in tail for each in self._lines[:-1] if each.expect.strip())

    def _settle(self, now: float) -> None:
        """Go on after an empty line: where it was taken for a name, the question for a password is left, too."""
        tail = next((line for line in reversed(self._text.lower().splitlines()) if line.strip()), "")
        first, *more = [each.expect.lower() for each in self._lines]
        if first not in tail and any(each in tail for each in more[:1]):
            self._came, self._text = b"", ""
            self._effects.append(channels.SendOn(self._channel, _END))  # and then it asks for the name again
            return
        self._was_nudged = False
        self._go_on(now)

    def _refusal(self) -> str | None:
        for line in self._text.splitlines():
            if any(each in line.lower() for each in self._refused):
                return display_text(line.strip(), 80)
        return None

    def _turn_page(self, now: float) -> None:
        self._pages += 1
        if self._pages > _MAX_PAGES:
            self._finish(Ended.TOO_MUCH, phrase("its answer has more than {max_pages} pages", max_pages=_MAX_PAGES))
            return
        self._came = _ESCAPES.sub("", self._came.decode("utf-8", "replace")).encode()
        self._came = re.sub(_MORE.pattern.encode(), b"", self._came.rstrip(), flags=re.IGNORECASE) + b"\n"
        self._give_up_at = now + ANSWER_S
        self._effects.append(channels.SendOn(self._channel, b" "))

    def _acknowledge(self) -> None:
        self.spoken[-1].acknowledged = True
        pattern = self._lines[self._place - 1].find
        if pattern is None or self._quiet_at is not None:
            return
        if not self._find(pattern, self._text):
            said = display_text(" ".join(self._text.split())[:80])
            self._finish(
                Ended.SILENT,
                phrase("its answer has no “{pattern}”: it said “{said}”", pattern=display_text(pattern, 60), said=said),
            )

    def _say(self, line: Line, now: float) -> None:
        values = {**self._values, **self._found}
        try:
            text = fill(line.send, values)
        except errors.BadInput as error:
            self._finish(Ended.SILENT, error.message.rstrip("."))
            return
        is_secret = SECRET in line.send and SECRET in values
        self.spoken.append(Spoken(fill(line.send, {**values, SECRET: BLANK}) if is_secret else text))
        self._place += 1
        self._came, self._text, self._echo, self._pages = b"", "", text, 0
        self._give_up_at = now + ANSWER_S
        self._effects.append(channels.SendOn(self._channel, text.encode() + _END))

    def _closed(self, because: str) -> None:
        if not self._is_open:
            self._finish(Ended.UNREACHED, because or phrase("the connection was refused"))
            return
        if self._place == len(self._lines) and (self._quiet_at is not None):
            self._finish(Ended.WELL, "")
            return
        self._finish(Ended.CLOSED, because or phrase("it ended the connection"))

    def _finish(self, ended: Ended, because: str) -> None:
        super()._finish(ended, because)
        self._effects.append(channels.CloseChannel(self._channel))
