"""Ping: an echo of one length to the device's MAC address, whose destination the device takes as its address.

The length and the time after power-up in which it listens for that are its maker's; nothing is borrowed for it.
"""

from collections.abc import Sequence
from ipaddress import IPv4Address

from askport.core import addresses, machine, wire
from askport.core.finding.tracking import Sighting
from askport.core.formats.icmp import Icmp, IcmpType
from askport.core.formats.packet import Ends, frame_between
from askport.core.phrases import phrase
from askport.core.plan.target import Target
from askport.core.ways.way import Result, Way

_INTERVAL_S = 1.0
_IDENTIFIER = 0x4150


class Ping(Way):
    """Sends echoes until the device itself answers at the address."""

    name = "ping"
    gives = True
    wrote = ()  # the address is all that an echo can give
    permanent = None

    def __init__(
        self,
        mac: addresses.MacAddress,
        target: Target,
        *,
        payload: int,
        within_s: float | None,
        lasts: bool | None,
        laptop_mac: addresses.MacAddress,
        sender: IPv4Address,
        landings: Sequence[IPv4Address],
        now: float,
    ) -> None:
        """Begin to send.

        Args:
            target: where its new address comes from; mask and gateway it cannot be told this way.
            payload: bytes of ICMP data.
            within_s: how long after power-up it listens for that, in seconds; None for always.
            lasts: whether its kind keeps what it takes.
            sender: a free address in the target's subnet, from which the echoes come.
            landings: where it may be instead.
        """
        super().__init__(mac, target, laptop_mac=laptop_mac, ours=[sender], now=now, landings=landings)
        self._payload, self._within_s, self._lasts, self._sender = payload, within_s, lasts, sender
        self._next_at = now
        self._sent = 0
        self._power_at: float | None = None
        self._is_off = False
        self._tracker.look_from(now)

    @property
    def wants_power(self) -> bool:
        """Whether the time in which it takes an echo is over, or has not been seen to begin."""
        return self._within_s is not None and (
            self._power_at is None or self._next_at > self._power_at + self._within_s
        )

    @property
    def waits_for(self) -> str:
        """What it waits for."""
        address, length = self.target.interface.ip, self._payload
        sends = phrase("Sending it echoes of {length} bytes for {address}", length=length, address=address)
        if self._within_s is None:
            return f"{sends}."
        if self._is_off:
            return phrase(
                "Its power is off. Plug it in again, and it is sent echoes of {length} bytes for {address}.",
                length=length,
                address=address,
            )
        if self.wants_power:
            listens = phrase("it takes them for {within_s:.0f} s after it has power", within_s=self._within_s)
            return phrase("{sends}: {listens}, so power-cycle it.", sends=sends, listens=listens)
        return phrase("{sends}: it has just started, and takes them now.", sends=sends)

    def link_changed(self, link: wire.Link, now: float) -> None:
        self._is_off = not link.up
        if link.up:
            self._power_at, self._next_at = now, now

    def receive(self, heard: wire.Heard) -> None:
        if not self.done:
            self._tracker.receive(heard)
            self._see(heard.at)

    def _see(self, now: float) -> None:
        for seen in self._tracker.news():
            if seen.kind is Sighting.ARRIVED and self._sent and not self.done:
                self.permanent = self._lasts
                self._finish(
                    Result.TAKEN,
                    phrase(
                        "It took {address} from an echo of {payload} bytes.",
                        address=seen.address,
                        payload=self._payload,
                    ),
                    now,
                )

    def handle_timer(self, now: float) -> None:
        """Send the next echo, and ask whether it holds the address."""
        if self.done:
            return
        if now >= self._next_at:
            self._next_at = now + _INTERVAL_S
            ends = Ends(src_mac=self._laptop_mac, src=self._sender, dst_mac=self.mac, dst=self.target.interface.ip)
            data = bytes(number & 0xFF for number in range(self._payload))
            echo = Icmp(type=IcmpType.ECHO, identifier=_IDENTIFIER, sequence_number=self._sent & 0xFFFF, data=data)
            self._send(frame_between(ends, echo))
            if self._sent == 0:
                self._note(
                    phrase(
                        "Echoes of {payload} bytes go to {mac}, for {ip}.",
                        payload=self._payload,
                        mac=self.mac,
                        ip=self.target.interface.ip,
                    ),
                    now,
                )
            self._sent += 1
        self._tracker.handle_timer(now)
        self._see(now)

    def next_deadline(self) -> float | None:
        return None if self.done else machine.earliest(self._next_at, self._tracker.next_deadline())

    def close(self, now: float) -> None:
        """End, with how often it was asked."""
        if not self.done:
            text = phrase(
                "It did not answer at {ip} after {sent} echoes of {payload} bytes.",
                ip=self.target.interface.ip,
                sent=self._sent,
                payload=self._payload,
            )
            self._finish(Result.SENT if self._sent else Result.NO_ANSWER, text, now)
