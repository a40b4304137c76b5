"""What setting a device by a field protocol has in common: what is told, what counts as taken, and its entry."""

from collections.abc import Callable, Collection, Sequence

from askport.core.phrases import phrase
from askport.core.protocols import words_of
from askport.core.ways import conversation, talking, way_entry
from askport.core.ways.start import Start


class SetByField(talking.Talking):
    """Tells a device its settings in a field protocol, and follows it.

    A way says what it tells and what it asks before that, and makes the conversation that does both.
    """

    def __init__(self, start: Start) -> None:
        """Begin to talk.

        Raises:
            ValueError: it cannot be reached, before and after.
            BadInput: something that is asked for was not given, or the plan calls it by what is no name.
        """
        super().__init__(start, start.kind, talking.FieldTerms(tuple(self.said_in_all(start))), [])
        self.wrote = self.writes(start)

    @classmethod
    def told(cls, start: Start) -> Sequence[str]:
        """Return what changes something, as it stands in the conversation: what was asked before does not count."""
        raise NotImplementedError

    @classmethod
    def said_in_all(cls, start: Start) -> Sequence[str]:
        """Return all that is said."""
        return cls.told(start)

    @classmethod
    def shown(cls, start: Start) -> list[str]:
        """Return what is told, as it is shown beforehand."""
        return list(cls.told(start))

    @classmethod
    def writes(cls, start: Start) -> tuple[str, ...]:
        """Return which of mask, gateway and dns it writes beside the address."""
        return ("mask", "gateway", *(("dns",) if start.target.dns else ()))


def field_entry(
    way: type[SetByField],
    *,
    says: str,
    does: str,
    reads: Callable[[Start], conversation.Conversation],
    why: str = "",
    fits: way_entry.Fits | None = None,
    over_ipv6: bool = False,
    tells: Collection[str] | None = None,
) -> way_entry.WayEntry:
    """Return the entry of such a way; ``why`` it fits stands behind "It speaks" and the protocol."""
    words = words_of(way.name)
    return way_entry.WayEntry(
        name=way.name,
        title=phrase("by {words}", words=words),
        done=phrase("by {words}", words=words),
        says=says,
        fits=fits or way_entry.speaks(way.name, phrase("It speaks {words}: {why}", words=words, why=why)),
        needs_laptop=True,
        needs_reach=True,
        over_ipv6=over_ipv6,
        enter_does=does,
        says_lines=way.shown,
        tells=lambda _: tells,
        begin=way,
        reads=reads,
    )
