"""One device as a plan has it, and ranges of addresses."""

from ipaddress import IPv4Address

from pydantic import BaseModel, ConfigDict

from askport.core.mac_field import Mac
from askport.core.phrases import phrase
from askport.core.plan.target import Pool, Target


class PlanPart(BaseModel):
    """What parts of a plan have in common: they do not change, and hold what is known only."""

    model_config = ConfigDict(frozen=True, extra="forbid", defer_build=True)


class Range(PlanPart):
    """Addresses from one to another, both included."""

    first: IPv4Address
    last: IPv4Address

    def __contains__(self, address: object) -> bool:
        return isinstance(address, IPv4Address) and self.first <= address <= self.last

    def __str__(self) -> str:
        return phrase("{first} to {last}", first=self.first, last=self.last)

    @property
    def pool(self) -> Pool:
        """The same, as checks take it."""
        return Pool(first=self.first, last=self.last)


class PlannedDevice(PlanPart):
    """One device that is to be commissioned."""

    tag: str
    place: str = ""
    kind: str = ""
    mac: Mac | None = None
    """From its label, where it was written down."""
    address: IPv4Address | None = None
    within: Range | None = None
    """The range of which it gets the next free address, where none is named."""
    prefix: int | None = None
    """None where its subnet says it."""
    gateway: IPv4Address | None = None
    dns: tuple[IPv4Address, ...] | None = None
    """None where its subnet says them."""
    columns: dict[str, str] = {}
    """Whatever else its line had, by the heads of the columns."""

    def becoming(self, target: Target) -> "PlannedDevice":
        """Return the same device with other values."""
        said = {
            "address": target.interface.ip,
            "within": None,
            "prefix": target.interface.network.prefixlen,
            "gateway": target.gateway,
            "dns": target.dns,
        }
        return self.model_copy(update=said)
