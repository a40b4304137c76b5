"""SNMP: an agent is asked for the settings of its device, and a row is added to its table of addresses (RFC 4293).

The table takes an address and the interface that it is for. Masks are read-only in every standard table, and name
servers are in none, so neither is told. Rows of other addresses are left alone: agents take their interface down with
the row that they began with.
"""

from collections.abc import Callable
from ipaddress import IPv4Address
from typing import NamedTuple

from askport.core.addresses import Address
from askport.core.finding.device import Device
from askport.core.kinds.model import Kind, SnmpWay
from askport.core.ways.conversation import Ended
from askport.core.ways.datagrams import Datagrams
from askport.core.ways.field_way import SetByField, field_entry
from askport.core.ways.snmp_engine import ERROR_STATUS, Access, AgentTalk, Asks, Oid, SnmpAnswer, Value
from askport.core.ways.start import Start

PORT_SNMP = 161
_MIB2: Oid = (1, 3, 6, 1, 2, 1)
SYS_NAME: Oid = (*_MIB2, 1, 5, 0)
IP_ADDRESS: Oid = (*_MIB2, 4, 34, 1)
"""ipAddressEntry (RFC 4293); below it the column, and an address as type, length and octets."""
IF_INDEX, PREFIX, ORIGIN, ROW_STATUS, STORAGE = 3, 5, 6, 10, 11
_OLD_IF_INDEX: Oid = (*_MIB2, 4, 20, 1, 2)
OLD_MASK: Oid = (*_MIB2, 4, 20, 1, 3)
"""ipAdEntIfIndex and ipAdEntNetMask (RFC 1213), which nearly all agents still have."""
_OLD_NEXT_HOP: Oid = (*_MIB2, 4, 21, 1, 7, 0, 0, 0, 0)
"""ipRouteNextHop of the default route (RFC 1213)."""
ROUTE: Oid = (*_MIB2, 4, 24, 7, 1)
"""inetCidrRouteEntry (RFC 4292)."""
_TO_ALL: Oid = (1, 4, 0, 0, 0, 0, 0)
"""The default route in its index: type and length of an address, its octets, and its prefix length."""
ROUTE_IF_INDEX, ROUTE_TYPE, ROUTE_STATUS = 7, 8, 17
_REMOTE, _CREATE_AND_GO, _ACTIVE = 4, 4, 1
_SEES = "see whether it took that the first time"
_ORIGINS = {2: "static", 4: "dhcp", 5: "link-local", 6: "link-local"}
VOLATILE, NON_VOLATILE = 2, 3
_LASTS = {VOLATILE: False, NON_VOLATILE: True, 4: True, 5: True}
"""Storage types (RFC 2579): whether what is stored so is there after a restart."""


def access_of(start: Start) -> Access:
    """Return by what its agent lets somebody in: by its kind, or as most do.

    Raises:
        BadInput: something that it asks for was not given.
    """
    user, password = start.log_in.user, start.log_in.password
    way = start.kind.way_by("snmp") if start.kind else None
    if isinstance(way, SnmpWay):
        access = Access(way.version, user, password, way.auth, way.privacy)
    elif user:
        access = Access("3", user, password, "sha", "aes") if password else Access("3", user)
    else:
        access = Access("2c", "", password)
    access.require_whole()
    return access


class _Step(NamedTuple):
    """One question."""

    says: str
    key: str
    asks: Asks
    values: Callable[[dict[str, SnmpAnswer]], list[tuple[Oid, Value | None]]]
    """Makes what is asked out of what was answered before."""
    is_needed: bool = False
    unless: Callable[[dict[str, SnmpAnswer]], bool] = lambda _: False
    """Whether what was answered before leaves nothing to ask."""


def _get(says: str, key: str, name: Oid, *, needed: bool = False) -> _Step:
    return _Step(says, key, Asks.GET, lambda _: [(name, None)], needed)


def row(column: int, address: IPv4Address) -> Oid:
    """Return the name of a column of an address (RFC 4293)."""
    return (*IP_ADDRESS, column, 1, 4, *address.packed)


_IPV4_ROWS: Oid = (*IP_ADDRESS, IF_INDEX, 1, 4)
_MAX_ROWS = 6
"""Addresses that an agent is asked through for the one of its port; that of loopback is among them."""


def _find_out(start: Start) -> list[_Step]:
    """Return what asks for the port, and for the IPv4 address that it has there, of a device reached over IPv6.

    The address that it is talked to at names the port: with its zone, as a link-local address has one (ipv6z), or
    without, as some agents have it (RFC 4001). Which IPv4 addresses there are is in no single value: rows are asked
    for one after the other.
    """
    door = start.door.packed if start.door else b""

    def after(answers: dict[str, SnmpAnswer]) -> list[tuple[Oid, Value | None]]:
        names = [answers[key].name for key in _ROW_KEYS if key in answers]
        return [(names[-1] if names else _IPV4_ROWS, None)]

    zoned: Oid = (*IP_ADDRESS, IF_INDEX, 4, 20, *door)
    return [
        _Step("get its port", "zoned port", Asks.NEXT, lambda _: [(zoned, None)]),
        _get("get its port, as others call it", "port", (*IP_ADDRESS, IF_INDEX, 2, 16, *door), needed=True)._replace(
            unless=lambda answers: _port_of(start, answers) is not None
        ),
        *(
            _Step(
                f"get address {number} of it",
                key,
                Asks.NEXT,
                after,
                unless=lambda answers: _address_of(start, answers) is not None,
            )
            for number, key in enumerate(_ROW_KEYS, 1)
        ),
    ]


_ROW_KEYS = tuple(f"row {number}" for number in range(1, _MAX_ROWS + 1))


def _port_of(start: Start, answers: dict[str, SnmpAnswer]) -> Value | None:
    """Return by which number its agent knows the port that it is reached at."""
    if start.door is None:
        return answers.get("interface", SnmpAnswer()).value
    zoned, plain = answers.get("zoned port", SnmpAnswer()), answers.get("port", SnmpAnswer())
    asked: Oid = (*IP_ADDRESS, IF_INDEX, 4, 20, *start.door.packed)
    return zoned.value if zoned.name[: len(asked)] == asked else plain.value


def _address_of(start: Start, answers: dict[str, SnmpAnswer]) -> IPv4Address | None:
    """Return the IPv4 address that its agent has for that port, where it is reached over IPv6, or the known one."""
    if start.door is None:
        return start.old
    port, size = _port_of(start, answers), len(_IPV4_ROWS)
    rows = [answers[key] for key in _ROW_KEYS if key in answers]
    mine = (each.name[size:] for each in rows if each.name[:size] == _IPV4_ROWS and each.value == port is not None)
    return next((IPv4Address(bytes(each)) for each in mine if len(each) == 4 and max(each) < 256), None)


def route_index(gateway: IPv4Address) -> Oid:
    """Return by which index a default route goes: destination, policy, next hop (RFC 4292)."""
    return (*_TO_ALL, 2, 0, 0, 1, 4, *gateway.packed)


class SnmpTalk(Datagrams):
    """Asks one thing after the other."""

    port, protocol = PORT_SNMP, "SNMP"

    def __init__(self, start: Start, steps: list[_Step]) -> None:
        """Begin to ask.

        Raises:
            ValueError: it is not known where the device is, or the laptop does not reach it there.
            BadInput: something that its agent asks for was not given.
        """
        super().__init__(start)
        access = access_of(start)
        self._values = {"password": access.password}
        self._agent, self._steps = AgentTalk(access), steps
        wants = "wants it encrypted otherwise" if access.privacy else "knows no such user"
        wants = wants if access.version == "3" else "does not take this community"
        self.silence = f"it did not answer 3 times: there is no agent, or it {wants}"
        self._is_asked, self._sent = False, 0
        self._doubted: SnmpAnswer | None = None
        """A refusal of what was sent more than once: it may have been taken the first time."""
        self.answers: dict[str, SnmpAnswer] = {}

    @property
    def has_said_all(self) -> bool:
        """Whether everything was sent."""
        return not self._steps[1:] and self._asked > 0

    def _question(self) -> tuple[str, list[bytes]]:
        step = self._steps[0]
        if not self._is_asked:
            self._is_asked, self._sent = True, 0
            self._agent.ask(step.asks, step.values(self.answers))
        self._agent.is_new = False
        self._sent += 1
        return step.says, [self._agent.message]

    def _take(self, payload: bytes, now: float) -> None:
        if not self._asked:
            return
        self._agent.receive(payload)
        if answer := self._agent.answer:
            self._answered(answer, now)
        elif self._agent.is_new:  # the engine behind the agent was found out, or its clock
            self._asked, self._next_at = 1, now

    def _answered(self, answer: SnmpAnswer, now: float) -> None:
        step = self._steps[0]
        said, self.spoken[-1].acknowledged = self.spoken[-1], not answer.refusal
        said.answer = answer.refusal
        if step.asks is Asks.SET and answer.refusal and self._sent > 1 and not answer.is_shut_out:
            status = step.values(self.answers)[-1][0]  # the last of what it sets is the state of its row
            self._doubted = answer
            seen = _Step(_SEES, step.key, Asks.GET, lambda _: [(status, None)], step.is_needed)
            self._steps, self._is_asked = [seen, *self._steps[1:]], False
            self._ask_next(now)
            return
        if self._doubted is not None:
            is_there = answer.value == _ACTIVE
            answer, self._doubted = (SnmpAnswer() if is_there else self._doubted), None
            said.acknowledged, said.answer = not answer.refusal, answer.refusal
            step = step._replace(asks=Asks.SET)
        refusal = answer.refusal or ("" if answer.value is not None or step.asks is Asks.SET else ERROR_STATUS[2])
        if refusal and (step.is_needed or answer.is_shut_out):
            self._finish(Ended.REFUSED, f"{refusal} (“{step.says}”)")
            return
        self.answers[step.key] = answer
        self._steps, self._is_asked = self._steps[1:], False
        while self._steps and self._steps[0].unless(self.answers):
            self._steps = self._steps[1:]
        self._ask_next(now)
        if not self._steps:
            self._conclude()

    def told(self, key: str) -> Value | None:
        """Return what it answered, or None where it has no such value."""
        return self.answers.get(key, SnmpAnswer()).value

    def took(self, key: str) -> bool:
        """Return whether it was asked that, and did not refuse."""
        return key in self.answers and not self.answers[key].refusal

    def _conclude(self) -> None:
        self._finish(Ended.WELL, "")


class ReadBySnmp(SnmpTalk):
    """Asks an agent for the settings of its device."""

    name = "snmp"

    def __init__(self, start: Start) -> None:
        """Begin to ask.

        Raises:
            ValueError: it is not known where the device is, or the laptop does not reach it there.
            BadInput: something that its agent asks for was not given.
        """

        def of_it(says: str, key: str, name: Callable[[IPv4Address], Oid]) -> _Step:
            return _Step(
                says, key, Asks.GET, lambda answers: [(name(_address_of(start, answers) or IPv4Address(0)), None)]
            )

        self._start = start
        super().__init__(
            start,
            [
                _get("get its name", "name", SYS_NAME),
                *(_find_out(start) if start.door else ()),
                of_it("get its interface", "interface", lambda at: row(IF_INDEX, at)),
                of_it("get its interface, as it was called before", "old interface",
                      lambda at: (*_OLD_IF_INDEX, *at.packed)),
                of_it("get its prefix", "prefix", lambda at: row(PREFIX, at)),
                of_it("get its mask", "mask", lambda at: (*OLD_MASK, *at.packed)),
                of_it("get its origin", "origin", lambda at: row(ORIGIN, at)),
                of_it("get how it is stored", "storage", lambda at: row(STORAGE, at)),
                _Step("get its default route", "route", Asks.NEXT,
                      lambda _: [((*ROUTE, ROUTE_IF_INDEX, *_TO_ALL), None)]),
                _get("get its default route, as it was called before", "old route", _OLD_NEXT_HOP),
            ],
        )  # fmt: skip

    def _conclude(self) -> None:
        at = _address_of(self._start, self.answers)
        if at is None or (self.told("interface") is None and self.told("old interface") is None):
            none = "no IPv4 address for this port" if at is None else f"no address {at}"
            self._finish(Ended.REFUSED, f"its agent has {none}")
            return
        self._found["address"] = str(at)
        mask, prefix = self.told("mask"), self.told("prefix")
        if isinstance(mask, IPv4Address):
            self._found["mask"] = str(mask)
        elif isinstance(prefix, tuple) and len(prefix) > 1 and 0 < prefix[-1] <= 32:
            self._found["prefix"] = str(prefix[-1])
        gateway = _default_route(self.answers.get("route", SnmpAnswer()).name) or self.told("old route")
        if isinstance(gateway, IPv4Address) and int(gateway):
            self._found["gateway"] = str(gateway)
        elif self._sees_routes:
            self._found["gateway"] = "none"
        origin = self.told("origin")
        if isinstance(origin, int) and origin in _ORIGINS:
            self._found["origin"] = _ORIGINS[origin]
        if isinstance(name := self.told("name"), bytes) and name:
            self._found["name"] = name.decode("utf-8", "replace")
        lasts = _LASTS.get(stored) if isinstance(stored := self.told("storage"), int) else None
        self._found |= {} if lasts is None else {"lasts": "yes" if lasts else "no"}
        self._finish(Ended.WELL, "its agent stores this until a restart only" if lasts is False else "")

    @property
    def _sees_routes(self) -> bool:
        """Whether it was shown a table of routes: what it has not in a table that is hidden is not known."""
        shown = self.answers.get("route", SnmpAnswer()).name[: len(ROUTE) + 1] == (*ROUTE, ROUTE_IF_INDEX)
        return (shown and self.told("route") is not None) or self.told("old route") is not None


def _default_route(name: Oid) -> IPv4Address | None:
    """Return the next hop out of the index of a default route: policy, then type, length and octets of an address."""
    head = (*ROUTE, ROUTE_IF_INDEX, *_TO_ALL)
    if name[: len(head)] != head:
        return None
    rest = name[len(head) :]
    hop = rest[1 + rest[0] :] if rest else ()
    return IPv4Address(bytes(hop[2:])) if hop[:2] == (1, 4) and len(hop) == 6 and max(hop) < 256 else None


class SetBySnmp(SetByField):
    """Adds a row to its agent's table of addresses, then its default route, and follows it."""

    name, what = "snmp", "agent"

    @classmethod
    def said_in_all(cls, start: Start) -> list[str]:
        """Return what is asked before and after, too."""
        return [each.says for each in _set_steps(start)]

    @classmethod
    def told(cls, start: Start) -> list[str]:
        """Return what is added and stored."""
        return [each.says for each in _set_steps(start) if each.asks is Asks.SET]

    @classmethod
    def shown(cls, start: Start) -> list[str]:
        """Return the same, once it is known that what its agent asks for was given."""
        access_of(start)
        return cls.told(start)

    @classmethod
    def writes(cls, _: Start) -> tuple[str, ...]:
        """Return nothing: only what its agent takes counts."""
        return ()

    def _arrived(self, now: float) -> None:
        talk = self._conversation
        if isinstance(talk, SnmpTalk) and talk.took("route"):
            self.wrote = ("gateway",)
        if self._at:
            self._note(f"SNMP only adds an address: whether it still has {self._at} too is seen in the proofs.", now)
        super()._arrived(now)

    @property
    def permanent(self) -> bool | None:  # type: ignore[override]
        """Whether its agent says that a restart leaves it."""
        talk = self._conversation
        stored = talk.told("stored") if isinstance(talk, SnmpTalk) else None
        return _LASTS.get(stored) if isinstance(stored, int) else None

    def _set(self) -> SnmpTalk:
        return SnmpTalk(self._start, _set_steps(self._start))

    @property
    def _sets_until(self) -> int:
        """Until the row is there; what comes after it may be refused."""
        return next(place for place, each in enumerate(_set_steps(self._start), 1) if each.key == "row")


def _set_steps(start: Start) -> list[_Step]:
    target, old = start.target, start.old or IPv4Address(0)
    find_out = (
        _find_out(start)[:2]
        if start.door
        else [_get(f"get the interface of {old}", "interface", row(IF_INDEX, old), needed=True)]
    )
    new, gateway = target.interface.ip, target.gateway

    def add(answers: dict[str, SnmpAnswer]) -> list[tuple[Oid, Value | None]]:
        return [(row(IF_INDEX, new), _port_of(start, answers)), (row(ROW_STATUS, new), _CREATE_AND_GO)]

    steps = [
        _get("get its name", "name", SYS_NAME),
        *find_out,
        _Step(f"add {new} to its addresses", "row", Asks.SET, add, is_needed=True),
    ]
    if gateway:
        index = route_index(gateway)

        def route(answers: dict[str, SnmpAnswer]) -> list[tuple[Oid, Value | None]]:
            return [
                ((*ROUTE, ROUTE_IF_INDEX, *index), _port_of(start, answers)),
                ((*ROUTE, ROUTE_TYPE, *index), _REMOTE),
                ((*ROUTE, ROUTE_STATUS, *index), _CREATE_AND_GO),
            ]

        steps.append(_Step(f"add the default route {gateway}", "route", Asks.SET, route))
    stored = row(STORAGE, new)
    return [
        *steps,
        _Step("store it, to be kept", "store", Asks.SET, lambda _: [(stored, NON_VOLATILE)]),
        _get("get how it is stored", "stored", stored),
    ]


def _lets_in(_: Device | None, there: Address | None, kind: Kind | None) -> str | None:
    if kind is None or there is None or kind.way_by("snmp") is None:
        return None
    return "The agent of its kind takes an address by SNMP: no mask and no DNS, and the old address may stay beside it."


ENTRY = field_entry(
    SetBySnmp,
    says=(
        "adds the address to the table of its SNMP agent, and follows it; no mask, no DNS, and the old address "
        "may stay. Needs --at and its community, or --user and a password"
    ),
    does="add {target} by SNMP, and follow it there",
    fits=_lets_in,
    over_ipv6=True,
    tells=("gateway",),
    reads=ReadBySnmp,
)
