"""The wire of a real adapter: what the keeper's relay hands over, with the kernel's time on every frame (packet(7))."""

import asyncio
import errno
import fcntl
import os
import select
import socket
import time
from collections import deque
from collections.abc import Callable, Sequence
from contextlib import suppress
from datetime import datetime
from struct import pack, unpack_from

from askport.bell import Bell
from askport.core import addresses, errors, wire
from askport.core.finding.shedding import Shedding
from askport.core.phrases import phrase
from askport.edges import link_speed, log, two_clocks
from askport.edges.keeper import relay

_SIOCGIFFLAGS, _IFF_RUNNING = 0x8913, 0x40
_MAX_SENT_AT_ONCE = 1 << 15
"""Bytes of frames in one message to the relay."""
_MAX_BATCH = 32
"""Frames taken before timers and keys get their turn: a few ms of reading."""
_MAX_SHED = 128
"""Frames that may be shed on the way to them."""
_LONGEST_UNREAD_S = 3.0
"""How long nothing counts as unanswered while frames lie unread, or may do so."""
_PROMPT_S = 0.02
"""How long the relay's answer is waited for while nothing else goes on."""
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
    """Frames of one adapter, through the relay that the keeper has started."""

    def __init__(self, name: str, macs: Sequence[addresses.MacAddress], relayed: socket.socket) -> None:
        """Take over this end of the relay's; the adapter's own MAC address is first, those beside it follow."""
        self.name = name
        self.mac, self.macs = macs[0], tuple(macs)
        self._socket = relayed
        self._socket.setblocking(False)
        self._message = bytearray(relay.MAX_MESSAGE)
        self._unread: deque[tuple[float, bytes | None]] = deque()
        """Frames with the kernel's stamps; without one, up to when everything that came stands before it."""
        self._asked_at: float | None = None
        """When the relay was asked how far it has read, until its answer is reached."""
        self._is_answered = False
        self._late_s = 0.0
        """By how much the relay sends late what it is given."""
        self._index = socket.if_nametoindex(name)
        self._clocks = two_clocks.TwoClocks(self.now(), time.time())
        self._seen = self._sent = self._lost = 0
        self._shedding = Shedding(macs)
        self._came_at = self.heard_until = self.now()
        """When the last frame came, and up to when everything was handed over."""
        self._behind_s = 0.0
        self._is_full, self._has_shed, self._given_at = False, False, 0.0
        """Whether the last batch left frames behind, whether some were shed with it, and when it was handed over."""
        self._silent_until = 0.0
        self._link_changes = link_speed.changes_of(self.name)
        self._link = wire.Link(up=self._running(), since=self.now(), speed_mbps=link_speed.speed_of(self.name))
        self._bell = Bell()
        self.require_kept: Callable[[], None] = lambda: None
        """Raises what is to be said where nobody keeps the adapter any more."""
        self.require_allowed: Callable[[], object] = lambda: None
        """Asks, before the first frame, whether any may be sent; raises what is to be said where none may."""
        self._is_allowed = False
        self._unsent: deque[bytes] = deque()
        """Frames that the kernel's queue had no room for yet."""
        self.on_pass: wire.OnPass = lambda _to_device: None
        self.tap: Callable[[float, bytes, bool], None] | None = None
        """Takes every frame with its time, and whether the laptop sent it."""

    def now(self) -> float:
        """Return monotonic seconds."""
        return time.monotonic()

    def wall(self, at: float) -> datetime:
        """Return a monotonic moment as aware UTC."""
        return self._clocks.wall(at)

    def link(self) -> wire.Link:
        """Return the state of the link."""
        self._clocks.see(self.now(), time.time())
        changes, up = link_speed.changes_of(self.name), self._running()
        # Gone and come again is two; a driver may tell of one of them before the kernel counts it.
        if up != self._link.up or (up and changes >= self._link_changes + 2):
            self._link_changes = changes
            self._link = wire.Link(up=up, since=self.now(), speed_mbps=link_speed.speed_of(self.name) if up else None)
        return self._link

    def counts(self) -> wire.Counts:
        """Return how many frames have passed, with those that the kernel had to drop."""
        shed = dict(self._shedding.by_kind)
        return wire.Counts(seen=self._seen, sent=self._sent, lost=self._lost, behind_s=self._behind_s, shed=shed)

    def send(self, data: bytes) -> None:
        """Send a frame.

        Raises:
            MachineRefused: the adapter has vanished, or another user has it.
        """
        self.send_many((data,))

    def send_many(self, frames: Sequence[bytes]) -> None:
        """Send frames as fast as the kernel takes them; those that it has no room for follow as soon as it has.

        Raises:
            MachineRefused: the adapter has vanished, or another user has it.
        """
        if not self._is_allowed:
            self.require_allowed()
            self._is_allowed = True
        self._unsent.extend(frames)
        self._send_on(_LONGEST_SEND_S if len(self._unsent) < _MANY_UNSENT else 1.0)
        self.on_pass(True)

    def _send_on(self, longest_s: float) -> None:
        """Hand over what is still to go; where there is no room, wait a little for it."""
        unsent, tap, deadline = self._unsent, self.tap, 0.0
        while unsent:
            now, frames, size = self.now(), list[bytes](), 0
            while len(frames) < len(unsent) and size < _MAX_SENT_AT_ONCE:
                frames.append(unsent[len(frames)])
                size += len(frames[-1])
            message = b"".join(
                part for each in frames for part in (relay.SENDS.pack(relay.SENDS_KIND, len(each), now), each)
            )
            try:
                self._socket.send(message)
            except BlockingIOError:
                deadline = deadline or now + longest_s
                if deadline <= now:
                    return  # goes on with the next wait
                select.select([], [self._socket], [], deadline - now)
                continue
            except OSError:
                unsent.clear()
                raise self._unkept() from None
            for data in frames:
                unsent.popleft()
                if tap:
                    tap(now, data, True)

    def _ask(self) -> None:
        """Ask the relay how far it has read, behind everything that is to be sent."""
        if self._asked_at is None and not self._unsent:
            with suppress(OSError):  # no room: asked the next time; no relay: its end is read
                self._socket.send(relay.ASKS)
                self._asked_at = self.now()
            # It answers at once, unless the laptop is busy: what is asked next counts from a moment that is no older.
            until = self.now() + _PROMPT_S
            while not self._is_answered and (left := until - self.now()) > 0:
                if not (select.select([self._socket], [], [], left)[0] and self._pull()):
                    break

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

    def _unkept(self) -> errors.MachineRefused:
        self.require_kept()
        text = phrase("What reads {name} has ended: end Ask Port, and start it anew.", name=self.name)
        return errors.MachineRefused(text, code="keeper-gone")

    def _vanished(self) -> errors.MachineRefused:
        text = phrase(
            "{name} has vanished, and nothing is left to give back: plug the adapter in again and start anew.",
            name=self.name,
        )
        return errors.MachineRefused(text, code="no-adapter")

    def give_way(self, seconds: float) -> None:
        """In a flood, leave frames in the kernel's buffer for so long."""
        self._silent_until = self.now() + seconds

    def wake(self) -> None:
        """Let a wait return now."""
        self._bell.ring()

    def look(self) -> list[wire.Frame]:
        """Return what has come by now, without waiting."""
        return self._take()

    async def wait(self, deadline: float | None) -> list[wire.Frame]:
        """Return what has come; nothing at the deadline, on a change of the link, or when woken."""
        loop = asyncio.get_running_loop()
        before = self._link
        self._send_on(0.0)
        await self._breathe()
        if self._is_due(deadline):
            self._ask()
        frames = self._take()
        if frames:
            self._given_at = self.now()
            return frames
        loop.add_reader(self._socket, self._bell.ring)
        try:
            while not frames and not self._bell.has_rung and self.link() is before:
                left = _LINK_POLL_S if deadline is None else min(_LINK_POLL_S, deadline + self._late_s - self.now())
                if left <= 0:
                    if not self._is_due(deadline) or self._is_behind(self.now()):
                        break
                    self._ask()
                    left = _LINK_POLL_S
                rang = await self._bell.wait(min(left, _SEND_POLL_S) if self._unsent else left)
                self._send_on(0.0)
                frames = self._take()
                if rang and not frames:
                    break  # woken, or told how far was read
        finally:
            loop.remove_reader(self._socket)
            self._bell.clear()
        if not frames:
            await self._breathe()  # without the reader, which a flood would ring all the time
        return frames

    def _is_due(self, deadline: float | None) -> bool:
        """Whether a moment has passed up to which not everything is known to be read."""
        return deadline is not None and self.heard_until < deadline <= self.now() - self._late_s

    def _is_behind(self, now: float) -> bool:
        """Whether nobody knows any more how far was read, because there is no end to it."""
        return self._asked_at is not None and now - self._asked_at > _LONGEST_UNREAD_S

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

    def _take(self) -> list[wire.Frame]:
        frames: list[wire.Frame] = []
        self._is_full, self._has_shed, looks_at = True, False, self.now()
        self._clocks.see(looks_at, time.time())
        for _ in range(_MAX_SHED):
            if len(frames) == _MAX_BATCH:
                break
            if not self._unread and not self._receive():
                self._is_full = False
                break
            stamp, data = self._unread.popleft()
            if data is None:
                self.heard_until = max(self.heard_until, stamp - self._late_s)
                self._asked_at, self._is_answered = None, False
                continue
            self._seen += 1
            self._came_at = self._stamp(stamp)
            if not self._shedding.is_read(data, self._came_at):
                self._has_shed = True
                continue
            frames.append(wire.Frame(at=self._came_at, data=data))
            self.on_pass(False)
            if self.tap:
                self.tap(self._came_at, data, False)
        if self._is_behind(looks_at):
            # There is no end to it: time goes on as far as was read, and that answers may be missed is said.
            self.heard_until = max(self.heard_until, self._came_at)
            self._behind_s = max(self._behind_s, looks_at - self._came_at)
        return frames

    def _stamp(self, wall: float) -> float:
        """Return when the kernel took a frame off the wire; without its stamp, now."""
        now = self.now()
        return self._clocks.monotonic(wall, after=self._came_at, now=now) if wall else now

    def _receive(self) -> bool:
        """Take in messages of the relay; whether there is something to read now.

        Raises:
            MachineRefused: the adapter has vanished, cannot be read or would not send, or nobody reads it any more.
        """
        while not self._unread:
            if not self._pull():
                return False
        return True

    def _pull(self) -> bool:
        """Take in one message of the relay, as above; whether there was one."""
        try:
            size = self._socket.recv_into(self._message)
        except BlockingIOError:
            return False
        except OSError:
            size = 0
        if not size:
            raise self._unkept()
        message, place = memoryview(self._message)[:size], relay.HEAD.size
        self._lost, self._sent, read_error, send_error, until, self._late_s = relay.HEAD.unpack_from(message)
        while place < size:
            stamp, length = relay.FRAME.unpack_from(message, place)
            place += relay.FRAME.size
            self._unread.append((stamp, bytes(message[place : place + length])))
            place += length
        if until:
            self._unread.append((until, None))
            self._is_answered = True
        self._see_errors(read_error, send_error)
        return True

    def _see_errors(self, read_error: int, send_error: int) -> None:
        if send_error in (errno.ENXIO, errno.ENODEV):
            raise self._vanished()
        if send_error == errno.ENETDOWN:
            log.event("frames not sent: no link", adapter=self.name)
        elif send_error:
            raise errors.MachineRefused("{name} would not send: {why}.", name=self.name, why=os.strerror(send_error))
        if read_error == errno.ENETDOWN:
            self.require_present()
        elif read_error:
            raise errors.MachineRefused("{name} cannot be read: {why}.", name=self.name, why=os.strerror(read_error))

    def _running(self) -> bool:
        """Whether there is a link. The kernel's flags tell of a lost one up to a second late, its driver at once."""
        if link_speed.has_carrier(self._socket.fileno(), self.name) is False:
            return False
        request = pack("16sH14s", self.name.encode()[:15], 0, b"")
        try:
            flags = unpack_from("16sH", fcntl.ioctl(self._socket.fileno(), _SIOCGIFFLAGS, request))[1]
        except OSError:
            return False
        return bool(flags & _IFF_RUNNING)
