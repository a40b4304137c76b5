"""One step after the other: what goes out next, what a refusal ends, and how far it came.

Everything but a dialogue in lines is talked this way: datagrams, sessions, requests to a page. A conversation has its
steps, sends the one at hand (``_say``) and reads an answer; what that means for what comes next is decided here.
"""

from collections.abc import Iterable, Mapping
from typing import Generic, TypeVar

from askport.core.ways.conversation import Conversation, Ended, Spoken

S = TypeVar("S")


class StepTalk(Conversation, Generic[S]):
    """Says its steps, each once the one before was answered."""

    def __init__(self, steps: Iterable[S], values: Mapping[str, str] | None = None) -> None:
        """Begin with the first step; ``values`` is what placeholders stand for."""
        super().__init__(values or {})
        self._steps = list(steps)
        """What is still to be answered; the first is at hand."""
        self._is_out = False
        """Whether the step at hand was sent."""

    @property
    def has_said_all(self) -> bool:
        """Whether everything was sent."""
        return self._is_out and len(self._steps) == 1

    @property
    def has_begun(self) -> bool:
        """Whether the device has answered any step."""
        return any(each.is_over for each in self.spoken)

    def _say(self, now: float) -> None:
        """Have the step at hand sent."""
        raise NotImplementedError

    def _goes_out(self, text: str, *, changes: bool) -> None:
        """Take down that the step at hand is sent; sent once more, it is the same one."""
        if not self._is_out:
            self.spoken.append(Spoken(text, changes=changes))
        self._is_out = True

    def _answered(self, now: float, refusal: str = "", *, goes_on: bool = False, answer: str = "") -> None:
        """Go on from how the step at hand was answered.

        Args:
            refusal: why the device would not, as the end of a sentence, or nothing.
            goes_on: whether a refusal leaves this step out, and ends nothing.
            answer: how it was answered, where there is more to say than whether.
        """
        said = self.spoken[-1]
        if refusal and not goes_on:
            self._finish(Ended.REFUSED, f"{refusal} (“{said.text}”)")
            return
        said.acknowledged, said.left_out, said.answer = not refusal, bool(refusal), answer or refusal
        self._next(now)

    def _next(self, now: float) -> None:
        """Go on to the next step, or come to the end."""
        self._steps, self._is_out = self._steps[1:], False
        while self._steps and self._has_answer(self._steps[0]):
            self._steps = self._steps[1:]
        if self.done:
            return
        if self._steps:
            self._say(now)
        else:
            self._conclude()

    def _has_answer(self, step: S) -> bool:
        """Whether what was answered before leaves nothing to ask by this step."""
        return False

    def _conclude(self) -> None:
        """End well: every step was answered."""
        self._finish(Ended.WELL, "")

    def _lost(self, because: str) -> None:
        """End, because nothing more comes."""
        self._finish(Ended.CLOSED if self.has_begun else Ended.UNREACHED, because)
