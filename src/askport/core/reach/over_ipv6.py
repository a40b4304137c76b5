"""What a device answers at its link-local IPv6 address, with nothing borrowed of its subnet."""

from collections.abc import Iterable
from dataclasses import dataclass
from ipaddress import IPv6Address

from askport.core import machine, wire
from askport.core.addresses import MacAddress
from askport.core.formats.ipv6 import link_local
from askport.core.formats.packet import Ends6
from askport.core.proofs import proof, reachable
from askport.core.reach.link_local import LinkLocal


@dataclass(frozen=True, slots=True)
class _Over:
    """Who is asked, and from where: an answer counts from its own MAC address only."""

    ends: Ends6


class OverIpv6(machine.Machine):
    """Sees that it still has its address, then asks the usual ports there."""

    def __init__(self, laptop: MacAddress, device: MacAddress, ports: Iterable[int], *, now: float) -> None:
        """Begin to ask, from the link-local address that the laptop's MAC address gives."""
        super().__init__()
        self._laptop, self._device, self._ports = laptop, device, tuple(ports)
        self._looks = LinkLocal(laptop, device, now=now)
        self._proving: proof.Proving | None = None
        self.services: list[reachable.PortOpens] = []
        """What was asked there, whether it opened or not."""

    @property
    def address(self) -> IPv6Address | None:
        """The address that it has shown, or None."""
        return self._looks.address

    @property
    def opened(self) -> list[int]:
        """The ports that opened there."""
        return [each.port for each in self.services if each.passed]

    @property
    def children(self) -> tuple[machine.Machine]:
        return (self._proving or self._looks,)

    @property
    def done(self) -> bool:
        """Whether every port has answered, or had its time; or it has shown no such address."""
        return self.children[0].done and (self._proving is not None or self.address is None)

    def _go_on(self, now: float) -> None:
        if self.address and self._proving is None:
            self._effects += self._looks.poll()
            ends = Ends6(src_mac=self._laptop, src=link_local(self._laptop), dst_mac=self._device, dst=self.address)
            self.services = [reachable.PortOpens(_Over(ends), port, now=now) for port in self._ports]
            self._proving = proof.Proving(self.services)

    def receive(self, heard: wire.Heard) -> None:
        super().receive(heard)
        self._go_on(heard.at)
