"""A device's own clock, as far as its TCP shows it: one that began anew shows that the device has started.

TCP timestamps (RFC 7323 section 4.1) count up in ticks of the sender's own. Many count from the start of the device;
others from a number that is made up at its start, for each pair of addresses, or of addresses and ports: so it is
always asked from the same port. While it is on, the clock is where it was plus the time that has gone by; after a start
it is somewhere else. Some make a number up each time: their clock was never steady, and shows nothing.
"""

from collections.abc import Iterable

from askport.core import machine, wire
from askport.core.formats.packet import STAYS_ON_LINK, ends_of, frame_between
from askport.core.formats.tcp import Tcp, TcpFlag, encode_timestamp, timestamp_of
from askport.core.proofs.proof import Subject

_OURS = 61_553
"""One of the dynamic ports (RFC 6335 section 6)."""
_SEQUENCE = 0x41500000
_OFTEN_S, _SELDOM_S = 0.5, 10.0
_STEADY = 4
"""Looks that have to agree before the clock counts as steady; then it is looked at more seldom."""
_SLOWEST_HZ, _FASTEST_HZ = 0.9, 1_100.0
"""Ticks a second (RFC 7323 section 5.4: from a millisecond to a second)."""
_DRIFT = 0.05
"""What its rate may be off, measured over the first seconds."""
_LEAST_S = 4.0
"""A clock that is off by less has run on."""
_CLOSE_S = 30.0
"""How exactly it has to be known where it would be, for it to have run on."""
_TURN = 1 << 32
_MOST_ASKED = 8
"""Questions whose answers may still come."""


class OwnClock(machine.Machine):
    """Asks one port after the other for the device's clock, and holds it against what it showed before."""

    is_aside = True

    def __init__(self, subject: Subject, ports: Iterable[int], *, now: float) -> None:
        """Begin to ask."""
        super().__init__()
        self._subject, self._ports = subject, list(dict.fromkeys(ports))
        self._port: int | None = None
        """The one that has shown it."""
        self._asked = 0
        self._asked_at: dict[int, float] = {}
        """When it was asked, by the number that acknowledges the question."""
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
        self._ask_at = now if self.is_steady else None

    def go_on(self, now: float) -> None:
        """Take in that there was no cut."""
        self._cut, self.is_anew = False, None
        self._ask_at = now if self._ports else None

    @property
    def is_steady(self) -> bool:
        """Whether it is known well enough to be held against what comes after a cut."""
        return self._steady >= _STEADY and len(self._shown) > 1

    def next_deadline(self) -> float | None:
        return None if self.is_anew is not None else self._ask_at

    def handle_timer(self, now: float) -> None:
        due = self.next_deadline()
        if due is None or now < due:
            return
        self._ask_at = now + (_SELDOM_S if self.is_steady and not self._cut else _OFTEN_S)
        port = self._port or self._ports[self._asked % len(self._ports)]
        self._asked += 1
        seq = _SEQUENCE + self._asked * 0x1000
        self._asked_at = dict([*self._asked_at.items()][-_MOST_ASKED:]) | {seq + 1: now}
        syn = Tcp(src_port=_OURS, dst_port=port, seq=seq, flags=TcpFlag.SYN, window=1024, options=encode_timestamp(1))
        self._send(frame_between(self._subject.ends, syn, STAYS_ON_LINK))

    def receive(self, heard: wire.Heard) -> None:
        """Take in where its clock stands, and close what has opened."""
        tcp = heard.packet.get(Tcp)
        if tcp is None or ends_of(heard.packet) != self._subject.ends.back or tcp.ack not in self._asked_at:
            return
        if not (tcp.flags & TcpFlag.SYN and tcp.flags & TcpFlag.ACK):
            return
        reset = Tcp(src_port=tcp.dst_port, dst_port=tcp.src_port, seq=tcp.ack, flags=TcpFlag.RST)
        self._send(frame_between(self._subject.ends, reset))
        asked_at, ticks = self._asked_at.pop(tcp.ack), timestamp_of(tcp)
        if ticks is None:
            return
        self._port = tcp.src_port
        if self._cut:
            self.is_anew = self._is_off(asked_at, heard.at, ticks)
        else:
            self._take(heard.at, ticks)  # it stood there as the answer was sent, however late the question was

    def _take(self, at: float, ticks: int) -> None:
        """Take in where it stood before the cut."""
        if self._shown and not self._runs_on(at, ticks):
            self._shown, self._steady = [], 0
        self._shown = [*self._shown[:1], (at, ticks)]
        self._steady += 1

    @property
    def _rates(self) -> tuple[float, float]:
        """Between which rates it runs, in ticks a second: one tick at either end is not known."""
        (first_at, first), (last_at, last) = self._shown[0], self._shown[-1]
        ticks, span = (last - first) % _TURN, last_at - first_at
        return max(0.0, (ticks - 1) / span), (ticks + 1) / span

    def _runs_on(self, at: float, ticks: int) -> bool:
        """Whether it is where a steady clock would be by now."""
        (first_at, first), (last_at, _) = self._shown[0], self._shown[-1]
        span, since = at - first_at, (ticks - first) % _TURN
        if span <= 0 or not _SLOWEST_HZ * span - 1 <= since <= _FASTEST_HZ * span + 1:
            return False
        if last_at == first_at:
            return True
        slowest, fastest = self._rates
        return (slowest * (1 - _DRIFT)) * span - 1 <= since <= (fastest * (1 + _DRIFT)) * span + 1

    def _is_off(self, asked_at: float, at: float, ticks: int) -> bool | None:
        """Whether it is elsewhere than it would be had it run on; None where that is too close to tell."""
        last_at, last = self._shown[-1]
        slowest, fastest = self._rates
        gone = (ticks - last + _TURN // 2) % _TURN - _TURN // 2
        least, most = slowest * (asked_at - last_at), fastest * (at - last_at)
        off = max(least - gone, gone - most, 0.0)
        allowed = _DRIFT * most + _LEAST_S * fastest
        if off > 2 * allowed:
            return True
        is_close = most - least + 2 * allowed <= _CLOSE_S * fastest
        return False if is_close and off <= allowed else None
