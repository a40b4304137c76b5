"""A device's own word on its settings: read before anything is changed, and compared with the wire."""

from dataclasses import replace
from ipaddress import IPv4Address

from askport.core.errors import BadInput
from askport.core.kinds.own_word import contradictions, read_back
from askport.core.proofs.own_word_proof import Reads
from askport.core.register import writing
from askport.core.visit.visit import Visit
from askport.core.ways.conversation import Conversation, Ended, Said
from askport.core.ways.own_word_talk import reading, reads_with
from askport.core.ways.start import Start


class OwnWord:
    """Reads it where its kind knows how, once for a visit."""

    def __init__(self, visit: Visit) -> None:
        self._visit = visit

    def read_as_found(self, now: float) -> Conversation | None:
        """Begin to read what it says of itself, once, where it is reached and nothing was changed yet."""
        device, there = self._visit.device, self._visit.device.whereabouts
        if (
            device.says
            or device.not_read
            or device.was_touched
            or not there
            or not self._visit.cable.laptop.reaching(there)
        ):
            return None
        reads = self.reads_at(there, now)
        return reads(now) if reads else None

    def start_at(self, address: IPv4Address, now: float) -> Start | None:
        """Return with what its own word is read at an address, or None where nothing can read it."""
        start = self._visit.start(now)
        start = replace(start, old=address) if start else None
        try:
            return start if start and reading(start) else None
        except BadInput:
            return None  # a log-in or a line is missing; the screen asks for it where it is needed

    def reads_at(self, address: IPv4Address, now: float) -> Reads | None:
        """Return what reads its own word on its settings at an address, or None where nothing can."""
        start = self.start_at(address, now)
        return reads_with(start) if start else None

    def take(self, said: Said) -> None:
        """Keep what it said of itself as it was found, with what speaks against it."""
        visit, device = self._visit, self._visit.device
        there = device.whereabouts
        if said.ended is not Ended.WELL or there is None or device.chosen is None:
            device.not_read = f"It was not read: {said.because}."
            return
        told = device.says = read_back(said.found)
        device.not_read = " ".join((*contradictions(told, device.chosen.mac, there), *told.unread))
        visit.write(writing.read_out(told, device.not_read, unit=device.unit, mac=device.chosen.mac))
