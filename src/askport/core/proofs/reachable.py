"""Proofs that the device answers at its address: an echo, and a port that opens."""

from typing import Protocol

from askport.core.formats.icmp import Icmp, IcmpType
from askport.core.formats.packet import STAYS_ON_LINK, Ends, Ends6, ends6_of, ends_of, frame_between
from askport.core.formats.tcp import Tcp, TcpFlag
from askport.core.phrases import phrase
from askport.core.proofs.proof import Repeated, Subject
from askport.core.wire import Heard

_ECHO_IDENTIFIER = 0x4150
_ECHO_DATA = bytes(range(32))
_FIRST_PORT = 49_200
"""Dynamic ports (RFC 6335 section 6) that the laptop asks from: one for each port asked and each attempt."""
_OUR_SEQUENCE = 0x41534B50


class Echo(Repeated):
    """The device answers an echo (RFC 792)."""

    name = "echo"

    def __init__(self, subject: Subject, *, now: float) -> None:
        super().__init__(now=now)
        self.subject = subject
        self.expected = phrase("ping to {ip}", ip=subject.at.ip)
        self._asked_at = now

    def ask(self, now: float) -> None:
        """Send an echo."""
        self._asked_at = now
        echo = Icmp(type=IcmpType.ECHO, identifier=_ECHO_IDENTIFIER, sequence_number=self.asked + 1, data=_ECHO_DATA)
        self._send(frame_between(self.subject.ends, echo, STAYS_ON_LINK))

    def receive(self, heard: Heard) -> None:
        icmp = heard.packet.get(Icmp)
        if not icmp or icmp.type != IcmpType.ECHO_REPLY or icmp.identifier != _ECHO_IDENTIFIER:
            return
        if ends_of(heard.packet) == self.subject.ends.back:
            took_ms = max(0.0, heard.at - self._asked_at) * 1000
            self._end(
                True,
                phrase("answered in {took_ms:.1f} ms", took_ms=took_ms),
                phrase("It answered echo {sequence_number} (ICMP).", sequence_number=icmp.sequence_number),
            )

    def conclude(self, now: float) -> None:
        """Fail: nothing came."""
        self._end(False, phrase("no answer"), phrase("It answered none of {asked} echoes (ICMP).", asked=self.asked))


class Asked(Protocol):
    """Who is asked, and from where."""

    @property
    def ends(self) -> Ends | Ends6:
        """From the laptop straight to this device's MAC address."""


class PortOpens(Repeated):
    """A TCP port of the device opens (RFC 9293 section 3.5); it is closed again at once."""

    def __init__(self, subject: Asked, port: int, *, now: float) -> None:
        super().__init__(now=now)
        self.subject, self.port = subject, port
        self.name = f"port-{port}"
        self.expected = phrase("TCP port {port}", port=port)
        self._asking_ports: set[int] = set()

    def ask(self, now: float) -> None:
        """Ask the port to open, from a port of ours that is fresh for each attempt."""
        ours = _FIRST_PORT + (self.port * 7 + self.asked) % 16_000
        self._asking_ports.add(ours)
        syn = Tcp(src_port=ours, dst_port=self.port, seq=_OUR_SEQUENCE, flags=TcpFlag.SYN, window=1024)
        self._send(frame_between(self.subject.ends, syn, STAYS_ON_LINK))

    def receive(self, heard: Heard) -> None:
        tcp, packet = heard.packet.get(Tcp), heard.packet
        if not tcp or tcp.src_port != self.port or tcp.dst_port not in self._asking_ports:
            return
        if (ends_of(packet) or ends6_of(packet)) != self.subject.ends.back:
            return
        if tcp.flags & TcpFlag.RST:
            self._end(False, "refused", phrase("It refused to open port {port} (TCP reset).", port=self.port))
        elif tcp.flags & TcpFlag.SYN and tcp.flags & TcpFlag.ACK:
            reset = Tcp(src_port=tcp.dst_port, dst_port=self.port, seq=tcp.ack, flags=TcpFlag.RST)
            self._send(frame_between(self.subject.ends, reset))
            self._end(True, phrase("opened"), phrase("It opened port {port} (TCP).", port=self.port))

    def conclude(self, now: float) -> None:
        """Fail: nothing came."""
        self._end(
            False,
            phrase("no answer"),
            phrase("It did not answer on port {port}, asked {asked} times (TCP).", port=self.port, asked=self.asked),
        )
