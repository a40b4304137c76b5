"""Whether a device answers the laptop beside its adapter, or the adapter's own MAC address only.

A switch port can be bound to the first MAC address that it has heard (port security, IEEE 802.1X): then nothing comes
back to a second one. Both are asked from at the same time, so that a device which is silent to both is told from one.
"""

from ipaddress import IPv4Address

from askport.core import addresses, script, wire
from askport.core.formats.arp import Arp, Op, arp_question
from askport.core.phrases import phrase

_TIMES, _EVERY_S = 4, 0.4


def answers_adapter_only(adapter: str) -> str:
    """Say what it means where a device answers the adapter's own MAC address only."""
    return phrase(
        "The device answers only the MAC address of {adapter} itself (port security?). The temporary "
        "address goes on the adapter.",
        adapter=adapter,
    )


class WhomItAnswers(script.Script):
    """Asks for the device's address by ARP from both MAC addresses; done with the first answer beside the adapter."""

    def __init__(
        self,
        device: addresses.MacAddress | None,
        at: IPv4Address,
        *,
        beside: addresses.MacAddress,
        adapter: addresses.MacAddress,
        laptop: IPv4Address,
        now: float,
    ) -> None:
        """Begin to ask.

        Args:
            device: its MAC address, or None for whoever is there.
            at: where it is.
        """
        self._device, self._at = device, at
        # The same from both, so that nothing but the MAC address can make the difference: for nobody (RFC 5227 section
        # 2.1.1), which every stack answers, whatever its mask is, and by which it changes no neighbour entry.
        self._askers = beside, adapter
        # Beside that, once more as the laptop's kernel will: so the device knows whom to answer, and asks nobody.
        self._as_usual = laptop
        self._answered: set[addresses.MacAddress] = set()
        super().__init__(now=now)
        self.handle_timer(now)

    async def steps(self) -> None:
        for _ in range(_TIMES):
            self._send(arp_question(self._askers[0], self._at, sender=self._as_usual))
            for mac in self._askers:
                self._send(arp_question(mac, self._at))
            if await script.Wait(until=self.now + _EVERY_S, frame=self._answers_beside):
                return

    @property
    def adapter_only(self) -> bool:
        """Whether only what was asked from the adapter's own MAC address was answered."""
        return self.done and self._answered == {self._askers[1]}

    def _answers_beside(self, heard: wire.Heard) -> bool | None:
        """Note to whom it answers."""
        arp = heard.packet.get(Arp)
        if arp and arp.op == Op.REPLY and arp.spa == self._at and self._device in (None, arp.sha):
            self._answered.add(arp.tha)
        return self._askers[0] in self._answered or None
