"""What a job's journal holds: one model for each kind of entry, told apart by ``kind``."""

from functools import cache
from ipaddress import IPv4Address, IPv4Interface, IPv6Address
from typing import Annotated, Literal

from pydantic import BaseModel, ConfigDict, Field, TypeAdapter

from askport.core import errors, mac_field
from askport.core.finding.clues import Identity
from askport.core.phrases import phrase
from askport.core.plan import planned_device, site_plan
from askport.core.register.as_left import AsLeft
from askport.core.sentence_field import Sentence


class _Model(BaseModel):
    model_config = ConfigDict(frozen=True, extra="forbid", defer_build=True)


Unit = Annotated[int, Field(ge=0, lt=2**53)]
"""A number that JSON (RFC 8259 section 6) and SQLite hold as it is."""
Prefix = Annotated[int, Field(ge=0, le=32)]


class _Written(_Model):
    unit: Unit = 0
    upon: tuple[str, ...] = ()
    """In the file of a crew: the hashes of the last lines about the same device, or the same row of the plan, that it
    was written upon."""


class _Entry(_Written):
    unit: Unit
    """Names one device's way through the job; every entry about it carries this number. It is drawn, so that two
    technicians never draw the same."""


NAMED = "named"
"""The belief of an address that somebody named, and at which the device was talked to."""
UNHEARD = "unheard"
"""How sure an address was of a device that was not listened to before something was done to it."""


class Found(_Entry):
    """A device was chosen, as it was found."""

    kind: Literal["found"] = "found"
    tag: str
    mac: mac_field.Mac
    maker: str | None
    address: IPv4Address | None
    """None where it asks for one."""
    prefix: Prefix | None = None
    gateway: IPv4Address | None = None
    belief: str
    asks_by: str | None = None
    because: tuple[Sentence, ...]
    ipv6: tuple[IPv6Address, ...] = ()
    """The IPv6 addresses that it used."""


class ReadOut(_Entry):
    """What the device itself said that its settings are, before anything was changed."""

    kind: Literal["read-out"] = "read-out"
    mac: mac_field.Mac
    address: IPv4Address | None
    prefix: Prefix | None
    gateway: IPv4Address | None
    dns: tuple[IPv4Address, ...]
    origin: str | None
    because: Sentence
    """What about it contradicts the wire, or could not be read."""
    said: tuple[str, ...] = ()
    """Which of gateway and dns it said at all, be it that it has none."""


class IdentifiedBy(_Model):
    """By what a device is known in one field protocol."""

    protocol: str
    vendor: int | None = None
    product: int | None = None
    serial: int | None = None
    text: str = ""
    where: str = ""

    @property
    def sentence(self) -> str:
        """The protocol and what it is known by there."""
        return Identity(self.protocol, self.vendor, self.product, self.serial, self.text).sentence


class Identified(_Entry):
    """The device said in field protocols by what it is known there."""

    kind: Literal["identified"] = "identified"
    mac: mac_field.Mac
    by: tuple[IdentifiedBy, ...]


class Named(_Entry):
    """The device was given another tag."""

    kind: Literal["named"] = "named"
    mac: mac_field.Mac
    tag: str


class Borrowed(_Entry):
    """The laptop took an address, on its adapter or beside it."""

    kind: Literal["borrowed"] = "borrowed"
    adapter: str
    interface: IPv4Interface
    beside: bool = False


class GaveBack(_Entry):
    """The adapter was put back as it was."""

    kind: Literal["gave-back"] = "gave-back"
    adapter: str


class WasSet(_Entry):
    """A way of setting the address ended."""

    kind: Literal["set"] = "set"
    mac: mac_field.Mac
    way: str
    gives: bool = False
    """Whether the way wrote the values itself and the device confirmed them; else somebody was to type them."""
    wrote: tuple[str, ...] | None = None
    """Which of mask, gateway and DNS a way that writes can write at all; None where it writes all of them."""
    interface: IPv4Interface
    gateway: IPv4Address | None
    dns: tuple[IPv4Address, ...]
    result: str
    because: Sentence
    key: str | None = None
    """The key that its console or page showed, to know it again by."""
    permanent: bool | None = None
    """Whether it lasts over a power cycle, as far as the way knows."""


class Proved(_Entry):
    """A proof passed or failed."""

    kind: Literal["proved"] = "proved"
    mac: mac_field.Mac
    name: str
    expected: Sentence
    measured: Sentence
    passed: bool | None
    """None where the proof could not be made."""
    because: Sentence
    after_cut: bool = False
    """Whether it was made once more after a power cycle."""


class PowerCut(_Entry):
    """Its power was cut and put back: the moments after that, in seconds; None where one was not seen."""

    kind: Literal["power-cut"] = "power-cut"
    mac: mac_field.Mac
    link_s: float | None
    first_word_s: float | None
    answer_s: float | None
    services: dict[str, float] = {}
    """When ping and ports answered again, by their names."""

    @property
    def moments(self) -> list[tuple[str, float]]:
        """What was seen, in the order in which it is looked for."""
        seen = (
            (phrase("link"), self.link_s),
            (phrase("first word"), self.first_word_s),
            (phrase("answer"), self.answer_s),
        )
        return [(name, at) for name, at in (*seen, *self.services.items()) if at is not None]


class Left(_Entry):
    """What the device has been left with, as far as it was found out by now."""

    kind: Literal["left"] = "left"
    mac: mac_field.Mac
    as_left: AsLeft


class Kept(_Entry):
    """The frames that the as-found values rest on were kept with the job."""

    kind: Literal["kept"] = "kept"
    frames: int
    sha256: str
    """Of the capture file, in hexadecimal digits."""


class ToldToKeep(_Entry):
    """Its console or page was told to keep what it has, and confirmed that."""

    kind: Literal["told-to-keep"] = "told-to-keep"
    mac: mac_field.Mac


class Recorded(_Entry):
    """The technician closed this device."""

    kind: Literal["recorded"] = "recorded"
    mac: mac_field.Mac
    left_out: tuple[str, ...] = ()
    """Proofs that were not made, by name."""
    ipv6: tuple[IPv6Address, ...] = ()
    """The IPv6 addresses that it was heard to use by then."""


class SubnetPlanned(_Written):
    """A subnet of the plan was written down, or changed, or taken out."""

    kind: Literal["subnet-planned"] = "subnet-planned"
    subnet: site_plan.Subnet
    removed: bool = False


class DevicePlanned(_Written):
    """A device of the plan was written down, or changed, or taken out."""

    kind: Literal["device-planned"] = "device-planned"
    device: planned_device.PlannedDevice
    removed: bool = False


class Noted(_Entry):
    """Somebody wrote something down about a device; a photo by the name of its file."""

    kind: Literal["noted"] = "noted"
    mac: mac_field.Mac
    text: str
    photo: str = ""


class Reopened(_Entry):
    """What was recorded of a device last does not count: it is to be commissioned again."""

    kind: Literal["reopened"] = "reopened"
    mac: mac_field.Mac
    because: str


class SameDevice(_Entry):
    """Two MAC addresses are one device: a box with two, or one whose board was exchanged."""

    kind: Literal["same-device"] = "same-device"
    mac: mac_field.Mac
    other: mac_field.Mac


class Taught(_Entry):
    """What passed between browser and page while a unit was set by hand, without secrets."""

    kind: Literal["taught"] = "taught"
    mac: mac_field.Mac
    present: IPv4Address
    """Where the unit was then."""
    port: int
    secure: bool
    after_restart: bool
    """Whether it used its new settings only after a restart."""
    exchanges: tuple[dict[str, str | int], ...]


class CrateBegun(_Written):
    """The rest of a crate was to go like one unit."""

    kind: Literal["crate-begun"] = "crate-begun"
    like: str
    kind_name: str
    power_cuts: str
    """Of which units the power was to be cut, in words."""


class Joined(_Written):
    """The journals that end in these lines were joined."""

    kind: Literal["joined"] = "joined"
    heads: tuple[str, ...]
    """The hashes of their last lines."""
    conflicts: tuple[str, ...] = ()
    """What they say differently, each as a sentence."""


class Settled(_Written):
    """Somebody said how a conflict of joined journals is settled."""

    kind: Literal["settled"] = "settled"
    conflict: str
    words: str


class MemberAccepted(_Written):
    """Somebody said that a member who came to the crew later, or who is gone, is right."""

    kind: Literal["member-accepted"] = "member-accepted"
    name: str
    key: str
    """The public key, in hexadecimal digits: one who comes with another is another."""
    removed: bool


class About(_Written):
    """What the job is called for the customer; what is not told here stays as it was."""

    kind: Literal["about"] = "about"
    site: str | None = None
    customer: str | None = None
    order: str | None = None
    company: str | None = None
    technician: str | None = None
    language: str | None = None
    """In which dates are written: a tag such as en-GB (RFC 5646)."""
    paper: Literal["A4", "Letter"] | None = None


Entry = (
    SubnetPlanned | DevicePlanned | Found | Identified | ReadOut | Named | Borrowed | GaveBack | WasSet | Proved
    | PowerCut | Left | Kept | ToldToKeep | Recorded | Noted | Reopened | SameDevice | Taught | CrateBegun | Joined
    | Settled | MemberAccepted | About
)  # fmt: skip


@cache
def _reader() -> TypeAdapter[Entry]:
    """Return what reads any of them; it is made once it is needed, for it takes long."""
    return TypeAdapter(Annotated[Entry, Field(discriminator="kind")])


def entry_of(body: str) -> Entry:
    """Read an entry as it is stored.

    Raises:
        ValueError: it is none.
    """
    try:
        return _reader().validate_json(body)
    except errors.BadInput as error:  # by what makes an address of a text
        raise ValueError(error.message) from None
