"""What the register knows of a device that comes to the cable again."""

import re
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass
from datetime import date
from ipaddress import IPv4Address, IPv4Interface

from askport.core.addresses import MacAddress
from askport.core.phrases import phrase
from askport.core.plan.target import Target
from askport.core.register.visits import Row

_IMPROVISED = re.compile(r"unit \d+")


@dataclass(frozen=True, slots=True, kw_only=True)
class Known:
    """One device of the register, as it stands."""

    tag: str
    state: str
    """How it was left when: ``proven yesterday``."""
    target: Target | None
    """What it was left with, so that it is meant to be that again; None where that is not known."""

    found_at: IPv4Address | None = None
    """Where it was found the last time."""
    key: str | None = None
    """The key that its console or page showed the last time."""
    is_recorded: bool = False
    """Whether its last visit went through to the record."""

    @property
    def words(self) -> str:
        """Which it is, and how it was left when: ``TG-01, proven yesterday``."""
        return f"{self.tag or 'without a tag'}, {self.state}"

    @property
    def is_named(self) -> bool:
        """Whether somebody gave it its tag."""
        return bool(self.tag) and not _IMPROVISED.fullmatch(self.tag)


class KnownDevices(Mapping[MacAddress, Known]):
    """The devices of a register by their MAC addresses, as they stand on a day; each looked up when it is asked for."""

    def __init__(self, by_mac: Callable[[MacAddress], Row | None], today: date) -> None:
        self._by_mac, self._today = by_mac, today

    def __getitem__(self, mac: MacAddress) -> Known:
        row = self._by_mac(mac)
        if row is None:
            raise KeyError(mac)
        return Known(tag=row.tag, state=_state(row, self._today), target=_target(row), key=row.key,
                     found_at=row.last.found_address, is_recorded=row.last.recorded_at is not None)  # fmt: skip

    def __iter__(self) -> Iterator[MacAddress]:
        raise NotImplementedError(phrase("the register is asked, not gone through"))

    def __len__(self) -> int:
        raise NotImplementedError(phrase("the register is asked, not counted"))


def _state(row: Row, today: date) -> str:
    at = (row.last.recorded_at or row.last.found_at).astimezone()
    days = (today - at.date()).days
    when = {0: "today", 1: "yesterday"}.get(days, phrase("on {at:%Y-%m-%d}", at=at))
    return f"{row.state} {when}"


def _target(row: Row) -> Target | None:
    left = row.last.as_left
    address, prefix = left.address.value, left.prefix.value
    if address is None or prefix is None:
        return None
    gateway: IPv4Address | None = left.gateway.value
    return Target(interface=IPv4Interface((address, prefix)), gateway=gateway, dns=left.dns.value or ())
