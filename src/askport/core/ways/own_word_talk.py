"""Reading what a device itself says that its settings are, in its field protocol or by what its kind says."""

from collections.abc import Callable
from dataclasses import replace

from askport.core.kinds.model import ConsoleWay, PageWay
from askport.core.phrases import phrase
from askport.core.protocols import PROTOCOLS, part
from askport.core.ways import console_way, conversation, page_way, way_entry
from askport.core.ways.start import Start

_ENTRIES: dict[str, way_entry.WayEntry] = {each.name: part(each.way) for each in PROTOCOLS.values() if each.way}
BY_MAC = frozenset(name for name, entry in _ENTRIES.items() if entry.by_mac)
"""Those that need no address."""
OVER_IPV6 = frozenset(name for name, entry in _ENTRIES.items() if entry.over_ipv6)
"""Those that can go by the device's link-local IPv6 address."""
WITH_PASSWORD = frozenset(each.name for each in PROTOCOLS.values() if each.needs_log_in)
"""Those that nobody is let in by without one."""
READERS = {name: entry.reads for name, entry in _ENTRIES.items() if entry.reads}
"""What reads the settings of a device in a field protocol, by the name of its way; no kind is needed for that."""


def reading(start: Start, by: str | None = None) -> conversation.Conversation | None:
    """Return a conversation that reads its settings, beginning now; None where its kind knows none.

    Args:
        start: the device, and where it is (``old``).
        by: by which way; None for the first that can.

    Raises:
        BadInput: what its console or page is entered with was not given.
    """
    for name, reads in READERS.items():
        speaks = name in start.speaks or (start.kind is not None and start.kind.way_by(name) is not None)
        if name == by or (
            by is None and speaks and (name in BY_MAC or start.beside or (start.door and name in OVER_IPV6))
        ):
            return reads(start)
    ways = start.kind.way if start.kind else ()
    for way in ways:
        talk: conversation.Conversation | None = None
        if by in (None, way.by) and isinstance(way, ConsoleWay):
            talk = console_way.read_console(way, start)
        elif by in (None, way.by) and isinstance(way, PageWay):
            talk = page_way.read_page(way, start)
        if talk:
            return talk
    return None


def reads_with(start: Start) -> Callable[[float], conversation.Conversation] | None:
    """Return what begins to read at a moment, or None where nothing can.

    Raises:
        BadInput: something that it asks for was not given.
    """
    if reading(start) is None:
        return None

    def read(now: float) -> conversation.Conversation:
        talk = reading(replace(start, now=now))
        if talk is None:
            raise ValueError(phrase("it was seen to be read"))
        return talk

    return read
