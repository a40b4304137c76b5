"""Looking for devices in a register: words that stand anywhere, and what a device is narrowed down by."""

import re
from dataclasses import dataclass, field
from datetime import datetime
from enum import StrEnum

from askport.core.errors import BadInput
from askport.core.phrases import listed
from askport.core.plan.planned_device import PlannedDevice
from askport.core.register.visits import Row
from askport.core.text import display_text


class Order(StrEnum):
    """In which order devices are listed."""

    FOUND = "found"
    TAG = "tag"
    ADDRESS = "address"
    STATE = "state"
    PLACE = "place"
    KIND = "kind"
    DAY = "day"


NARROWED_BY = ("state", "place", "kind", "day", "maker")
"""What can be asked for by name, as in ``place:north``."""
_NAMED = re.compile(rf"({'|'.join(NARROWED_BY)}):(\S*)", re.IGNORECASE)


@dataclass(frozen=True, slots=True)
class Wanted:
    """What is looked for."""

    words: tuple[str, ...] = ()
    """Each has to stand somewhere in what is known of a device."""
    named: tuple[tuple[str, str], ...] = ()
    """What a value has to have at its beginning or after a space: ``place``, ``north``."""
    order: Order = Order.FOUND


def wanted(text: str, order: Order = Order.FOUND) -> Wanted:
    """Return what a text asks for: words, and values by their names as in ``state:proven``."""
    folded = text.casefold()
    named = tuple((name, value) for name, value in _NAMED.findall(folded) if value)
    return Wanted(words=tuple(_NAMED.sub(" ", folded).split()), named=named, order=order)


def order_named(text: str) -> Order:
    """Read the name of an order.

    Raises:
        BadInput: there is none of that name.
    """
    try:
        return Order(text.casefold())
    except ValueError:
        raise BadInput(
            "Cannot sort by '{text}': choose {order}.", text=display_text(text, 40), order=listed(Order)
        ) from None


@dataclass(frozen=True, slots=True, kw_only=True)
class Brief:
    """A device in one line of a table."""

    id: int
    tag: str
    state: str
    as_left: str
    as_found: str
    kind: str
    place: str
    maker: str
    mac: str
    recorded_at: datetime | None
    has_open_points: bool = field(default=False)


def brief(row: Row, planned: PlannedDevice | None) -> Brief:
    """Return a device in one line."""
    return Brief(
        id=row.id, tag=row.tag, state=row.state, as_left=row.last.as_left.words() if row.left else "",
        as_found=row.first.as_found, kind=planned.kind if planned else "", place=planned.place if planned else "",
        maker=row.maker or "", mac=str(row.mac), recorded_at=row.last.recorded_at,
        has_open_points=bool(row.open_points),
    )  # fmt: skip


def haystack(row: Row, planned: PlannedDevice | None) -> str:
    """Return everything about a device in which is searched."""
    last = row.last
    known: list[object] = [row.tag, row.state, last.as_left.words(), row.first.as_found, row.maker, last.way]
    if planned:
        known += [planned.kind, planned.place, *planned.columns.values()]
    known += [text for mac in row.macs for text in (str(mac), mac.hex())]
    known += [last.as_left.gateway.value, *(last.as_left.dns.value or ()), last.recorded_at and last.recorded_at.date()]
    known += [f"{proof.name} {proof.measured} {proof.because}" for proof in last.proofs.values()]
    known += [f"{note.text} {note.photo}" for note in row.notes]
    return " ".join(str(each) for each in known if each).casefold()
