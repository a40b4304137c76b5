"""Which fields of a request hold which of the values that a device was to get."""

import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from ipaddress import AddressValueError, IPv4Address, IPv4Interface

from askport.core.addresses import prefix_of_mask
from askport.core.errors import Refused
from askport.core.phrases import listed, phrase
from askport.core.plan.target import Target
from askport.core.text import display_text, whole_number

_SHORTEST_MASK = 8
_DOTTED = re.compile(r"\d{1,3}(?:\.\d{1,3}){3}")
_OCTET = re.compile(r"\d{1,3}")
_NAMES = (
    ("dns", re.compile(r"dns|name.?serv|resolver", re.IGNORECASE)),
    ("gateway", re.compile(r"gate|gw|router|default.?r|def.?gw", re.IGNORECASE)),
    (
        "mask",
        re.compile(r"mask|netm|prefix|cidr|\bnm\b|subn|\bbits?\b|\b(?:ip|net|addr)?_?len(?:gth)?\b", re.IGNORECASE),
    ),
    ("address", re.compile(r"addr|\bip|ip\b|ip_|_ip|host.?ip|ipv4", re.IGNORECASE)),
)
"""What people call such fields, the surest first."""


@dataclass(frozen=True, slots=True)
class Stood:
    """A placeholder, and the value that it stood for."""

    placeholder: str
    value: str
    field: str


def _role(name: str) -> str:
    return next((role for role, pattern in _NAMES if pattern.search(name)), "")


def plain_address(text: str) -> IPv4Address | None:
    """Read an address, padded octets too."""
    if not _DOTTED.fullmatch(text.strip()):
        return None
    try:
        return IPv4Address(".".join(str(int(each)) for each in text.strip().split(".")))
    except AddressValueError:
        return None


@dataclass(frozen=True, slots=True)
class _Held:
    """An address that fields hold: one whole, or four with an octet each."""

    address: IPv4Address
    fields: tuple[str, ...]
    padded: bool

    @property
    def role(self) -> str:
        return _role(self.fields[0])


def held_in(fields: Mapping[str, str]) -> list[_Held]:
    """Return the addresses that fields hold, in the order of the fields."""
    found = []
    for name, value in fields.items():
        head = value.split("/")[0]
        if address := plain_address(head):
            found.append(_Held(address, (name,), head.strip() != str(address)))
    return [*found, *_in_octets(fields)]


def _in_octets(fields: Mapping[str, str]) -> Iterator[_Held]:
    """Find four fields in a row that hold an octet each, and are called alike but for one letter or digit."""
    names = list(fields)
    place = 0
    while place + 4 <= len(names):
        four = names[place : place + 4]
        octets = [fields[each].strip() for each in four]
        numbers = [int(each) for each in octets if _OCTET.fullmatch(each)]
        if len(numbers) == 4 and max(numbers) < 256 and len({_stem(each) for each in four}) == 1:
            padded = any(each != str(int(each)) for each in octets)
            yield _Held(IPv4Address(".".join(map(str, numbers))), tuple(four), padded)
            place += 4
        else:
            place += 1


def _stem(name: str) -> str:
    return re.sub(r"[0-9]+(?=\D*$)|[a-d](?=\]?$)", "#", name)


def meant_by(
    fields: Mapping[str, str], present: IPv4Address | None = None, seen: IPv4Address | None = None
) -> Target | None:
    """Return what a request means a device to become, by what it became, and else by the fields' names and shapes.

    Args:
        present: where the device is before.
        seen: where it was seen to be afterwards, if it was.

    Raises:
        Refused: several fields could tell its address.
    """
    held = held_in(fields)
    masks = [each for each in held if (prefix_of_mask(each.address) or 0) >= _SHORTEST_MASK and each.role != "address"]
    prefix = prefix_of_mask(masks[0].address) if masks else _prefix_in(fields)
    others = [each for each in held if each not in masks and int(each.address)]
    named = [each for each in others if each.role == "address"]
    # A field that nothing is told of by its name is the address where no other can be.
    may_be = [each for each in named if each.address != present] or [
        each for each in others if not each.role and each.address != present
    ]
    if seen:
        may_be = [each for each in others if each.address == seen]
    elif len({each.address for each in may_be}) > 1:
        each = listed(f"“{display_text(each.fields[0], 40)}” ({each.address})" for each in may_be)
        raise Refused("{each} could each be its address: give the one that it was set to with --to.", each=each)
    address = next(iter(may_be), None)
    if address is None or prefix is None:
        return None
    gateways = [each.address for each in others if each.role == "gateway"]
    dns = tuple(each.address for each in others if each.role == "dns")
    interface = IPv4Interface((int(address.address), prefix))
    return Target(interface=interface, gateway=gateways[0] if gateways else None, dns=dns)


def _prefix_in(fields: Mapping[str, str]) -> int | None:
    for name, value in fields.items():
        tail = value.rpartition("/")[2] if "/" in value and plain_address(value.split("/")[0]) else value
        is_one = whole_number(tail, _SHORTEST_MASK, 32) is not None
        if is_one and (tail is not value or _role(name) == "mask"):
            return int(tail)
    return None


def still_in(made: Mapping[str, str], address: IPv4Address) -> str:
    """Say which fields of a request still hold an address as it was, however it is written; nothing where none does.

    Args:
        made: the fields, with placeholders where values were understood.
    """
    octets = str(address).split(".")
    padded = ".".join(f"{int(each):03}" for each in octets)
    spelt = {str(address), padded, str(int(address)), f"{int(address):08x}", f"{int(address):x}"}
    names = list(made)
    for place, (name, text) in enumerate(made.items()):
        plain = re.sub(r"^0x|[^0-9a-f.]", "", text.casefold()) if "{" not in text else ""
        four = [made[each].lstrip("0") or "0" for each in names[place : place + 4]]
        in_one = [each.lstrip("0") or "0" for each in re.findall(r"\d+", text)] if "{" not in text else []
        if plain in spelt or in_one == octets or four == octets:
            return phrase("“{name}” holds {text}", name=display_text(name, 40), text=display_text(text, 40))
        if (plain and plain == ".".join(octets[:3])) or four[:2] == [".".join(octets[:3]), octets[3]]:
            return phrase("“{name}” holds a part of {address}", name=display_text(name, 40), address=address)
    return ""


def templates(fields: Mapping[str, str], target: Target, name: str = "") -> tuple[dict[str, str], list[Stood]]:
    """Return the fields with placeholders where the target's values stood, and what each stood for."""
    made, stood = dict(fields), list[Stood]()
    values = [("address", target.interface.ip), ("mask", target.interface.netmask)]
    values += [("gateway", target.gateway)] if target.gateway else []
    values += [(f"dns{place}", each) for place, each in enumerate(target.dns[:3], 1)]
    for held in held_in(fields):
        fitting = [key for key, value in values if value == held.address]
        by_name = [key for key in fitting if held.role and key.startswith(held.role)]
        key = next(iter((*by_name, *fitting)), None)
        if key is None:
            continue
        if len(held.fields) == 4:
            for place, field in enumerate(held.fields, 1):
                made[field] = f"{{{key}.{place}}}"
                stood.append(Stood(f"{{{key}.{place}}}", fields[field], field))
            continue
        field = held.fields[0]
        placeholder = f"{{{key}:padded}}" if held.padded else f"{{{key}}}"
        tail = fields[field].partition("/")[2]
        with_prefix = key == "address" and tail == str(target.interface.network.prefixlen)
        made[field] = f"{placeholder}/{{prefix}}" if with_prefix else placeholder
        stood.append(Stood(made[field], fields[field], field))
    for field, value in fields.items():
        if made[field] != value:
            continue
        if _role(field) == "mask" and value.strip("/ ") == str(target.interface.network.prefixlen):
            made[field] = value.replace(value.strip("/ "), "{prefix}")
        elif name and value == name:
            made[field] = "{name}"
        if made[field] != value:
            stood.append(Stood(made[field], value, field))
    return made, stood
