"""The kind file as a model: what it may hold, and what each value must be."""

import re
from ipaddress import IPv4Interface
from typing import Annotated, Literal

import regex
from pydantic import AfterValidator, BaseModel, ConfigDict, Field, PlainSerializer, Strict, model_validator
from pydantic_core import PydanticCustomError

from askport.core import addresses, errors, protocols
from askport.core.kinds.placeholders import check_placeholders
from askport.core.phrases import phrase

SCHEMA = "askport.kind/1"
_NOT_GIVEN = frozenset({"host", "content-length", "transfer-encoding", "connection", "cookie"})


def _digits(text: str) -> str:
    plain = re.sub(r"[:\-. ]", "", text.lower())
    if not re.fullmatch(r"[0-9a-f]{1,12}", plain):
        raise ValueError(phrase("write the first hexadecimal digits of a MAC address, such as 00:00:5e:00:53:2"))
    return plain


def _interface(text: str) -> str:
    try:
        return str(addresses.parse_interface(text))
    except errors.BadInput as error:
        raise ValueError(error.message) from None


def _printable(text: str) -> str:
    if not text.isprintable():
        raise ValueError(phrase("it has characters that cannot be printed"))
    return text


def _template(text: str) -> str:
    check_placeholders(text)
    return text


def _pattern(text: str) -> str:
    try:
        re.compile(text)
        regex.compile(text)  # this is what searches, because it can be given a time
    except (re.error, regex.error) as error:
        raise ValueError(phrase("it is no regular expression: {error}", error=error)) from None
    return text


def _place(text: str) -> str:
    if not is_own_place(text):
        raise ValueError(phrase("write a path of the device itself, which begins with one / and names no other host"))
    return text


def is_own_place(path: str) -> bool:
    """Whether a path stays at the device: one that names another host would carry what is sent there with it."""
    return path.startswith("/") and not path.startswith(("//", "/\\")) and path.isprintable()


def _header_name(text: str) -> str:
    if not re.fullmatch(r"[!#$%&'*+.^_`|~0-9A-Za-z-]{1,60}", text):
        raise ValueError(phrase("it is no name of a header"))
    if text.lower() in _NOT_GIVEN:
        raise ValueError(phrase("it is said by the program itself: leave it out"))
    return text


def _header_text(text: str) -> str:
    if not text.isprintable() or not text.isascii():
        raise ValueError(phrase("a header is one line of plain characters"))
    return text


def _serial_format(text: str) -> str:
    if not re.fullmatch(r"[78][NEO][12]", text.upper()):
        raise ValueError(phrase("write data bits, parity and stop bits, such as 8N1 or 7E1"))
    return text.upper()


MacDigits = Annotated[str, AfterValidator(_digits)]
Delivered = Annotated[str, AfterValidator(_interface)]
Template = Annotated[str, AfterValidator(_template)]
"""Text that is sent, with placeholders."""
Pattern = Annotated[str, AfterValidator(_pattern)]
"""A regular expression (Python's)."""
METHODS = ("GET", "POST", "PUT", "PATCH", "DELETE")
"""What a step may ask by (RFC 9110 section 9, RFC 5789)."""
Place = Annotated[Template, AfterValidator(_place)]
"""A path of the device itself, with its query."""
HeaderName = Annotated[str, AfterValidator(_header_name)]
HeaderText = Annotated[Template, AfterValidator(_header_text)]
Port = Annotated[int, Field(strict=True, ge=1, le=65_535)]


class _Model(BaseModel):
    model_config = ConfigDict(frozen=True, extra="forbid", defer_build=True)


class Recognise(_Model):
    """By what a device of this kind is recognised; what is given must all fit, and a list is a choice."""

    mac: tuple[MacDigits, ...] = ()
    """First digits of its MAC address."""
    names: tuple[str, ...] = ()
    """What it calls itself, with * for anything."""
    banner: tuple[str, ...] = ()
    """The first text of its console, or its page's title, with * for anything."""
    ports: tuple[Port, ...] = ()
    identity: "tuple[Numbers, ...]" = ()
    """What it says of itself in a field protocol."""
    sure: Annotated[bool, Strict()] = True
    """Whether a device that fits is taken for one; false where it is only offered, because its maker alone says so."""


def _identifying(name: str) -> str:
    """Return the name of a protocol by which devices say what they are, or say which ones there are."""
    names = [each.name for each in protocols.PROTOCOLS.values() if each.identifies]
    if name not in names:
        expected = ", ".join(f"'{each}'" for each in names)
        raise PydanticCustomError("literal_error", "Input should be {expected}", {"expected": expected})
    return name


class Numbers(_Model):
    """Numbers that a device is known by to the association of one field protocol; what is given must all fit."""

    protocol: Annotated[str, Strict(), AfterValidator(_identifying)]
    vendor: Annotated[int, Field(strict=True, ge=0, le=0xFFFF)] | None = None
    product: Annotated[int, Field(strict=True, ge=0, le=0xFFFF)] | None = None
    text: Annotated[str, Field(min_length=1, max_length=120)] | None = None
    """What it says in words, with * for anything."""


class DeliveredWith(_Model):
    """How it comes out of the box."""

    address: Delivered | None = None
    asks: Literal["bootp", "dhcp", "link-local"] | None = None

    @property
    def interface(self) -> IPv4Interface | None:
        """The address that it is delivered with."""
        return IPv4Interface(self.address) if self.address else None


class Needs(_Model):
    """What it insists on."""

    gateway: Literal["own-address"] | None = None
    octets: Literal["padded"] | None = None
    boot_s: Annotated[float, Field(strict=True, gt=0, le=3600)] | None = None
    """Longest time from power to first answer, in seconds."""


class Line(_Model):
    """One exchange on a console: wait for a text, send a line, and find something in what comes back."""

    expect: str = Field(min_length=1)
    send: Template
    find: Pattern | None = None


class PageStep(_Model):
    """One request to its page."""

    get: Place | None = None
    post: Place | None = None
    put: Place | None = None
    patch: Place | None = None
    delete: Place | None = None
    headers: dict[HeaderName, HeaderText] | None = None
    """What is sent beside a browser's own headers."""
    form: dict[str, Template] | None = None
    json_: Annotated[dict[str, Template] | None, Field(alias="json")] = None
    body: Template | None = None
    """What is sent as it is, where it is neither a form nor a flat JSON object."""
    type_: Annotated[str | None, Field(alias="type", min_length=3, max_length=200)] = None
    """The Content-Type of a body."""
    find: Pattern | None = None
    status: tuple[Annotated[int, Field(strict=True, ge=100, le=599)], ...] = (200,)

    @property
    def texts(self) -> list[str]:
        """Everything in which placeholders may stand."""
        parts = (self.form or {}, self.json_ or {}, self.headers or {})
        return [self.place, *filter(None, (self.body,)), *(text for part in parts for text in part.values())]

    @property
    def method(self) -> str:
        """Its method, as HTTP writes it."""
        return next(each for each in METHODS if getattr(self, each.lower()) is not None)

    @property
    def place(self) -> str:
        """The path that it goes to."""
        return str(getattr(self, self.method.lower()))

    @model_validator(mode="after")
    def _one_request(self) -> "PageStep":
        if sum(getattr(self, each.lower()) is not None for each in METHODS) != 1:
            raise ValueError(phrase("a step is one request: give one of get, post, put, patch and delete"))
        if self.get is not None and (self.form or self.json_ or self.body):
            raise ValueError(phrase("a form, json or body goes with post, put or patch, not with get"))
        if (self.body is None) != (self.type_ is None) or (self.body and (self.form or self.json_)):
            raise ValueError(phrase("a body stands alone, with its type"))
        return self


Permanent = Literal["yes", "no", "after keep"]
TakesEffect = Literal["at once", "after restart"]


class _Setting(_Model):
    takes_effect: TakesEffect = "at once"
    permanent: Permanent | None = None
    """None where that is not known."""


class ConsoleWay(_Setting):
    """Lines over Telnet, SSH or a serial line."""

    by: Literal["console"]
    over: Literal["telnet", "ssh", "serial"]
    port: Port | None = None
    baud: Annotated[int, Field(strict=True, ge=50, le=4_000_000)] | None = None
    format: Annotated[str, AfterValidator(_serial_format)] = "8N1"
    refused: tuple[str, ...] = ()
    """Texts that mean no."""
    login: tuple[Line, ...] = ()
    read: tuple[Line, ...] = ()
    set: tuple[Line, ...] = ()
    keep: tuple[Line, ...] = ()
    restart: tuple[Line, ...] = ()

    @model_validator(mode="after")
    def _whole(self) -> "ConsoleWay":
        if self.over == "serial" and self.port is not None:
            raise ValueError(phrase("a serial line has a baud rate and no port"))
        if self.over != "serial" and self.baud is not None:
            raise ValueError(phrase("only a serial line has a baud rate"))
        if self.permanent == "after keep" and not self.keep:
            raise ValueError(phrase('it lasts "after keep", and the lines that keep it are missing: add keep = [...]'))
        return self

    @property
    def at_port(self) -> int:
        """The TCP port."""
        return self.port or {"telnet": 23, "ssh": 22}.get(self.over, 0)


class PageWay(_Setting):
    """Requests to its own page."""

    by: Literal["page"]
    scheme: Literal["http", "https"] = "http"
    port: Port | None = None
    log_in_by: Literal["page", "header"] = "page"
    """Whether it asks for a log-in on its page, or the browser for it (HTTP Basic, Digest)."""
    login: tuple[PageStep, ...] = ()
    read: tuple[PageStep, ...] = ()
    set: tuple[PageStep, ...] = ()


class PingWay(_Setting):
    """An echo of one length to its MAC address, with the new address as destination."""

    by: Literal["ping"]
    payload: Annotated[int, Field(strict=True, ge=0, le=1472)]
    """Bytes of ICMP data."""
    within_s: Annotated[float, Field(strict=True, gt=0, le=3600)] | None = None
    """How long after power-up it listens for that, in seconds."""


class HandWay(_Setting):
    """Somebody types it in."""

    by: Literal["hand"]
    say: str = ""
    """Where its menu is."""


SnmpVersion = Literal["1", "2c", "3"]
SnmpAuth = Literal["md5", "sha", "sha-224", "sha-256", "sha-384", "sha-512"]
"""How a password of version 3 is used (RFC 3414, 7860)."""
SnmpPrivacy = Literal["des", "aes", "aes-192", "aes-256"]
"""How messages of version 3 are encrypted (RFC 3414, 3826)."""


class SnmpWay(_Model):
    """The tables of its SNMP agent; what lasts, it says itself."""

    by: Literal["snmp"]
    version: SnmpVersion = "2c"
    auth: SnmpAuth | None = None
    privacy: SnmpPrivacy | None = None

    @model_validator(mode="after")
    def _fits(self) -> "SnmpWay":
        if self.version != "3" and (self.auth or self.privacy):
            raise ValueError(phrase('auth and privacy are of version 3: add version = "3"'))
        if self.privacy and not self.auth:
            raise ValueError(phrase("privacy needs auth beside it"))
        return self


AnyWay = ConsoleWay | PageWay | PingWay | HandWay | SnmpWay
KindWay = Annotated[AnyWay, Field(discriminator="by")]
Name = Annotated[str, Field(min_length=1, max_length=60), AfterValidator(_printable), PlainSerializer(str)]


class Kind(_Model):
    """One kind of device."""

    schema_: Annotated[Literal["askport.kind/1"], Field(alias="schema")]
    name: Name
    maker: str = ""
    notes: str = ""
    """What a technician should know of it."""
    recognise: Recognise = Recognise()
    delivered: DeliveredWith = DeliveredWith()
    needs: Needs = Needs()
    way: tuple[KindWay, ...] = ()

    @property
    def words(self) -> str:
        """Its name with its maker."""
        return f"{self.name} ({self.maker})" if self.maker else self.name

    @property
    def asks_log_in(self) -> bool:
        """Whether one of its ways is entered with a name or a password."""
        return any(self.is_entered_with(way) for way in self.way)

    @property
    def asks_community_only(self) -> bool:
        """Whether all that it is entered with is the community of its SNMP agent."""
        entered = [way for way in self.way if self.is_entered_with(way)]
        return bool(entered) and all(isinstance(way, SnmpWay) and way.version != "3" for way in entered)

    def is_entered_with(self, way: AnyWay) -> bool:
        """Whether one of its ways asks for a name or a password."""
        if isinstance(way, SnmpWay):
            return True
        if isinstance(way, ConsoleWay):
            texts = [line.send for line in (*way.login, *way.read, *way.set, *way.keep, *way.restart)]
        else:
            steps = (*way.login, *way.read, *way.set) if isinstance(way, PageWay) else ()
            texts = [text for step in steps for text in step.texts]
        asks_itself = (isinstance(way, ConsoleWay) and way.over == "ssh") or (
            isinstance(way, PageWay) and way.log_in_by == "header"
        )
        return asks_itself or any("{user}" in text or "{password}" in text for text in texts)

    def asks_password(self, by: str, over: str | None = None) -> bool:
        """Whether a way of it, over Telnet or SSH, is entered with a password."""
        way = self.way_by(by)
        if isinstance(way, ConsoleWay):
            lines = (*way.login, *way.read, *way.set, *way.keep, *way.restart)
            return (over or way.over) == "ssh" or any("{password}" in line.send for line in lines)
        if isinstance(way, SnmpWay) or (isinstance(way, PageWay) and way.log_in_by == "header"):
            return True
        steps = (*way.login, *way.read, *way.set) if isinstance(way, PageWay) else ()
        return any("{password}" in text for step in steps for text in step.texts)

    def tells_name(self, by: str) -> bool:
        """Whether a device is told by one of its ways what it is to be called."""
        way = self.way_by(by)
        lines = [line.send for line in way.set] if isinstance(way, ConsoleWay) else []
        steps = way.set if isinstance(way, PageWay) else ()
        return any("{name}" in text for text in (*lines, *(text for step in steps for text in step.texts)))

    def way_by(self, by: str) -> AnyWay | None:
        """Return its way of this name, or None where it has none."""
        return next((each for each in self.way if each.by == by), None)
