"""What could lead to a wrong step, on the wire or on the laptop."""

from dataclasses import dataclass
from ipaddress import IPv4Address

from askport.core.addresses import MacAddress


@dataclass(frozen=True, slots=True, kw_only=True)
class Hazard:
    """Something that could lead to a wrong step, with what to do about it."""

    code: str
    text: str
    macs: tuple[MacAddress, ...] = ()
    """Whom it concerns."""
    address: IPv4Address | None = None

    @property
    def mac(self) -> MacAddress | None:
        """The first that it concerns."""
        return self.macs[0] if self.macs else None
