"""A device's link-local IPv6 address, which it has whatever its IPv4 address is, or becomes (RFC 4291 section 2.5.6).

Three questions are asked: whether anybody has the address that its MAC address gives, by neighbour solicitation (RFC
4861 section 4.3); who is there at all, by an echo to all nodes, because a device may have drawn it at random (RFC
7217); and who listens to which groups (RFC 2710), for one that ignores such echoes.
"""

from ipaddress import IPv6Address

from askport.core.addresses import MacAddress
from askport.core.finding.greeting import ask_for_link_local, everybody_echo, listener_query
from askport.core.formats.ethernet import Ethernet
from askport.core.formats.icmpv6 import Icmpv6, Icmpv6Type
from askport.core.formats.ipv6 import IPv6
from askport.core.machine import Machine
from askport.core.wire import Heard

_TIMES, _EVERY_S = 4, 0.5


class LinkLocal(Machine):
    """Asks until the device shows its link-local address."""

    def __init__(self, laptop: MacAddress, device: MacAddress, *, now: float) -> None:
        """Begin to ask, from the link-local address that the laptop's MAC address gives."""
        super().__init__()
        self._laptop, self._device = laptop, device
        self.address: IPv6Address | None = None
        """What it has shown, or None."""
        self._asked, self._next_at = 0, now

    @property
    def done(self) -> bool:
        """Whether it has shown it, or was asked often enough."""
        return self.address is not None or self._asked > _TIMES

    def receive(self, heard: Heard) -> None:
        """Take the address that the device sends from, or says that it has."""
        ethernet, packet, message = heard.packet.get(Ethernet), heard.packet.get(IPv6), heard.packet.get(Icmpv6)
        if not self._asked or ethernet is None or packet is None or ethernet.src != self._device:
            return
        says = message.target if message and message.type == Icmpv6Type.NEIGHBOUR_ADVERTISEMENT else None
        for address in (says, packet.src):
            if address is not None and address.is_link_local and self.address is None:
                self.address = address

    def handle_timer(self, now: float) -> None:
        if self.done or now < self._next_at:
            return
        self._asked, self._next_at = self._asked + 1, now + _EVERY_S
        if self._asked <= _TIMES:
            self._send(ask_for_link_local(self._laptop, self._device))
            self._send(everybody_echo(self._laptop))
            self._send(listener_query(self._laptop))

    def next_deadline(self) -> float | None:
        return None if self.done else self._next_at
