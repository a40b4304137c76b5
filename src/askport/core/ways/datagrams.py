"""Conversations in UDP datagrams: one question at a time, asked again where nothing comes."""

from collections.abc import Iterable, Mapping

from askport.core.formats import ipv6, packet
from askport.core.formats.ethernet import Ethernet
from askport.core.formats.udp import Udp
from askport.core.phrases import phrase
from askport.core.ways import conversation, step_talk
from askport.core.ways.start import Start
from askport.core.wire import Heard

_ATTEMPTS = 3


class Datagrams(step_talk.StepTalk[step_talk.S]):
    """Asks from the laptop's address beside the device, or over IPv6, from and to one port."""

    port: int
    protocol: str
    """As people write it."""
    silence = phrase("it did not answer {attempts} times", attempts=_ATTEMPTS)
    """What may be behind that nothing comes."""
    answers_from_port = True
    """Whether answers come from the port that was asked; some come from any."""
    answer_s = 1.5
    """How long an answer is waited for before it is asked again."""

    def __init__(self, start: Start, steps: Iterable[step_talk.S], values: Mapping[str, str] | None = None) -> None:
        """Begin to ask.

        Raises:
            ValueError: it is not known where the device is, or the laptop does not reach it there.
        """
        super().__init__(steps, values)
        self._ends: packet.Ends | packet.Ends6
        ours = start.laptop_mac
        if start.door:
            self._ends = packet.Ends6(src_mac=ours, src=ipv6.link_local(ours), dst_mac=start.mac, dst=start.door)
        elif start.old is None or start.beside is None:
            raise ValueError(phrase("{protocol} reaches a device where it is", protocol=self.protocol))
        else:
            self._ends = packet.Ends(src_mac=ours, src=start.beside.ip, dst_mac=start.mac, dst=start.old)
        self._asked, self._next_at = 0, start.now
        self.heard: Heard | None = None
        """What came of the device last."""

    def _question(self, step: step_talk.S) -> tuple[str, bool, list[bytes]]:
        """Return what is asked now: as it is shown, whether it tells the device something, and what is sent."""
        raise NotImplementedError

    def _take(self, payload: bytes, now: float) -> None:
        """Take what came from the device."""
        raise NotImplementedError

    def _say(self, now: float) -> None:
        """Have the question at hand go out at once."""
        self._asked, self._next_at = 0, now

    @property
    def _is_last_try(self) -> bool:
        """Whether it is not asked the same again."""
        return self._asked == _ATTEMPTS

    def receive(self, heard: Heard) -> None:
        ethernet, udp = heard.packet.get(Ethernet), heard.packet.get(Udp)
        if self.done or ethernet is None or udp is None or ethernet.src != self._ends.dst_mac:
            return
        if udp.src_port == self.port or (not self.answers_from_port and udp.dst_port == self.port):
            self.heard = heard
            self._take(udp.payload, heard.at)

    def handle_timer(self, now: float) -> None:
        if self.done or now < self._next_at:
            return
        if self._is_last_try:
            self._finish(conversation.Ended.SILENT if self.has_begun else conversation.Ended.UNREACHED, self.silence)
            return
        says, changes, payloads = self._question(self._steps[0])
        for payload in payloads:
            self._send(packet.frame_between(self._ends, Udp(src_port=self.port, dst_port=self.port, payload=payload)))
        self._goes_out(says, changes=changes)
        self._asked, self._next_at = self._asked + 1, now + self.answer_s

    def next_deadline(self) -> float | None:
        return None if self.done else self._next_at
