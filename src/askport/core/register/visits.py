"""What is known of the devices of a job: a row for each, with all its visits."""

from datetime import datetime
from ipaddress import IPv4Address, IPv4Interface, IPv6Address

from pydantic import BaseModel

from askport.core import addresses, mac_field
from askport.core.phrases import phrase
from askport.core.proofs.verdict import verdict_of
from askport.core.register.as_left import AsLeft
from askport.core.register.entries import UNHEARD, IdentifiedBy, PowerCut, ReadOut
from askport.core.sentence_field import Sentence

_VERDICTS = {True: phrase("passed"), False: phrase("failed"), None: phrase("not made")}


class ProofRow(BaseModel, defer_build=True):
    """The last outcome of one proof."""

    name: str
    expected: Sentence
    measured: Sentence
    passed: bool | None
    because: Sentence
    at: datetime
    after_cut: bool = False
    """Whether it was made once more after a power cycle."""
    before: bool | None = None
    """Where it was made twice: what it had come to before the power cycle."""

    @property
    def verdict(self) -> str:
        """How it ended, in a word; both times where it was made twice and did not come to the same."""
        now = _VERDICTS[self.passed]
        if not self.after_cut:
            return now
        return (
            phrase("{now} twice", now=now)
            if self.before is self.passed
            else phrase("{verdicts}, then {now}", verdicts=_VERDICTS[self.before], now=now)
        )


class Otherwise(BaseModel, defer_build=True, frozen=True):
    """A value that the plan has for a device now, and that its last visit has not shown."""

    name: str
    """Of the proof that shows it."""
    planned: str
    left: str
    """What the device was left with; empty where that is not known."""


class Visit(BaseModel, defer_build=True):
    """One time that a device was on the cable."""

    unit: int
    """Its number in the journal."""
    member: str = ""
    """Which member of the crew had it on the cable; empty where it was this file's own, or there is no crew."""
    upon: tuple[int, ...] = ()
    """In a crew, the numbers of earlier visits, of whomever, that were known when this one began."""
    found_at: datetime
    found_address: IPv4Address | None
    found_prefix: int | None
    found_gateway: IPv4Address | None
    found_belief: str = ""
    """How sure its address was; ``unheard`` where it was not looked at before."""
    found_asking: str | None
    """The protocol by which it asked for an address, or None."""
    found_ipv6: tuple[IPv6Address, ...] = ()
    """The IPv6 addresses that it used then."""
    left_ipv6: tuple[IPv6Address, ...] = ()
    """Those that it was heard to use by the time it was recorded."""
    found_said: ReadOut | None = None
    """What it said of itself then."""
    identities: tuple[IdentifiedBy, ...] = ()
    """By what it is known in field protocols."""
    key: str | None = None
    """The key that its console or page showed."""
    cut: PowerCut | None = None
    """The last power cycle that it was put through."""
    set_at: datetime | None = None
    """When it had taken what it was set to."""
    slips: int = 0
    """How often setting it came to something else than was meant."""
    way: str | None = None
    result: str | None = None
    permanent: bool | None = None
    """Whether what it was told lasts, as far as its way knows."""
    as_left: AsLeft = AsLeft()
    proofs: dict[str, ProofRow] = {}
    left_out: tuple[str, ...] = ()
    borrowed: list[IPv4Interface] = []
    """What the laptop borrowed to talk to it."""
    frames: str | None = None
    """By which the frames that its as-found values rest on are kept: their SHA-256."""
    recorded_at: datetime | None = None
    reopened: bool = False
    """Whether what was recorded does not count any more."""

    def laptop_beside(self, address: IPv4Address | None) -> IPv4Interface | None:
        """Return what the laptop had borrowed in the subnet of one of its addresses, or None."""
        return next((each for each in self.borrowed if address and address in each.network), None)

    @property
    def has_changed(self) -> bool:
        """Whether something was set or proved in it, so that it says more of the device than the visit before."""
        return bool(self.way or self.proofs or self.recorded_at)

    @property
    def is_unfinished(self) -> bool:
        """Whether it took what it was set to, and that is not recorded yet."""
        return self.result == "taken" and self.recorded_at is None

    @property
    def state(self) -> str:
        """How far it came, in one word."""
        if self.recorded_at:
            return "proven" if self.is_proven else "unproven"
        return "set" if self.result == "taken" else "found"

    @property
    def is_proven(self) -> bool:
        """Whether it was recorded with every proof that can be made, made and passed, and none asked for is missing."""
        is_pass = verdict_of(self.proofs.values()).is_pass(self.left_out)
        return self.recorded_at is not None and is_pass and not self.left_out and "address" not in self.unshown

    @property
    def failed(self) -> list[str]:
        """The proofs that failed."""
        return [name for name, proof in self.proofs.items() if proof.passed is False]

    @property
    def not_made(self) -> list[str]:
        """Proofs that could not be made."""
        return [name for name, proof in self.proofs.items() if proof.passed is None]

    @property
    def unshown(self) -> list[str]:
        """Which of address, mask and gateway rest on somebody's word only."""
        return self.as_left.only_told

    @property
    def as_found(self) -> str:
        """What it was found with, in a few words."""
        if self.found_asking and not self.found_address:
            return phrase("asked by {found_asking}", found_asking=self.found_asking.upper())
        if self.found_address is None:
            return phrase("not looked at") if self.found_belief == UNHEARD else phrase("no address")
        said = self.found_said if self.found_said and self.found_said.address == self.found_address else None
        known = self.found_prefix if self.found_prefix is not None or said is None else said.prefix
        prefix = f"/{known}" if known is not None else ""
        return f"{self.found_address}{prefix}"


class Note(BaseModel, defer_build=True):
    """What somebody wrote down about a device."""

    at: datetime
    text: Sentence
    photo: str = ""
    """The name of a file."""


class Row(BaseModel, defer_build=True):
    """One device: as it was found first, and as the last visit that changed something left it."""

    id: int
    """Counts the devices of a job from 1, in the order in which they were first found."""
    tag: str
    macs: list[mac_field.Mac]
    """All that it was found with, the first first."""
    maker: str | None
    visits: list[Visit]
    """The earliest first; none of them is ever lost."""
    notes: list[Note] = []
    otherwise: tuple[Otherwise, ...] = ()
    """What the plan has for it now and its last visit has not shown: it is not proven with that."""

    @property
    def mac(self) -> addresses.MacAddress:
        """The MAC address that it was found with last."""
        return self.macs[-1]

    @property
    def identities(self) -> tuple[IdentifiedBy, ...]:
        """By what it is known in field protocols, as it said last."""
        return next((each.identities for each in reversed(self.visits) if each.identities), ())

    @property
    def first(self) -> Visit:
        """The visit in which it was found first."""
        return self.visits[0]

    @property
    def last(self) -> Visit:
        """The visit that stands: the last that was recorded or that told the device something.

        One that was left in mid-proof takes nothing back; where there is no other, it is the last of all.
        """
        stands = (each for each in reversed(self.visits) if each.recorded_at or each.reopened or each.way)
        changed = (each for each in reversed(self.visits) if each.has_changed)
        return next(stands, None) or next(changed, self.visits[-1])

    @property
    def unfinished(self) -> Visit | None:
        """A visit after the one that stands that began to prove and was not recorded, or None."""
        last = self.last
        return next((each for each in reversed(self.visits) if each.proofs and each.found_at > last.found_at), None)

    @property
    def state(self) -> str:
        """How far it is, in one word."""
        return "unproven" if self.last.is_proven and self.otherwise else self.last.state

    @property
    def is_proven(self) -> bool:
        """Whether it stands as proven, with the values that the plan has for it now."""
        return self.last.is_proven and not self.otherwise

    @property
    def left(self) -> IPv4Address | None:
        """The address that it was left with, or None."""
        return self.last.as_left.address.value

    @property
    def key(self) -> str | None:
        """The key that its console or page showed the last time."""
        return next((each.key for each in reversed(self.visits) if each.key), None)

    @property
    def failed(self) -> list[str]:
        """The proofs that failed."""
        return self.last.failed

    @property
    def is_fleeting(self) -> bool:
        """Whether it was set for now only, and has not shown since that it keeps what it has."""
        cut = self.last.proofs.get("power-cycle")
        return self.last.permanent is False and not (cut and cut.passed)

    @property
    def open_points(self) -> list[str]:
        """What failed, what was left out or could not be proved, and what rests on somebody's word only."""
        visit = self.last
        unshown = visit.unshown if visit.has_changed else []
        planned = [each.name for each in self.otherwise]
        return list(dict.fromkeys((*self.failed, *planned, *visit.left_out, *visit.not_made, *unshown)))
