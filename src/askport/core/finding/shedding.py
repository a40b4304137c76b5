"""What is left unread of a flood, so that a device that never stops talking hides nobody and holds up no key.

A frame is judged by its bytes alone, before it is decoded, in windows of a quarter of a second. Four limits stand
behind one another: the same words again; one sender's frames of one kind; one sender's frames; all frames together.
Below them everything is read, so no question and no control is changed on a wire that a person would call busy. What
goes to the laptop itself, most of it answers to its own questions, has limits of its own.
"""

from collections.abc import Iterable

from askport.core.addresses import MacAddress

WINDOW_S = 0.25
ALIKE, OF_A_KIND, OF_A_SENDER, ALL = 8, 100, 250, 1_500
"""The most frames read in a window: alike to the last byte, of one kind from one sender, from it, and together."""
TO_LAPTOP = 10
"""How many times as many are read of those that go to the laptop's own MAC address."""
_IPV4, _IPV6 = b"\x08\x00", b"\x86\xdd"
_KINDS = {b"\x08\x06": "arp", _IPV4: "ipv4", _IPV6: "ipv6", b"\x88\xcc": "lldp", b"\x88\x92": "profinet"}


class Shedding:
    """Counts frames in windows, and says which are still read."""

    def __init__(self, laptop: Iterable[MacAddress]) -> None:
        """Begin with nothing shed, for a laptop with these MAC addresses."""
        self._laptop = frozenset(bytes(each) for each in laptop)
        self._ends_at = 0.0
        self._counts: dict[bytes, int] = {}
        self.by_kind: dict[str, int] = {}
        """How many frames were left unread, by the protocol that they belong to."""

    def is_read(self, data: bytes, at: float) -> bool:
        """Judge one frame by its bytes and the moment of its arrival, in seconds; count it where it is shed."""
        if at >= self._ends_at or at < self._ends_at - WINDOW_S:
            self._counts.clear()
            self._ends_at = at + WINDOW_S
        counts, times = self._counts, TO_LAPTOP if data[:6] in self._laptop else 1
        sender = data[6:12] if times == 1 else data[:12]
        for key, limit in (
            (data, ALIKE),
            (sender + _kind(data), OF_A_KIND),
            (sender, OF_A_SENDER),
            (data[:0] if times == 1 else b"laptop", ALL),
        ):
            count = counts[key] = counts.get(key, 0) + 1
            if count > limit * times:
                name = _KINDS.get(data[12:14], "other")
                self.by_kind[name] = self.by_kind.get(name, 0) + 1
                return False
        return True


def _kind(data: bytes) -> bytes:
    """Return what tells kinds of frames apart: the EtherType, and of IP the protocol and the port that it goes to.

    Read where they stand in a header without options (RFC 791, 8200, 768); elsewhere it tells less, and sheds sooner.
    """
    if data[12:14] == _IPV4:
        return data[12:14] + data[23:24] + data[36:38]
    return data[12:14] + data[20:21] + data[56:58] if data[12:14] == _IPV6 else data[12:14]
