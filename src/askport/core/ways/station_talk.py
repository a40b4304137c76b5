"""One request to a PROFINET station and its answer: read, name, blink, reset (IEC 61158-6-10 clause 4.3)."""

from askport.core.addresses import MacAddress
from askport.core.formats import dcp
from askport.core.formats.dcp import Dcp, FrameId, dcp_frame
from askport.core.formats.ethernet import Ethernet
from askport.core.phrases import phrase
from askport.core.ways.conversation import Conversation, Ended, Spoken
from askport.core.wire import Heard

_ANSWER_S = 1.0
"""How long a station may take to answer (clause 4.3.2.2.4, DCP_RxTimeout)."""
ATTEMPTS = 3
_ANSWERED = 1


class StationRequest:
    """One request to a station, asked again until its answer came."""

    def __init__(self, message: Dcp, now: float) -> None:
        self.message, self.asked, self.next_at = message, 0, now
        self.answer: Dcp | None = None

    def hear(self, heard: Heard) -> None:
        """Take the station's answer."""
        ethernet, answer = heard.packet.get(Ethernet), heard.packet.get(Dcp)
        if ethernet is None or answer is None or ethernet.src.is_group or self.answer:
            return
        # Some answer from their second MAC address; the transaction's number says whose answer it is (clause 4.3.1.1).
        mine = (FrameId.GET_SET, self.message.service_id, self.message.xid)
        if answer.service_type >= _ANSWERED and (answer.frame_id, answer.service_id, answer.xid) == mine:
            self.answer = answer

    @property
    def is_due(self) -> bool:
        """Whether it may be asked once more."""
        return self.answer is None and self.asked < ATTEMPTS

    def ask(self, now: float) -> None:
        """Count one more time."""
        self.asked, self.next_at = self.asked + 1, now + _ANSWER_S


def refusal_of(answer: Dcp) -> str:
    """Return why a station did not do what it was told, as the end of a sentence, or nothing: the error stands behind
    the success of its header."""
    if refused := answer.refusals:
        return dcp.REFUSALS.get(refused[0], phrase("error {refused}", refused=refused[0]))
    return phrase("it does not know the service") if answer.service_type > _ANSWERED else ""


class StationTalk(Conversation):
    """One request, asked until its answer comes."""

    def __init__(self, mac: MacAddress, laptop_mac: MacAddress, message: Dcp, says: str, now: float) -> None:
        super().__init__({})
        self._mac, self._laptop_mac, self._says = mac, laptop_mac, says
        self._question = StationRequest(message, now)

    def _answered(self, answer: Dcp) -> None:
        """Take its answer."""
        refusal = refusal_of(answer)
        self._finish(Ended.REFUSED if refusal else Ended.WELL, refusal)

    @property
    def has_said_all(self) -> bool:
        """Whether everything was sent."""
        return self._question.asked > 0

    def receive(self, heard: Heard) -> None:
        self._question.hear(heard)
        if not self.done and self._question.answer:
            self.spoken[-1].acknowledged = True
            self._answered(self._question.answer)

    def handle_timer(self, now: float) -> None:
        if self.done or now < self._question.next_at:
            return
        if not self._question.is_due:
            self._finish(
                Ended.SILENT, phrase("it did not answer {attempts} requests by PROFINET DCP", attempts=ATTEMPTS)
            )
            return
        self._send(dcp_frame(self._laptop_mac, self._mac, self._question.message))
        self._question.ask(now)
        self.spoken = [Spoken(self._says)]

    def next_deadline(self) -> float | None:
        return None if self.done else self._question.next_at
