"""A device's own word on its settings: read before anything is changed, and compared with the wire."""

from dataclasses import replace
from ipaddress import IPv4Address

from askport.core.errors import BadInput
from askport.core.finding.clues import states
from askport.core.kinds.own_word import contradictions, read_back
from askport.core.phrases import phrase
from askport.core.proofs.own_word_proof import Reads
from askport.core.register import writing
from askport.core.visit.visit import Visit
from askport.core.ways import conversation, datagrams, own_word_talk
from askport.core.ways.start import Start


class OwnWord:
    """Reads it where its kind knows how, once for a visit."""

    def __init__(self, visit: Visit) -> None:
        self._visit = visit

    def read_as_found(self, now: float) -> conversation.Conversation | None:
        """Begin to read what it says of itself, once, where it is reached and nothing was changed yet."""
        device, there = self._visit.device, self._visit.device.whereabouts
        reached = there and self._visit.cable.laptop.reaching(there)
        if device.says or device.not_read or device.was_touched or not (reached or self._visit.door):
            return None
        reads = self.reads_at(there if reached else None, now)
        return reads(now) if reads else None

    def start_at(self, address: IPv4Address | None, now: float) -> Start | None:
        """Return with what its own word is read, at an address or over IPv6; None where nothing can read it."""
        start = self._visit.start(now)
        if start and address:
            start = replace(start, old=address, door=None)
        try:
            return start if start and own_word_talk.reading(start) else None
        except BadInput:
            return None  # a log-in or a line is missing; the screen asks for it where it is needed

    def reads_at(self, address: IPv4Address | None, now: float) -> Reads | None:
        """Return what reads its own word on its settings, at an address or over IPv6; None where nothing can."""
        start = self.start_at(address, now)
        return own_word_talk.reads_with(start) if start else None

    def take(self, talk: conversation.Conversation, said: conversation.Said) -> None:
        """Keep what it said of itself as it was found, with what speaks against it."""
        visit, device = self._visit, self._visit.device
        there = device.whereabouts
        if said.ended is not conversation.Ended.WELL or device.chosen is None:
            device.not_read = phrase("It was not read: {because}.", because=said.because)
            return
        told = device.says = read_back(said.found)
        if visit.door and told.address and isinstance(talk, datagrams.Datagrams) and talk.heard:
            for clue in states(
                device.chosen.mac,
                told.address,
                phrase("{protocol}, asked over IPv6", protocol=talk.protocol),
                told.prefix,
            ):
                visit.cable.finder.told(clue, talk.heard)
        device.not_read = " ".join((*contradictions(told, device.chosen.mac, there), *told.unread))
        visit.write(writing.read_out(told, device.not_read, unit=device.unit, mac=device.chosen.mac))
