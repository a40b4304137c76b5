"""A subnet as a block of cells, each with what is there: one description for the screen, the SVG and the paper."""

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from enum import StrEnum
from ipaddress import IPv4Address

from askport.core.addresses import MacAddress
from askport.core.crew.in_hand import ALONE, Others
from askport.core.phrases import phrase
from askport.core.plan.target import Site

ROW = 64
"""Addresses in a row: a row never crosses a /26."""


class CellState(StrEnum):
    """What is at an address, the strongest first."""

    CONFLICT = "conflict"
    """Two are to have it, or somebody else has what is planned."""
    STRANGER = "stranger"
    """Held by somebody that the plan does not know."""
    AT_HAND = "current"
    IN_HAND = "in progress (other technician)"
    """Of another member of the crew than this laptop's."""
    PROVEN = "proven"
    UNPROVEN = "not proven"
    PLANNED = "planned"
    GATEWAY = "gateway"
    SERVER = "DNS server"
    RESERVED = "reserved"
    DEALT = "allocated to a technician"
    """Dealt out to somebody of the crew."""
    POOL = "pool"
    FREE = "free"


@dataclass(frozen=True, slots=True)
class Cell:
    """One address."""

    address: IPv4Address
    state: CellState
    words: str
    """What is there, as the end of a sentence."""
    tags: tuple[str, ...] = ()
    """The devices that are to have it."""


@dataclass(frozen=True, slots=True)
class MapRow:
    """A row of cells; or rows in which there is nothing, as their number."""

    first: IPv4Address
    cells: tuple[Cell, ...] = ()
    skipped: int = 0


@dataclass(frozen=True, slots=True, kw_only=True)
class KnownAddresses:
    """What is known of a site beside its subnets."""

    planned: Mapping[IPv4Address, tuple[str, ...]]
    """Addresses with the tags of those that are to have them."""
    states: Mapping[str, str]
    """How far devices are, by their tags."""
    at_hand: str = ""
    """The tag of the device at hand."""
    holders: Mapping[IPv4Address, tuple[MacAddress, str]] | None = None
    """Who answered at an address, with the tag that the register has for it, or an empty text."""
    others: Others = ALONE
    """What other members of the crew have in hand."""


def to_have(pairs: Iterable[tuple[IPv4Address, str]]) -> dict[IPv4Address, tuple[str, ...]]:
    """Return who is to have each address, each tag once, of addresses with tags: planned ones, and those left."""
    found: dict[IPv4Address, tuple[str, ...]] = {}
    for address, tag in pairs:
        if tag not in (tags := found.get(address, ())):
            found[address] = (*tags, tag)
    return found


def cell_at(address: IPv4Address, site: Site, known: KnownAddresses) -> Cell:
    """Return what is at one address of a subnet."""
    tags = known.planned.get(address, ())
    holder = (known.holders or {}).get(address)
    if len(tags) > 1:
        return Cell(address, CellState.CONFLICT, phrase("planned for {tags}", tags=" and ".join(tags)), tags)
    if holder and tags and holder[1] != tags[0]:
        return Cell(
            address,
            CellState.CONFLICT,
            phrase("planned for {tags}, and held by {holder}", tags=tags[0], holder=holder[1] or holder[0]),
            tags,
        )
    if tags:
        tag = tags[0]
        if tag == known.at_hand:
            return Cell(address, CellState.AT_HAND, phrase("{tag}, the current device", tag=tag), tags)
        if member := known.others.holder_of(tag):
            return Cell(
                address, CellState.IN_HAND, phrase("{tag}, which {member} has in hand", tag=tag, member=member), tags
            )
        state = {"proven": CellState.PROVEN, "unproven": CellState.UNPROVEN}.get(known.states.get(tag, ""))
        return Cell(address, state or CellState.PLANNED, f"{tag}, {state or phrase('planned')}", tags)
    if address == site.gateway:
        return Cell(address, CellState.GATEWAY, phrase("the site's gateway"))
    if address in site.dns:
        return Cell(address, CellState.SERVER, phrase("a DNS server"))
    if holder:
        return Cell(
            address, CellState.STRANGER, phrase("held by {holder}, which is not planned", holder=holder[1] or holder[0])
        )
    if member := known.others.dealt.get(address):
        return Cell(address, CellState.DEALT, phrase("free, and {member}'s to give", member=member))
    for ranges, state, words in (
        (site.reserved, CellState.RESERVED, phrase("reserved for something else")),
        (site.pools, CellState.POOL, phrase("in the DHCP range")),
    ):
        if any(address in each for each in ranges):
            return Cell(address, state, words)
    if address in (site.network.network_address, site.network.broadcast_address) and site.network.prefixlen < 31:
        return Cell(address, CellState.RESERVED, phrase("the subnet's own: no host can have it"))
    return Cell(address, CellState.FREE, phrase("appears free"))


def map_rows(site: Site, known: KnownAddresses) -> list[MapRow]:
    """Return a subnet row by row; several rows in a row with nothing but free addresses or pool become one."""
    first, last = int(site.network.network_address), int(site.network.broadcast_address)
    shown: Iterable[int] = range(0, last - first + 1, ROW)
    if site.network.num_addresses > ROW * 16:  # of a wide one, only the rows that have something: it may be a /8
        shown = sorted({(each - first) // ROW * ROW for each in _busy(site, known)})
    rows, at = list[MapRow](), first
    for row in (first + each for each in shown):
        if row > at:
            rows.append(MapRow(IPv4Address(at), skipped=(row - at) // ROW))
        at = min(row + ROW, last + 1)
        cells = (cell_at(IPv4Address(number), site, known) for number in range(row, at))
        rows.append(MapRow(IPv4Address(row), tuple(cells)))
    if at <= last:
        rows.append(MapRow(IPv4Address(at), skipped=(last + 1 - at) // ROW))
    return rows


def _busy(site: Site, known: KnownAddresses) -> list[int]:
    """Return every address of the subnet at which there is something that is worth a row."""
    named: Iterable[IPv4Address] = (*known.planned, *(known.holders or {}), *site.dns, *filter(None, (site.gateway,)))
    ends = [each for ranges in (site.pools, site.reserved) for pool in ranges for each in (pool.first, pool.last)]
    return [int(each) for each in (*named, *ends) if each in site.network]


def counts(rows: Iterable[MapRow]) -> dict[CellState, int]:
    """Return how many addresses are in which state, as far as devices are there or planned."""
    found: dict[CellState, int] = {}
    for row in rows:
        for cell in row.cells:
            if cell.tags or cell.state is CellState.STRANGER:
                found[cell.state] = found.get(cell.state, 0) + 1
    return found
