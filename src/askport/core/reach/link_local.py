"""A device's link-local IPv6 address, which it has whatever its IPv4 address is, or becomes (RFC 4291 section 2.5.6).

Three questions are asked: whether anybody has the address that its MAC address gives, by neighbour solicitation (RFC
4861 section 4.3); who is there at all, by an echo to all nodes, because a device may have drawn it at random (RFC
7217); and who listens to which groups (RFC 2710), for one that ignores such echoes.
"""

from ipaddress import IPv6Address

from askport.core import addresses, script, wire
from askport.core.finding.greeting import ask_for_link_local, everybody_echo, listener_query
from askport.core.formats.ethernet import Ethernet
from askport.core.formats.icmpv6 import Icmpv6, Icmpv6Type
from askport.core.formats.ipv6 import IPv6

_TIMES, _EVERY_S = 4, 0.5


class LinkLocal(script.Script):
    """Asks until the device shows its link-local address."""

    def __init__(self, laptop: addresses.MacAddress, device: addresses.MacAddress, *, now: float) -> None:
        """Begin to ask, from the link-local address that the laptop's MAC address gives."""
        self._laptop, self._device = laptop, device
        self.address: IPv6Address | None = None
        """What it has shown, or None."""
        super().__init__(now=now)

    async def steps(self) -> None:
        for _ in range(_TIMES):
            self._send(ask_for_link_local(self._laptop, self._device))
            self._send(everybody_echo(self._laptop))
            self._send(listener_query(self._laptop))
            self.address = await script.Wait(until=self.now + _EVERY_S, frame=self._shown)
            if self.address:
                return

    def _shown(self, heard: wire.Heard) -> IPv6Address | None:
        """Return the address that the device sends from, or says that it has."""
        ethernet, packet, message = heard.packet.get(Ethernet), heard.packet.get(IPv6), heard.packet.get(Icmpv6)
        if ethernet is None or packet is None or ethernet.src != self._device:
            return None
        says = message.target if message and message.type == Icmpv6Type.NEIGHBOUR_ADVERTISEMENT else None
        return next((each for each in (says, packet.src) if each is not None and each.is_link_local), None)
