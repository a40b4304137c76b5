"""Rows of a table as people keep them, made into a plan; each bad row in one sentence with its line and the remedy."""

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from ipaddress import IPv4Address, IPv4Network

from askport.core import addresses
from askport.core.errors import BadInput
from askport.core.phrases import phrase
from askport.core.plan import heads, planned_device, site_plan, working_order
from askport.core.text import display_text, whole_number

_NEXT = frozenset({"", "next", "next free", "free", "auto", "?", "-", "tbd", "nachste", "libre", "frei"})
_MAX_CELL = 200
_KEPT = ("place", "kind", "mac", "prefix", "gateway", "dns")
_TO = re.compile(r"\s*(?:-|–|\.\.\.?|\bto\b|\bbis\b|\bà\b)\s*")


@dataclass(frozen=True, slots=True)
class BadRow:
    """A row that cannot be taken, with why."""

    line: int
    sentence: str


@dataclass(slots=True)
class Imported:
    """What was read of one table."""

    columns: list[tuple[str, str | None]] = field(default_factory=list)
    """Each column's head with the field that it was taken for; None where it is carried along."""
    devices: list[planned_device.PlannedDevice] = field(default_factory=list)
    subnets: list[site_plan.Subnet] = field(default_factory=list)
    bad: list[BadRow] = field(default_factory=list)
    lines: dict[str, int] = field(default_factory=dict)
    """Where each device stands, by its tag."""
    is_subnets: bool = False
    """Whether it is of subnets, and not of devices."""


def import_rows(rows: Sequence[Sequence[str]], mapped: Mapping[str, str] | None = None) -> Imported:
    """Make a plan of the rows of a table, in which rows before the heads are titles.

    A row with one cell only heads a section: it is the place of the rows behind it, where they name none.

    Raises:
        BadInput: no row heads its columns, or ``mapped`` names what is not there.
    """
    mapped = mapped or {}
    head = heads.find_heads(rows, mapped)
    columns = heads.with_tags(heads.columns_of(rows[head], mapped), rows[head + 1 :])
    read = Imported(columns=columns)
    by_field = [field for _, field in columns]
    is_subnets = "network" in by_field and "tag" not in by_field
    tags, read.is_subnets = read.lines, is_subnets
    section = ""
    for line, row in enumerate(rows[head + 1 :], head + 2):
        cells = [cell.strip()[:_MAX_CELL] for cell in row]
        filled = [cell for cell in cells if cell]
        if not filled or cells[: len(columns)] == [name for name, _ in columns]:
            continue
        if len(filled) == 1 and len(columns) > 2 and not is_subnets:
            section = display_text(filled[0], _MAX_CELL)
            continue
        try:
            if is_subnets:
                read.subnets.append(_subnet(_Cells(columns, cells)))
                continue
            device = _device(_Cells(columns, cells), section)
            if first := tags.get(device.tag):
                raise BadInput(
                    "The tag {tag} stands in line {first} already: give each device its own.",
                    tag=device.tag,
                    first=first,
                )
        except BadInput as error:
            read.bad.append(BadRow(line, error.message))
        else:
            tags[device.tag] = line
            read.devices.append(device)
    if not is_subnets and not read.subnets:
        read.subnets = subnets_of(read.devices)
    return read


def keep_others(plan: site_plan.Plan, tables: Sequence[Imported]) -> None:
    """Have devices that are planned already keep what a table has no column for."""
    for table in tables:
        given = {field_ for _, field_ in table.columns if field_}
        for place, each in enumerate(table.devices):
            if before := plan.by_tag.get(each.tag):
                kept = {name for name in _KEPT if name not in given and getattr(each, name) in ("", None)}
                update: dict[str, object] = {name: getattr(before, name) for name in kept}
                if "address" not in given:
                    update |= {"address": before.address, "within": before.within}
                update["columns"] = {**before.columns, **each.columns}
                table.devices[place] = each.model_copy(update=update)


class _Cells:
    """The cells of one row, by field and by head."""

    def __init__(self, columns: Sequence[tuple[str, str | None]], cells: Sequence[str]) -> None:
        self.by_field: dict[str, list[str]] = {}
        self.others: dict[str, str] = {}
        for (name, field_), cell in zip(columns, cells, strict=False):
            if not cell:
                continue
            if field_:
                self.by_field.setdefault(field_, []).append(cell)
            elif name:
                self.others[display_text(name, 60)] = display_text(cell, _MAX_CELL)

    def get(self, field_: str) -> str:
        """Return the first cell of a field, or nothing."""
        return next(iter(self.by_field.get(field_, [])), "")


def _device(cells: _Cells, section: str) -> planned_device.PlannedDevice:
    if not cells.get("tag"):
        raise BadInput("It has no tag: give it one.")
    tag = working_order.clean_tag(cells.get("tag"))
    address, within, prefix = _address(cells.get("address"))
    own_prefix = _prefix(cells.get("prefix"))
    if prefix is not None and own_prefix is not None and prefix != own_prefix:
        raise BadInput(
            "{tag} has two prefixes, /{prefix} at its address and /{own_prefix} beside it: leave one out.",
            tag=tag,
            prefix=prefix,
            own_prefix=own_prefix,
        )
    prefix = own_prefix if prefix is None else prefix
    dns = tuple(addresses.parse_list(cells.by_field.get("dns", []), phrase("DNS server"))) or None
    mac = addresses.MacAddress.parse(cells.get("mac")) if cells.get("mac") else None
    return planned_device.PlannedDevice(
        tag=tag,
        place=display_text(cells.get("place"), _MAX_CELL) or section,
        kind=display_text(cells.get("kind"), _MAX_CELL),
        mac=mac,
        address=address,
        within=within,
        prefix=prefix,
        gateway=addresses.parse_address(cells.get("gateway"), "gateway") if cells.get("gateway") else None,
        dns=dns,
        columns=cells.others,
    )


def _address(text: str) -> tuple[IPv4Address | None, planned_device.Range | None, int | None]:
    """Read an address column: an address, one with its prefix, or a range of which the next free one is taken."""
    plain = text.casefold().strip()
    if plain in _NEXT:
        return None, None, None
    range_ = re.sub(r"^next( free)?( in)?\s+", "", plain)
    if range_ != plain and "/" in range_:
        network = addresses.parse_network(range_)
        if network.prefixlen > 30:
            raise BadInput("'{text}' has no address to choose: write the device's own.", text=display_text(text, 60))
        return None, planned_device.Range(first=network[1], last=network[-2]), None
    if "/" not in range_ and len(_TO.split(range_)) == 2:
        return None, _range(range_), None
    if "/" in text or " " in text.strip():
        interface = addresses.parse_interface(text)
        return interface.ip, None, interface.network.prefixlen
    return addresses.parse_address(text), None, None


def _range(text: str) -> planned_device.Range:
    parts = _TO.split(text.strip())
    if len(parts) != 2:
        raise BadInput("'{text}' is not a range: write it like 10.84.18.0-10.84.18.255.", text=display_text(text, 60))
    first = addresses.parse_address(parts[0])
    ends = parts[1] if "." in parts[1] else f"{str(first).rsplit('.', 1)[0]}.{parts[1]}"
    last = addresses.parse_address(ends)
    if last < first:
        raise BadInput("The range '{text}' ends before it begins: turn it round.", text=display_text(text, 60))
    return planned_device.Range(first=first, last=last)


def _prefix(text: str) -> int | None:
    plain = text.strip().removeprefix("/")
    if not plain:
        return None
    if "." in plain:
        prefix = addresses.prefix_of_mask(addresses.parse_address(plain, "mask"))
        if prefix is None:
            raise BadInput("The mask {plain} has its ones not in one piece: write e.g. 255.255.252.0.", plain=plain)
        return prefix
    length = whole_number(plain, 1, 32)
    if length is None:
        raise BadInput(
            "'{text}' is not a prefix length: write one from 1 to 32, or a mask.", text=display_text(text, 40)
        )
    return length


def _subnet(cells: _Cells) -> site_plan.Subnet:
    network = addresses.parse_network(cells.get("network"))
    prefix = _prefix(cells.get("prefix"))
    if "/" not in cells.get("network") and prefix is not None:
        network = IPv4Network((int(network.network_address), prefix), strict=False)
    if network.prefixlen == 32:
        raise BadInput(
            "{network_address} has no prefix: write {network_address}/24, say.", network_address=network.network_address
        )
    vlan = cells.get("vlan")
    if vlan and whole_number(vlan, 1, 4094) is None:
        raise BadInput("'{vlan}' is not a VLAN: write a number from 1 to 4094.", vlan=display_text(vlan, 20))
    ranges = {
        name: tuple(_range(each) for text in cells.by_field.get(name, []) for each in re.split(r"[,;]", text))
        for name in ("pool", "reserved")
    }
    return site_plan.Subnet(
        network=network,
        gateway=addresses.parse_address(cells.get("gateway"), "gateway") if cells.get("gateway") else None,
        dns=tuple(addresses.parse_list(cells.by_field.get("dns", []), phrase("DNS server"))),
        pools=ranges["pool"],
        reserved=ranges["reserved"],
        vlan=int(vlan) if vlan else None,
    )


def subnets_of(devices: Sequence[planned_device.PlannedDevice]) -> list[site_plan.Subnet]:
    """Return the subnets that devices name by their prefixes, with the gateway and servers that all of one agree on."""
    found: dict[IPv4Network, list[planned_device.PlannedDevice]] = {}
    for each in devices:
        if each.address and each.prefix:
            found.setdefault(IPv4Network((int(each.address), each.prefix), strict=False), []).append(each)
    subnets = []
    for network, members in found.items():
        gateways, servers = {each.gateway for each in members}, {each.dns for each in members}
        gateway = gateways.pop() if len(gateways) == 1 else None
        dns = servers.pop() if len(servers) == 1 else None
        subnets.append(site_plan.Subnet(network=network, gateway=gateway, dns=dns or ()))
    return subnets
