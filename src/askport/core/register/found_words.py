"""A device as it was found, in words: what the wire showed, and else what it said itself."""

from collections.abc import Collection
from ipaddress import IPv4Address, IPv6Address
from typing import NamedTuple, Protocol

from askport.core.addresses import mask_of_prefix
from askport.core.phrases import phrase

NOT_KNOWN = phrase("not known")


class OwnWord(Protocol):
    """What a device said of its settings."""

    @property
    def prefix(self) -> int | None:
        """Its prefix length, where it said it."""

    @property
    def gateway(self) -> IPv4Address | None:
        """Its gateway, where it said one."""

    @property
    def dns(self) -> tuple[IPv4Address, ...]:
        """Its DNS servers, where it said any."""

    @property
    def said(self) -> Collection[str]:
        """Which of gateway and dns it said at all."""


class FoundWords(NamedTuple):
    """Mask, gateway and DNS servers, as people write them."""

    mask: str
    gateway: str
    dns: str


def found_words(prefix: int | None, gateway: IPv4Address | None, said: OwnWord | None) -> FoundWords:
    """Return the values that stand beside the address; "none" is what the device says, and else it is not known."""
    known = prefix if prefix is not None else said.prefix if said else None
    own_gateway = str(said.gateway or phrase("none (read back)")) if said and "gateway" in said.said else NOT_KNOWN
    servers = " ".join(map(str, said.dns)) if said else ""
    own_dns = servers or (phrase("none (read back)") if said and "dns" in said.said else NOT_KNOWN)
    return FoundWords(
        mask=str(mask_of_prefix(known)) if known is not None else NOT_KNOWN,
        gateway=str(gateway) if gateway else own_gateway,
        dns=own_dns,
    )


def ipv6_words(found: Collection[IPv6Address], left: Collection[IPv6Address]) -> str:
    """Say which IPv6 addresses a device was heard to use, as found and as left."""
    was, now = (" ".join(map(str, each)) for each in (found, left))
    if not now or now == was:
        return f"{was}, heard"
    return phrase("{now}, heard; as found {was}", now=now, was=was or "none heard")
