"""The wire of a real adapter: a packet socket with the kernel's time on every frame (packet(7))."""

import asyncio
import errno
import fcntl
import select
import socket
import time
from collections import deque
from collections.abc import Callable, Sequence
from datetime import datetime
from struct import pack, unpack, unpack_from

from askport.bell import Bell
from askport.core.addresses import MacAddress
from askport.core.errors import MachineRefused
from askport.core.finding.shedding import Shedding
from askport.core.wire import Counts, Frame, Link, OnPass
from askport.edges import log
from askport.edges.link_speed import changes_of, has_carrier, speed_of
from askport.edges.two_clocks import TwoClocks

_SOL_PACKET, _PACKET_STATISTICS, _PACKET_AUXDATA = 263, 6, 8
_SCM_TIMESTAMPNS = 35
_SIOCGIFFLAGS, _IFF_RUNNING = 0x8913, 0x40
_TP_STATUS_VLAN_VALID, _TP_STATUS_VLAN_TPID_VALID = 1 << 4, 1 << 6
_MAX_FRAME = 65_536
_MAX_BATCH = 32
"""Frames taken before timers and keys get their turn: a few ms of reading."""
_MAX_SHED = 128
"""Frames that may be shed on the way to them."""
_LONGEST_UNREAD_S = 3.0
"""How long nothing counts as unanswered while frames lie unread."""
_LONGEST_BREATH_S = 0.01
"""How long, at the most, others have the processor after a full batch: as long as the batch has taken."""
_LONGEST_SEND_S = 0.02
"""How long everything else is held up for room in the kernel's queue."""
_MANY_UNSENT = 20_000
"""From so many on, whoever asks has to wait: a second's worth of the fastest cable that a laptop sweeps on."""
_SEND_POLL_S = 0.002
"""How soon it is tried again when there was none."""
_LINK_POLL_S = 0.1
"""How soon a pulled cable is seen; one system call each time."""


class PacketWire:
    """Frames of one adapter, through a packet socket that the keeper has opened."""

    def __init__(self, name: str, macs: Sequence[MacAddress], packet_socket: socket.socket) -> None:
        """Take over the socket; the adapter's own MAC address is first, those beside it follow."""
        self.name = name
        self.mac, self.macs = macs[0], tuple(macs)
        self._socket = packet_socket
        self._socket.setblocking(False)
        self._index = socket.if_nametoindex(name)
        self._clocks = TwoClocks(self.now(), time.time())
        self._seen = self._sent = self._lost = 0
        self._shedding = Shedding(macs)
        self._came_at = self.heard_until = self._emptied_at = self.now()
        """When the last frame came, up to when everything was handed over, and when nothing was left unread."""
        self._behind_s = 0.0
        self._is_full, self._has_shed, self._given_at = False, False, 0.0
        """Whether the last batch left frames behind, whether some were shed with it, and when it was handed over."""
        self._silent_until = 0.0
        self._link_changes = changes_of(self.name)
        self._link = Link(up=self._running(), since=self.now(), speed_mbps=speed_of(self.name))
        self._bell = Bell()
        self.require_kept: Callable[[], None] = lambda: None
        """Raises what is to be said where nobody keeps the adapter any more."""
        self._unsent: deque[bytes] = deque()
        """Frames that the kernel's queue had no room for yet."""
        self.on_pass: OnPass = lambda _to_device: None
        self.tap: Callable[[float, bytes, bool], None] | None = None
        """Takes every frame with its time, and whether the laptop sent it."""

    def now(self) -> float:
        """Return monotonic seconds."""
        return time.monotonic()

    def wall(self, at: float) -> datetime:
        """Return a monotonic moment as aware UTC."""
        return self._clocks.wall(at)

    def link(self) -> Link:
        """Return the state of the link."""
        self._clocks.see(self.now(), time.time())
        changes, up = changes_of(self.name), self._running()
        # Gone and come again is two; a driver may tell of one of them before the kernel counts it.
        if up != self._link.up or (up and changes >= self._link_changes + 2):
            self._link_changes = changes
            self._link = Link(up=up, since=self.now(), speed_mbps=speed_of(self.name) if up else None)
        return self._link

    def counts(self) -> Counts:
        """Return how many frames have passed, with those that the kernel had to drop."""
        statistics = self._socket.getsockopt(_SOL_PACKET, _PACKET_STATISTICS, 8)
        self._lost += int(unpack("II", statistics)[1])  # reading resets the kernel's count
        shed = dict(self._shedding.by_kind)
        return Counts(seen=self._seen, sent=self._sent, lost=self._lost, behind_s=self._behind_s, shed=shed)

    def send(self, data: bytes) -> None:
        """Send a frame.

        Raises:
            MachineRefused: the adapter has vanished.
        """
        self.send_many((data,))

    def send_many(self, frames: Sequence[bytes]) -> None:
        """Send frames as fast as the kernel takes them; those that it has no room for follow as soon as it has.

        Raises:
            MachineRefused: the adapter has vanished.
        """
        self._unsent.extend(frames)
        self._send_on(_LONGEST_SEND_S if len(self._unsent) < _MANY_UNSENT else 1.0)
        self.on_pass(True)

    def _send_on(self, longest_s: float) -> None:
        """Send what is still to go; where the queue is full, wait a little for room."""
        unsent, send, tap = self._unsent, self._socket.send, self.tap
        deadline = 0.0
        while unsent:
            try:
                send(unsent[0])
            except (BlockingIOError, OSError) as error:
                if error.errno in (errno.ENXIO, errno.ENODEV):
                    raise self._vanished() from None
                if error.errno == errno.ENETDOWN:
                    log.event("frames not sent: no link", adapter=self.name, frames=len(unsent))
                    unsent.clear()  # no link: lost, as on any wire
                    return
                if error.errno not in (errno.EAGAIN, errno.ENOBUFS):
                    text = f"{self.name} would not send: {error.strerror}."
                    unsent.clear()
                    raise MachineRefused(text) from None
                deadline = deadline or time.monotonic() + longest_s
                left = deadline - time.monotonic()
                if left <= 0:
                    return  # goes on with the next wait
                if error.errno == errno.EAGAIN:
                    select.select([], [self._socket], [], left)
                else:
                    time.sleep(min(left, 0.001))
                continue
            data = unsent.popleft()
            self._sent += 1
            if tap:
                tap(self.now(), data, True)

    def require_present(self) -> None:
        """See that the adapter is still there, and the same one: plugged in again, it has another index.

        Raises:
            MachineRefused: it has vanished, or whoever keeps it has.
        """
        self.require_kept()
        try:
            if socket.if_nametoindex(self.name) == self._index:
                return
        except OSError:
            pass
        raise self._vanished()

    def _vanished(self) -> MachineRefused:
        text = f"{self.name} has vanished, and nothing is left to give back: plug the adapter in again and start anew."
        return MachineRefused(text, code="no-adapter")

    def give_way(self, seconds: float) -> None:
        """In a flood, leave frames in the kernel's buffer for so long."""
        self._silent_until = self.now() + seconds

    def wake(self) -> None:
        """Let a wait return now."""
        self._bell.ring()

    def look(self) -> list[Frame]:
        """Return what has come by now, without waiting."""
        return self._take()

    async def wait(self, deadline: float | None) -> list[Frame]:
        """Return what has come; nothing at the deadline, on a change of the link, or when woken."""
        loop = asyncio.get_running_loop()
        before = self._link
        self._send_on(0.0)
        await self._breathe()
        frames = self._take()
        if frames:
            self._given_at = self.now()
            return frames
        loop.add_reader(self._socket, self._bell.ring)
        try:
            while not frames and not self._bell.has_rung and self.link() is before:
                left = _LINK_POLL_S if deadline is None else min(_LINK_POLL_S, deadline - self.now())
                if left <= 0:
                    break
                rang = await self._bell.wait(min(left, _SEND_POLL_S) if self._unsent else left)
                self._send_on(0.0)
                frames = self._take()
                if rang and not frames:
                    # Woken, or a socket in error that stays readable: nobody goes round in circles over that.
                    self.require_present()
                    break
        finally:
            loop.remove_reader(self._socket)
            self._bell.clear()
        if not frames:
            await self._breathe()  # without the reader, which a flood would ring all the time
        return frames

    async def _breathe(self) -> None:
        """Let others have the processor; in a flood for as long as its frames have had it, or for as long as asked."""
        if not (self._is_full or self._has_shed):
            await asyncio.sleep(0)
            return
        now = self.now()
        breath = max(self._silent_until - now, min(_LONGEST_BREATH_S, now - self._given_at))
        await asyncio.sleep(max(0.0, breath))

    def close(self) -> None:
        """Close the socket; again, it does nothing."""
        if self._socket.fileno() < 0:
            return
        counts = self.counts()
        log.event("wire closed", adapter=self.name, seen=counts.seen, sent=counts.sent, lost=counts.lost)
        self._socket.close()

    def _take(self) -> list[Frame]:
        frames: list[Frame] = []
        self._is_full, self._has_shed, looks_at = True, False, self.now()
        self._clocks.see(looks_at, time.time())
        for _ in range(_MAX_SHED):
            if len(frames) == _MAX_BATCH:
                break
            try:
                data, ancillary, _, _ = self._socket.recvmsg(_MAX_FRAME, 256)
            except BlockingIOError:
                self._is_full = False
                break
            except OSError as error:
                self._is_full = False
                if error.errno == errno.ENETDOWN:
                    self.require_present()
                    break
                raise MachineRefused(f"{self.name} cannot be read: {error.strerror}.") from None
            self._seen += 1
            self._came_at = self._stamp(ancillary)
            if not self._shedding.is_read(data, self._came_at):
                self._has_shed = True
                continue
            frames.append(self._frame(data, ancillary))
            self.on_pass(False)
            if self.tap:
                self.tap(frames[-1].at, frames[-1].data, False)
        if not self._is_full:
            self.heard_until = self._emptied_at = looks_at
        elif looks_at - self._emptied_at > _LONGEST_UNREAD_S:
            # There is no end to it: time goes on as far as was read, and that answers may be missed is said.
            self.heard_until = max(self.heard_until, self._came_at)
            self._behind_s = max(self._behind_s, looks_at - self._came_at)
        return frames

    def _stamp(self, ancillary: list[tuple[int, int, bytes]]) -> float:
        """Return when the kernel took a frame off the wire; without its stamp, now."""
        now = self.now()
        for level, kind, value in ancillary:
            if (level, kind) == (socket.SOL_SOCKET, _SCM_TIMESTAMPNS):
                seconds, nanoseconds = unpack_from("ll", value)
                return self._clocks.monotonic(seconds + nanoseconds * 1e-9, after=self._came_at, now=now)
        return now

    def _frame(self, data: bytes, ancillary: list[tuple[int, int, bytes]]) -> Frame:
        for level, kind, value in ancillary:
            if (level, kind) == (_SOL_PACKET, _PACKET_AUXDATA):
                status, *_, tag, tag_type = unpack_from("IIIHHHH", value)
                if status & _TP_STATUS_VLAN_VALID:
                    # The kernel takes the tag out of the frame; it is part of what was said.
                    kind_of_tag = tag_type if status & _TP_STATUS_VLAN_TPID_VALID else 0x8100
                    data = data[:12] + pack("!HH", kind_of_tag, tag) + data[12:]
        return Frame(at=self._came_at, data=data)

    def _running(self) -> bool:
        """Whether there is a link. The kernel's flags tell of a lost one up to a second late, its driver at once."""
        if has_carrier(self._socket.fileno(), self.name) is False:
            return False
        request = pack("16sH14s", self.name.encode()[:15], 0, b"")
        try:
            flags = unpack_from("16sH", fcntl.ioctl(self._socket.fileno(), _SIOCGIFFLAGS, request))[1]
        except OSError:
            return False
        return bool(flags & _IFF_RUNNING)
