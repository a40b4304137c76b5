"""What a device was left with: each value with what it rests on."""

from enum import StrEnum
from ipaddress import IPv4Address
from typing import Annotated, Generic, TypeVar

from pydantic import BaseModel, ConfigDict, Field

from askport.core.phrases import phrase


class Basis(StrEnum):
    """What a value rests on, the strongest first."""

    MEASURED = "measured"
    """Found out from outside, by questions."""
    HEARD = "heard"
    """The device showed it by itself."""
    READ_BACK = "read-back"
    """Its own console, page or protocol says so."""
    GIVEN = "given"
    """A way wrote it, and the device confirmed."""
    TOLD = "told"
    """Somebody was to type it."""


T = TypeVar("T")


class Value(BaseModel, Generic[T]):
    """A value and its basis; a value of None with a basis says that the device has none."""

    model_config = ConfigDict(frozen=True, defer_build=True)

    value: T | None = None
    basis: Basis | None = None
    """None where it is not known."""

    def or_weaker(self, other: "Value[T]") -> "Value[T]":
        """Return the one of two that rests on more; of two alike, the other, which is the later one."""
        order = [*Basis, None]
        return self if order.index(self.basis) < order.index(other.basis) else other


class AsLeft(BaseModel):
    """The settings that a device was left with."""

    model_config = ConfigDict(frozen=True, defer_build=True)

    address: Value[IPv4Address] = Field(default_factory=Value)
    prefix: Value[Annotated[int, Field(ge=0, le=32)]] = Field(default_factory=Value)
    gateway: Value[IPv4Address] = Field(default_factory=Value)
    dns: Value[tuple[IPv4Address, ...]] = Field(default_factory=Value)

    def then(self, later: "AsLeft") -> "AsLeft":
        """Return what is known after more was found out: of each value the one that rests on most."""
        return AsLeft(
            address=self.address.or_weaker(later.address),
            prefix=self.prefix.or_weaker(later.prefix),
            gateway=self.gateway.or_weaker(later.gateway),
            dns=self.dns.or_weaker(later.dns),
        )

    @property
    def only_told(self) -> list[str]:
        """Which of address, mask and gateway rest on no more than somebody's word."""
        named = (("address", self.address), ("mask", self.prefix), ("gateway", self.gateway))
        return [name for name, value in named if value.basis in (None, Basis.TOLD)]

    def words(self) -> str:
        """Return address and prefix as people write them, with the prefix left out where it is not known."""
        if self.address.value is None:
            return phrase("not known")
        return f"{self.address.value}/{self.prefix.value}" if self.prefix.value is not None else f"{self.address.value}"
