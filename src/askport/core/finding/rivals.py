"""Who else has shown an address: each that has is told of the others."""

from collections.abc import Mapping
from ipaddress import IPv4Address

from askport.core.addresses import MacAddress
from askport.core.finding import beliefs, clues
from askport.core.finding.doubts import Rival

MAX_ADDRESSES = 1024
"""Addresses of which the holders are remembered: more than a /22 has."""


class Rivals:
    """Remembers who has shown which address."""

    def __init__(self, gathered: Mapping[MacAddress, beliefs.Gathered]) -> None:
        """Begin with nothing.

        Args:
            gathered: what is known of each device, kept by its owner.
        """
        self._gathered = gathered
        self._holders: dict[IPv4Address, set[MacAddress]] = {}

    def see(self, clue: clues.Clue, at: float) -> None:
        """Have the others that have shown an address know that this one shows it now."""
        address = clue.address
        if address is None:
            return
        holders = self._holders.setdefault(address, set()) if len(self._holders) < MAX_ADDRESSES else set[MacAddress]()
        holders.add(clue.mac)
        if len(holders) < 2:
            return
        others = sorted(holders - {clue.mac})
        rival = Rival(clue.mac, at, clue.kind is clues.ClueKind.ANSWERS, self._only_announced(clue.mac, address))
        for mac in others:
            if other := self._gathered.get(mac):
                other.holdings.rivals[address] = rival
                other.revision += 1
        mine = self._gathered.get(clue.mac)
        if mine and address not in mine.holdings.rivals:
            announced = self._only_announced(others[0], address)
            mine.holdings.rivals[address] = Rival(others[0], float("-inf"), by_answer=True, only_announced=announced)

    def _only_announced(self, mac: MacAddress, address: IPv4Address) -> bool:
        """Whether a device has done nothing else than announce an address."""
        gathered = self._gathered.get(mac)
        shown = gathered.holdings.shown.get(address) if gathered else None
        return shown is not None and shown.only_announced
