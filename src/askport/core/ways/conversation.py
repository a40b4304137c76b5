"""What a dialogue on a console and requests to a page have in common: what was said, and how it ended."""

from collections.abc import Mapping
from dataclasses import dataclass, field
from enum import Enum, auto

import regex

from askport.core.kinds.placeholders import BLANK, SECRET
from askport.core.machine import Effect, Machine
from askport.core.phrases import phrase

_FIND_S = 0.5
"""How long a regular expression of a kind file may take (some take for ever on some texts)."""


class Ended(Enum):
    """How a conversation ended."""

    WELL = auto()
    REFUSED = auto()
    SILENT = auto()
    CLOSED = auto()
    """The connection ended before the last line was answered."""
    UNREACHED = auto()
    """No connection came about."""
    TOO_MUCH = auto()


@dataclass(slots=True)
class Spoken:
    """One line, or one request, that went out."""

    text: str
    """As it is shown: secrets are blanked."""
    acknowledged: bool = False
    """Whether the device came back with what was waited for after it, and no refusal."""
    answer: str = ""
    """How it was answered, as the end of a sentence, where there is more to say than whether."""
    changes: bool = True
    """Whether it tells the device something, and does not only ask."""
    left_out: bool = False
    """Whether the device refused it, and it was gone on without it."""

    @property
    def is_over(self) -> bool:
        """Whether it was answered so that the next could follow."""
        return self.acknowledged or self.left_out

    @property
    def outcome(self) -> str:
        """How it was answered, as the end of a sentence."""
        return self.answer or ("acknowledged" if self.acknowledged else phrase("not acknowledged"))


@dataclass(slots=True)
class Said:
    """What became of a conversation."""

    ended: Ended
    because: str
    found: dict[str, str] = field(default_factory=dict)


class Conversation(Machine):
    """Says one thing after the other, each once the one before was answered."""

    def __init__(self, values: Mapping[str, str]) -> None:
        super().__init__()
        self._values = dict(values)
        self._found: dict[str, str] = {}
        self.spoken: list[Spoken] = []
        self.said: Said | None = None
        """How it ended; None while it goes on."""
        self.wants_log_in = False
        """Whether it was refused for want of a log-in, or of the right one."""
        self.key: str | None = None
        """The fingerprint of the key that the far end showed, where it showed one."""

    @property
    def done(self) -> bool:
        return self.said is not None

    @property
    def unanswered(self) -> str | None:
        """What was said last and not acknowledged, as it is shown, or None."""
        return self.spoken[-1].text if self.spoken and not self.spoken[-1].acknowledged else None

    @property
    def has_said_all(self) -> bool:
        """Whether everything was sent."""
        raise NotImplementedError

    def leave(self) -> None:
        """End it: nothing more is wanted of it."""
        if not self.done:
            self._finish(Ended.WELL, "")

    def drop(self) -> list[Effect]:
        self.leave()
        return self.poll()

    def _find(self, pattern: str, text: str) -> bool:
        """Keep what the groups of a pattern stand for in a text; say whether it is there."""
        try:
            match = regex.search(pattern, text, timeout=_FIND_S)
        except (TimeoutError, regex.error):
            match = None
        self._found |= {key: value for key, value in (match.groupdict() if match else {}).items() if value is not None}
        return match is not None

    def _blanked(self, text: str) -> str:
        secret = self._values.get(SECRET)
        return text.replace(secret, BLANK) if secret else text

    def _finish(self, ended: Ended, because: str) -> None:
        self.said = Said(ended, self._blanked(because), self._found)
