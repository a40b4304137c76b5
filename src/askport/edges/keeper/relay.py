"""Passes frames between an adapter's packet socket and the program, which never holds that socket.

Linux cannot tie a packet socket to one adapter for sending (packet(7)): whoever holds one sends wherever they like. A
child of the keeper holds it, without any right, and one end of a socket pair; the program has the other end. It sends
nothing until the keeper lets it: who only listens is not heard.

To the program goes ``HEAD``, and behind it any number of ``FRAME`` with their bytes. From the program comes ``ASKS``,
or any number of ``SENDS`` with their bytes. What is asked is answered as soon as everything has gone to the program
that had come before: silence up to then is known, however late anything was read.
"""

import errno
import os
import select
import signal
import socket
import time
from collections import deque
from struct import Struct, error, pack, unpack, unpack_from

from askport.edges.kernel.capabilities import control_process, get_no_more, keep_only

HEAD = Struct("=IIiidd")
"""Frames that the kernel dropped and that were sent, both since the start; why reading and sending failed (errno); up
to which monotonic second everything is handed over, or nothing; by how many seconds frames were sent late."""
FRAME = Struct("=dI")
"""When the kernel took it off the wire, in seconds of the clock, or nothing; its length."""
ASKS = b"?"
SENDS = Struct("=BHd")
"""``SENDS_KIND``, the length, and at which monotonic second the program handed it over."""
SENDS_KIND = 1
MAX_MESSAGE = 1 << 17
"""Bytes; the longest frame fits in, with its head."""
_BATCH, _BATCH_BYTES, _MAX_FRAME = 64, 1 << 15, 1 << 16
_BUFFER = 1 << 20
"""Bytes on their way in each direction."""
_MOST_A_SECOND = 200_000
"""Frames sent; twice what the fastest sweep sends."""
_PAUSE_MS = 1
_LATE_FOR_S = 3.0
"""How long it counts that frames were sent late: as long as answers to them are waited for, at the least."""
_SOL_PACKET, _PACKET_STATISTICS, _PACKET_AUXDATA = 263, 6, 8
_SCM_TIMESTAMPNS = 35
_SO_SNDBUFFORCE = 32
_TP_STATUS_VLAN_VALID, _TP_STATUS_VLAN_TPID_VALID = 1 << 4, 1 << 6
_PR_SET_PDEATHSIG = 1
LET_SEND = signal.SIGUSR1
"""By which the keeper lets a relay send from now on."""

Ancillary = list[tuple[int, int, bytes]]


def start(wire: socket.socket) -> tuple[socket.socket, int]:
    """Start a child that relays frames of a packet socket; return the program's end, and the child's number.

    Raises:
        OSError: the kernel would not.
    """
    near, far = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
    for each in (near, far):
        each.setsockopt(socket.SOL_SOCKET, _SO_SNDBUFFORCE, _BUFFER)
    parent = os.getpid()
    signal.pthread_sigmask(signal.SIG_BLOCK, (LET_SEND,))  # until the child takes it
    child = os.fork()
    if child:
        signal.pthread_sigmask(signal.SIG_UNBLOCK, (LET_SEND,))
        far.close()
        return near, child
    try:
        control_process(_PR_SET_PDEATHSIG, signal.SIGKILL)  # it ends with the keeper, however that ends
        signal.signal(signal.SIGTERM, signal.SIG_DFL)
        kept = sorted((2, wire.fileno(), far.fileno()))
        for low, high in zip((-1, *kept), (*kept, os.sysconf("SC_OPEN_MAX")), strict=True):
            os.closerange(low + 1, high)
        keep_only(())
        get_no_more()
        relay = Relay(wire, far)
        signal.pthread_sigmask(signal.SIG_UNBLOCK, (LET_SEND,))
        if os.getppid() == parent:
            relay.run()
    finally:
        os._exit(0)


class Relay:
    """Frames of one adapter to the program, and the program's to the adapter."""

    def __init__(self, wire: socket.socket, program: socket.socket) -> None:
        """Relay between a packet socket and the far end of the program's."""
        self._wire, self._program = wire, program
        for each in (wire, program):
            each.setblocking(False)
        self._lost = self._sent = self._read_error = self._send_error = 0
        self._held: bytes | None = None
        """A message that the program had no room for."""
        self._unsent: deque[tuple[float, bytes]] = deque()
        """Frames that the kernel had no room for yet, with when they were handed over."""
        self._may_send = False
        signal.signal(LET_SEND, self._let_send)
        self._asked: tuple[float, float] | None = None
        """When the program asked how far everything was read, monotonic and by the clock."""
        self._late_s, self._late_until = 0.0, 0.0
        self._second, self._this_second = 0.0, 0

    def _let_send(self, *_: object) -> None:
        self._may_send = True

    def run(self) -> None:
        """Relay until the program's end is closed."""
        wire, program = self._wire.fileno(), self._program.fileno()
        while True:
            pause, poll = self._send_on(), select.poll()
            if wanted := select.POLLOUT * (pause is False) | select.POLLIN * (self._held is None):
                poll.register(wire, wanted)
            poll.register(program, select.POLLIN * (not self._unsent) | select.POLLOUT * (self._held is not None))
            ready = dict(poll.poll(_PAUSE_MS if pause else None))
            come = ready.get(program, 0)
            if come & select.POLLIN and not self._take_from_program():
                return
            if come & (select.POLLHUP | select.POLLERR) and not come & select.POLLIN:
                return
            if self._held is not None:
                self._tell(self._held)
            if self._held is None and (ready.get(wire, 0) & ~select.POLLOUT or self._asked or self._send_error):
                self._read()

    def _take_from_program(self) -> bool:
        """Take one message; whether there was one."""
        try:
            message = self._program.recv(MAX_MESSAGE)
        except BlockingIOError:
            return True
        except OSError:
            return False
        if message == ASKS:
            self._asked = time.monotonic(), time.time()
            return True
        place = 0
        while place < len(message):
            try:
                _, length, handed_at = SENDS.unpack_from(message, place)
            except error:
                return False
            place += SENDS.size
            self._unsent.append((handed_at, message[place : place + length]))
            place += length
        return bool(message)

    def _send_on(self) -> bool | None:
        """Send what is to be sent; False where it has to wait for room, True where for time, None where it is done."""
        while self._unsent:
            now = time.monotonic()
            if now - self._second >= 1.0:
                self._second, self._this_second = now, 0
            if self._this_second >= _MOST_A_SECOND:
                return True
            handed_at, data = self._unsent[0]
            try:
                if not self._may_send:
                    raise PermissionError(errno.EPERM, "the keeper has not let it")
                self._wire.send(data)
            except BlockingIOError:
                return False
            except OSError as why:
                if why.errno == errno.ENOBUFS:
                    return True
                self._send_error = why.errno or errno.EIO
                self._unsent.clear()  # no link: lost, as on any wire
                return None
            self._unsent.popleft()
            self._sent += 1
            self._this_second += 1
            late = now - handed_at
            if late >= self._late_s or now > self._late_until:
                self._late_s, self._late_until = max(0.0, late), now + _LATE_FOR_S
        return None

    def _read(self) -> None:
        """Hand over what has come, and what was asked where everything has gone that had come before."""
        parts: list[bytes] = []
        size, until = 0, 0.0
        while len(parts) < 2 * _BATCH and size < _BATCH_BYTES:
            try:
                data, ancillary, _, _ = self._wire.recvmsg(_MAX_FRAME, 256)
            except BlockingIOError:
                until = self._asked[0] if self._asked else 0.0
                break
            except OSError as why:
                self._read_error = why.errno or errno.EIO
                break
            at, data = _as_said(data, ancillary)
            parts += (FRAME.pack(at, len(data)), data)
            size += len(data)
            if self._asked and at > self._asked[1]:
                until = self._asked[0]  # what came before this one was read before it
                break
        if until:
            self._asked = None
        if parts or until or self._read_error or self._send_error:
            self._lost += int(unpack("II", self._wire.getsockopt(_SOL_PACKET, _PACKET_STATISTICS, 8))[1])
            late = self._late_s if time.monotonic() <= self._late_until else 0.0
            head = HEAD.pack(self._lost, self._sent, self._read_error, self._send_error, until, late)
            self._read_error = self._send_error = 0
            self._tell(head + b"".join(parts))

    def _tell(self, message: bytes) -> None:
        """Hand a message over, or hold it until there is room: meanwhile frames wait in the kernel's buffer."""
        try:
            self._program.send(message)
            self._held = None
        except BlockingIOError:
            self._held = message


def _as_said(data: bytes, ancillary: Ancillary) -> tuple[float, bytes]:
    """Return when the kernel took a frame off the wire, and its bytes with the tag that the kernel takes out of it."""
    at = 0.0
    for level, kind, value in ancillary:
        if (level, kind) == (socket.SOL_SOCKET, _SCM_TIMESTAMPNS):
            seconds, nanoseconds = unpack_from("ll", value)
            at = seconds + nanoseconds * 1e-9
        elif (level, kind) == (_SOL_PACKET, _PACKET_AUXDATA):
            status, *_, tag, tag_type = unpack_from("IIIHHHH", value)
            if status & _TP_STATUS_VLAN_VALID:
                kind_of_tag = tag_type if status & _TP_STATUS_VLAN_TPID_VALID else 0x8100
                data = data[:12] + pack("!HH", kind_of_tag, tag) + data[12:]
    return at, data
