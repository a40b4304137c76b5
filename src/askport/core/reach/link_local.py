"""A device's link-local IPv6 address, which it has whatever its IPv4 address is, or becomes (RFC 4291 section 2.5.6).

Two questions are asked: whether anybody has the address that its MAC address gives, by neighbour solicitation (RFC
4861 section 4.3), and who is there at all, by an echo to all nodes, because a device may have drawn it at random
(RFC 7217).
"""

from ipaddress import IPv6Address

from askport.core.addresses import MacAddress
from askport.core.formats.ethernet import Ethernet
from askport.core.formats.icmpv6 import PROTOCOL_ICMPV6, Icmpv6, Icmpv6Type, encode_icmpv6
from askport.core.formats.ipv6 import ALL_NODES, IPv6, ipv6_frame, link_local
from askport.core.machine import Machine
from askport.core.wire import Heard

_TIMES, _EVERY_S = 4, 0.5
_SOLICITED = IPv6Address("ff02::1:ff00:0").packed[:13]
_OUR_MAC = b"\x01\x01"  # the option source link-layer address, in units of 8 bytes (RFC 4861 section 4.6.1)


class LinkLocal(Machine):
    """Asks until the device shows its link-local address."""

    def __init__(self, laptop: MacAddress, device: MacAddress, *, now: float) -> None:
        """Begin to ask, from the link-local address that the laptop's MAC address gives."""
        super().__init__()
        self._laptop, self._device = laptop, device
        self.address: IPv6Address | None = None
        """What it has shown, or None."""
        self._asked, self._next_at = 0, now
        self.handle_timer(now)

    @property
    def done(self) -> bool:
        """Whether it has shown it, or was asked often enough."""
        return self.address is not None or self._asked > _TIMES

    def receive(self, heard: Heard) -> None:
        """Take the address that the device sends from, or says that it has."""
        ethernet, packet, message = heard.packet.get(Ethernet), heard.packet.get(IPv6), heard.packet.get(Icmpv6)
        if ethernet is None or packet is None or ethernet.src != self._device:
            return
        says = message.target if message and message.type == Icmpv6Type.NEIGHBOUR_ADVERTISEMENT else None
        for address in (says, packet.src):
            if address is not None and address.is_link_local and self.address is None:
                self.address = address

    def handle_timer(self, now: float) -> None:
        """Ask both, or give up."""
        if self.done or now < self._next_at:
            return
        self._asked, self._next_at = self._asked + 1, now + _EVERY_S
        if self._asked <= _TIMES:
            guess, ours = link_local(self._device), _OUR_MAC + self._laptop
            self._ask(Icmpv6(Icmpv6Type.NEIGHBOUR_SOLICITATION, body=bytes(4) + guess.packed + ours),
                      IPv6Address(_SOLICITED + guess.packed[13:]))  # fmt: skip
            self._ask(Icmpv6(Icmpv6Type.ECHO, body=b"APG1" + bytes(8)), ALL_NODES)

    def _ask(self, message: Icmpv6, group: IPv6Address) -> None:
        src = link_local(self._laptop)
        payload = encode_icmpv6(message, src=src, dst=group)
        packet = IPv6(src=src, dst=group, next_header=PROTOCOL_ICMPV6, payload=payload, hop_limit=255)
        self._send(ipv6_frame(packet, src=self._laptop))

    def next_deadline(self) -> float | None:
        """Return when it asks next."""
        return None if self.done else self._next_at
