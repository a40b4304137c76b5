"""A device's own clock, as far as its TCP shows it: one that began anew shows that the device has started.

TCP timestamps (RFC 7323 section 4.1) count up in ticks of the sender's own. Many count from the start of the device;
others from a number that is made up at its start, for each pair of addresses. Either way, while it is on, the clock is
where it was plus the time that has gone by; after a start it is somewhere else. Some make a number up for each
connection: their clock was never steady, and shows nothing.
"""

from collections.abc import Iterable

from askport.core.formats.packet import STAYS_ON_LINK, ends_of, frame_between
from askport.core.formats.tcp import Tcp, TcpFlag, encode_timestamp, timestamp_of
from askport.core.machine import Machine
from askport.core.proofs.proof import Subject
from askport.core.wire import Heard

_FIRST_PORT, _PORTS = 49_152, 16_000
"""Dynamic ports (RFC 6335 section 6)."""
_SEQUENCE = 0x41500000
_OFTEN_S, _SELDOM_S = 1.0, 10.0
_STEADY = 4
"""Looks that have to agree before the clock counts as steady; then it is looked at more seldom."""
_SLOWEST_HZ, _FASTEST_HZ = 0.9, 1_100.0
"""Ticks a second (RFC 7323 section 5.4: from a millisecond to a second)."""
_DRIFT = 0.05
"""What its rate may be off, measured over the first seconds."""
_LEAST_S = 4.0
"""A clock that is off by less has run on."""
_TURN = 1 << 32


class OwnClock(Machine):
    """Asks one port after the other for the device's clock, and holds it against what it showed before."""

    def __init__(self, subject: Subject, ports: Iterable[int], *, now: float) -> None:
        """Begin to ask.

        Args:
            subject: whose clock.
            ports: those that may be open.
            now: the wire's time.
        """
        super().__init__()
        self._subject, self._ports = subject, list(dict.fromkeys(ports))
        self._port: int | None = None
        """The one that has shown it."""
        self._asked = 0
        self._asked_at: dict[int, float] = {}
        """When it was asked, by the port of ours that asked."""
        self._shown: list[tuple[float, int]] = []
        """When the clock stood where, in ticks; the first and the latest."""
        self._steady = 0
        self._ask_at: float | None = now if self._ports else None
        self._cut = False
        self.is_anew: bool | None = None
        """After the cut, whether it has begun anew or run on; None while that is not known."""

    def see_cut(self, now: float) -> None:
        """Hold what it shows from now on against what it has shown up to now."""
        self._cut, self.is_anew = True, None
        self._asked_at.clear()  # an answer to what was asked before is one of before
        self._ask_at = now if self._is_steady else None

    def go_on(self, now: float) -> None:
        """Take in that there was no cut."""
        self._cut, self.is_anew = False, None
        self._ask_at = now if self._ports else None

    @property
    def _is_steady(self) -> bool:
        return self._steady >= _STEADY

    def next_deadline(self) -> float | None:
        """Return when to ask next."""
        return None if self.is_anew is not None else self._ask_at

    def handle_timer(self, now: float) -> None:
        """Ask."""
        due = self.next_deadline()
        if due is None or now < due:
            return
        self._ask_at = now + (_SELDOM_S if self._is_steady and not self._cut else _OFTEN_S)
        port = self._port or self._ports[self._asked % len(self._ports)]
        ours = _FIRST_PORT + (port * 11 + self._asked) % _PORTS
        self._asked += 1
        self._asked_at[ours] = now
        syn = Tcp(
            src_port=ours, dst_port=port, seq=_SEQUENCE, flags=TcpFlag.SYN, window=1024, options=encode_timestamp(1)
        )
        self._send(frame_between(self._subject.ends, syn, STAYS_ON_LINK))

    def receive(self, heard: Heard) -> None:
        """Take in where its clock stands, and close what has opened."""
        tcp = heard.packet.get(Tcp)
        if tcp is None or ends_of(heard.packet) != self._subject.ends.back or tcp.dst_port not in self._asked_at:
            return
        if not (tcp.flags & TcpFlag.SYN and tcp.flags & TcpFlag.ACK):
            return
        reset = Tcp(src_port=tcp.dst_port, dst_port=tcp.src_port, seq=tcp.ack, flags=TcpFlag.RST)
        self._send(frame_between(self._subject.ends, reset))
        asked_at, ticks = self._asked_at.pop(tcp.dst_port), timestamp_of(tcp)
        if ticks is None:
            return
        self._port = tcp.src_port
        if self._cut:
            self.is_anew = self._is_off(asked_at, heard.at, ticks)
        else:
            self._take((asked_at + heard.at) / 2, ticks)

    def _take(self, at: float, ticks: int) -> None:
        """Take in where it stood before the cut."""
        if self._shown and not self._runs_on(at, ticks):
            self._shown, self._steady = [], 0
        self._shown = [*self._shown[:1], (at, ticks)]
        self._steady += 1

    @property
    def _rate(self) -> float:
        (first_at, first), (last_at, last) = self._shown[0], self._shown[-1]
        return ((last - first) % _TURN) / (last_at - first_at)

    def _runs_on(self, at: float, ticks: int) -> bool:
        """Whether it is where a steady clock would be by now."""
        (first_at, first), (_, last) = self._shown[0], self._shown[-1]
        if at - first_at < _OFTEN_S / 2:
            return False
        rate = ((ticks - first) % _TURN) / (at - first_at)
        if len(self._shown) == 1:
            return _SLOWEST_HZ <= rate <= _FASTEST_HZ
        is_ahead = (ticks - last) % _TURN < _TURN // 2
        coarse = 2.0 / (at - first_at)  # a tick at either end
        return is_ahead and abs(rate - self._rate) <= _DRIFT * self._rate + coarse

    def _is_off(self, asked_at: float, at: float, ticks: int) -> bool | None:
        """Whether it is elsewhere than it would be had it run on; None where that is too close to tell."""
        last_at, last = self._shown[-1]
        gone = (ticks - last + _TURN // 2) % _TURN - _TURN // 2
        least, most = (self._rate * (each - last_at) for each in (asked_at, at))
        off = max(least - gone, gone - most, 0.0)
        allowed = _DRIFT * most + _LEAST_S * self._rate
        return True if off > 2 * allowed else False if off <= allowed else None
