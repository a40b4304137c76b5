"""The register: what the journal adds up to, a row for each device."""

from collections.abc import Iterable
from datetime import datetime
from ipaddress import IPv4Address, IPv4Interface

from pydantic import BaseModel

from askport.core.register.entries import Found, Line, Mac, Named, Proved, Recorded, WasSet


class ProofRow(BaseModel):
    """The last outcome of one proof."""

    name: str
    expected: str
    measured: str
    passed: bool
    because: str
    at: datetime


class Row(BaseModel):
    """One device, as found and as left."""

    unit: int
    """Its number in the journal when it was found last."""
    tag: str
    mac: Mac
    maker: str | None
    found_address: IPv4Address | None
    found_prefix: int | None
    found_gateway: IPv4Address | None
    found_asking: str | None
    """The protocol by which it asked for an address, or None."""
    found_at: datetime
    left: IPv4Interface | None = None
    left_gateway: IPv4Address | None = None
    left_dns: tuple[IPv4Address, ...] = ()
    way: str | None = None
    result: str | None = None
    proofs: dict[str, ProofRow] = {}
    left_out: tuple[str, ...] = ()
    recorded_at: datetime | None = None

    @property
    def state(self) -> str:
        """How far it is, in one word."""
        if self.recorded_at:
            return "proven" if self.is_proven else "unproven"
        return "set" if self.left else "found"

    @property
    def is_proven(self) -> bool:
        """Whether it was recorded with every proof made and passed."""
        return bool(self.proofs) and all(proof.passed for proof in self.proofs.values()) and not self.left_out

    @property
    def as_found(self) -> str:
        """What it was found with, in a few words."""
        if self.found_asking and not self.found_address:
            return f"asked by {self.found_asking.upper()}"
        if self.found_address is None:
            return "not looked at"
        prefix = f"/{self.found_prefix}" if self.found_prefix is not None else ""
        return f"{self.found_address}{prefix}"


def fold(lines: Iterable[Line]) -> list[Row]:
    """Return the register after these lines, in the order in which devices were first found.

    A device that comes through the job again keeps its first as-found values; what was set and proven starts anew.
    """
    rows: dict[Mac, Row] = {}
    for line in lines:
        match line.entry:
            case Found() as found:
                row = Row(
                    unit=found.unit,
                    tag=found.tag,
                    mac=found.mac,
                    maker=found.maker,
                    found_address=found.address,
                    found_prefix=found.prefix,
                    found_gateway=found.gateway,
                    found_asking=found.asks_by,
                    found_at=line.at,
                )
                before = rows.get(found.mac)
                rows[found.mac] = _found_again(before, found) if before else row
            case Named() as named if row_of := rows.get(named.mac):
                row_of.tag = named.tag
            case WasSet() as done if row_of := rows.get(done.mac):
                row_of.way, row_of.result, row_of.proofs, row_of.recorded_at = done.way, done.result, {}, None
                if done.result == "taken":
                    row_of.left, row_of.left_gateway, row_of.left_dns = done.interface, done.gateway, done.dns
            case Proved() as proof if row_of := rows.get(proof.mac):
                kept = proof.model_dump(include={"name", "expected", "measured", "passed", "because"})
                row_of.proofs = {**row_of.proofs, proof.name: ProofRow(**kept, at=line.at)}
            case Recorded() as recorded if row_of := rows.get(recorded.mac):
                row_of.recorded_at, row_of.left_out = line.at, recorded.left_out
    return list(rows.values())


def _found_again(before: Row, found: Found) -> Row:
    return before.model_copy(
        update={"unit": found.unit, "tag": found.tag, "proofs": {}, "recorded_at": None, "left_out": ()}
    )
