"""What a device says that its settings are, out of the groups that a kind's reading lines found."""

from collections.abc import Mapping
from dataclasses import dataclass
from ipaddress import AddressValueError, IPv4Address

from askport.core import addresses, errors
from askport.core.phrases import phrase
from askport.core.text import display_text, whole_number

_NONE = frozenset({"0.0.0.0", "", "-", "none", "disabled", "not", "unset"})


@dataclass(frozen=True, slots=True, kw_only=True)
class ReadBack:
    """The settings as the device itself says them; None where it does not."""

    address: IPv4Address | None = None
    prefix: int | None = None
    gateway: IPv4Address | None = None
    dns: tuple[IPv4Address, ...] = ()
    origin: str | None = None
    mac: addresses.MacAddress | None = None
    name: str | None = None
    said: frozenset[str] = frozenset()
    """Which of gateway and dns it said at all, be it that it has none."""
    unread: tuple[str, ...] = ()
    """What stood there and is no such value, as parts of sentences."""


def read_back(found: Mapping[str, str]) -> ReadBack:
    """Make values of what was found: address, prefix, mask, gateway, dns1 to dns3, mac, name and origin."""
    unread: list[str] = []

    def address(key: str) -> IPv4Address | None:
        text = found.get(key, "").strip()
        if text.lower() in _NONE:
            return None
        octets = [(part, whole_number(part, 0, 999)) for part in text.split(".")[:5]]  # padded ones too
        plain = ".".join(part if number is None else str(number) for part, number in octets)
        try:
            return IPv4Address(plain)
        except AddressValueError:
            unread.append(phrase("its {key} “{text}” is no address", key=key, text=display_text(text, 40)))
            return None

    mask = address("mask")
    prefix = addresses.prefix_of_mask(mask) if mask else None
    if mask and prefix is None:
        unread.append(phrase("its mask {mask} has its ones not in one piece", mask=mask))
    if (length := whole_number(found.get("prefix", "").strip(), 0, 32)) is not None:
        prefix = length
    mac = None
    if text := found.get("mac"):
        try:
            mac = addresses.MacAddress.parse(text)
        except errors.BadInput:
            unread.append(phrase("its MAC address “{text}” is none", text=display_text(text, 40)))
    servers = tuple(each for key in ("dns1", "dns2", "dns3") if (each := address(key)))
    return ReadBack(
        address=address("address"),
        prefix=prefix,
        gateway=address("gateway"),
        dns=servers,
        origin=display_text(found["origin"], 40) if found.get("origin") else None,
        mac=mac,
        name=display_text(found["name"], 60) if found.get("name") else None,
        said=frozenset({"gateway"} & found.keys() | ({"dns"} if "dns1" in found else set())),
        unread=tuple(unread),
    )


def words_of(said: ReadBack, *, called: bool = False) -> str:
    """Return what it says, as people write it; what it is called only where that was asked for."""
    at = str(said.address or phrase("no address"))
    parts = [f"{at}/{said.prefix}" if said.address and said.prefix is not None else at]
    if "gateway" in said.said:
        parts.append(phrase("gateway {gateway}", gateway=said.gateway or phrase("none")))
    if "dns" in said.said:
        parts.append(phrase("DNS {servers}", servers=", ".join(map(str, said.dns)) or phrase("none")))
    if called and said.name:
        parts.append(phrase("called {name}", name=said.name))
    return ", ".join(parts)


def contradictions(said: ReadBack, mac: addresses.MacAddress, at: IPv4Address | None) -> list[str]:
    """Return sentences on what the device says against what the wire shows."""
    told = []
    if at and said.address and said.address != at:
        told.append(phrase("It says that its address is {address}, and answers at {at}.", address=said.address, at=at))
    if said.mac and said.mac != mac:
        told.append(phrase("It says that its MAC address is {mac}, and answers as {mac_2}.", mac=said.mac, mac_2=mac))
    return told
