"""SNMP: the tables of an agent, and a conversation that asks it one thing after the other (RFC 3411, 4293, 4292)."""

from collections.abc import Callable
from ipaddress import IPv4Address
from typing import NamedTuple

from askport.core.kinds.model import SnmpWay
from askport.core.phrases import phrase
from askport.core.ways.datagrams import Datagrams
from askport.core.ways.snmp_engine import ERROR_STATUS, Access, AgentTalk, Asks, Oid, SnmpAnswer, Value
from askport.core.ways.start import Start

PORT_SNMP = 161
_MIB2: Oid = (1, 3, 6, 1, 2, 1)
SYS_NAME: Oid = (*_MIB2, 1, 5, 0)
IP_ADDRESS: Oid = (*_MIB2, 4, 34, 1)
"""ipAddressEntry (RFC 4293); below it the column, and an address as type, length and octets."""
IF_INDEX, PREFIX, ORIGIN, ROW_STATUS, STORAGE = 3, 5, 6, 10, 11
OLD_IF_INDEX: Oid = (*_MIB2, 4, 20, 1, 2)
OLD_MASK: Oid = (*_MIB2, 4, 20, 1, 3)
"""ipAdEntIfIndex and ipAdEntNetMask (RFC 1213), which nearly all agents still have."""
OLD_NEXT_HOP: Oid = (*_MIB2, 4, 21, 1, 7, 0, 0, 0, 0)
"""ipRouteNextHop of the default route (RFC 1213)."""
ROUTE: Oid = (*_MIB2, 4, 24, 7, 1)
"""inetCidrRouteEntry (RFC 4292)."""
TO_ALL: Oid = (1, 4, 0, 0, 0, 0, 0)
"""The default route in its index: type and length of an address, its octets, and its prefix length."""
ROUTE_IF_INDEX, ROUTE_TYPE, ROUTE_STATUS = 7, 8, 17
REMOTE, CREATE_AND_GO, _ACTIVE = 4, 4, 1
_SEES = phrase("see whether it took that the first time")
ORIGINS = {2: "static", 4: "dhcp", 5: "link-local", 6: "link-local"}
VOLATILE, NON_VOLATILE = 2, 3
LASTS = {VOLATILE: False, NON_VOLATILE: True, 4: True, 5: True}
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


class Step(NamedTuple):
    """One question."""

    says: str
    key: str
    asks: Asks
    values: Callable[[dict[str, SnmpAnswer]], list[tuple[Oid, Value | None]]]
    """Makes what is asked out of what was answered before."""
    is_needed: bool = False
    unless: Callable[[dict[str, SnmpAnswer]], bool] = lambda _: False
    """Whether what was answered before leaves nothing to ask."""


def get_(says: str, key: str, name: Oid, *, needed: bool = False) -> Step:
    """Return the question for one value."""
    return Step(says, key, Asks.GET, lambda _: [(name, None)], needed)


def row(column: int, address: IPv4Address) -> Oid:
    """Return the name of a column of an address (RFC 4293)."""
    return (*IP_ADDRESS, column, 1, 4, *address.packed)


_IPV4_ROWS: Oid = (*IP_ADDRESS, IF_INDEX, 1, 4)
_MAX_ROWS = 6
"""Addresses that an agent is asked through for the one of its port; that of loopback is among them."""


def find_out(start: Start) -> list[Step]:
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
        Step(phrase("get its port"), "zoned port", Asks.NEXT, lambda _: [(zoned, None)]),
        get_(
            phrase("get its port, as others call it"), "port", (*IP_ADDRESS, IF_INDEX, 2, 16, *door), needed=True
        )._replace(unless=lambda answers: port_of(start, answers) is not None),
        *(
            Step(
                phrase("get address {number} of it", number=number),
                key,
                Asks.NEXT,
                after,
                unless=lambda answers: address_of(start, answers) is not None,
            )
            for number, key in enumerate(_ROW_KEYS, 1)
        ),
    ]


_ROW_KEYS = tuple(phrase("row {number}", number=number) for number in range(1, _MAX_ROWS + 1))


def port_of(start: Start, answers: dict[str, SnmpAnswer]) -> Value | None:
    """Return by which number its agent knows the port that it is reached at."""
    if start.door is None:
        return answers.get("interface", SnmpAnswer()).value
    zoned, plain = answers.get("zoned port", SnmpAnswer()), answers.get("port", SnmpAnswer())
    asked: Oid = (*IP_ADDRESS, IF_INDEX, 4, 20, *start.door.packed)
    return zoned.value if zoned.name[: len(asked)] == asked else plain.value


def address_of(start: Start, answers: dict[str, SnmpAnswer]) -> IPv4Address | None:
    """Return the IPv4 address that its agent has for that port, where it is reached over IPv6, or the known one."""
    if start.door is None:
        return start.old
    port, size = port_of(start, answers), len(_IPV4_ROWS)
    rows = [answers[key] for key in _ROW_KEYS if key in answers]
    mine = (each.name[size:] for each in rows if each.name[:size] == _IPV4_ROWS and each.value == port is not None)
    return next((IPv4Address(bytes(each)) for each in mine if len(each) == 4 and max(each) < 256), None)


def route_index(gateway: IPv4Address) -> Oid:
    """Return by which index a default route goes: destination, policy, next hop (RFC 4292)."""
    return (*TO_ALL, 2, 0, 0, 1, 4, *gateway.packed)


class SnmpTalk(Datagrams[Step]):
    """Asks one thing after the other."""

    port, protocol = PORT_SNMP, "SNMP"

    def __init__(self, start: Start, steps: list[Step]) -> None:
        """Begin to ask.

        Raises:
            ValueError: it is not known where the device is, or the laptop does not reach it there.
            BadInput: something that its agent asks for was not given.
        """
        access = access_of(start)
        super().__init__(start, steps, {"password": access.password})
        self._agent = AgentTalk(access)
        wants = phrase("wants it encrypted otherwise") if access.privacy else phrase("knows no such user")
        wants = wants if access.version == "3" else phrase("does not take this community")
        self.silence = phrase("it did not answer 3 times: there is no agent, or it {wants}", wants=wants)
        self._sent = 0
        self._doubted: SnmpAnswer | None = None
        """A refusal of what was sent more than once: it may have been taken the first time."""
        self.answers: dict[str, SnmpAnswer] = {}

    def _question(self, step: Step) -> tuple[str, bool, list[bytes]]:
        if not self._is_out:
            self._sent = 0
            self._agent.ask(step.asks, step.values(self.answers))
        self._agent.is_new = False
        self._sent += 1
        return step.says, step.asks is Asks.SET, [self._agent.message]

    def _has_answer(self, step: Step) -> bool:
        return step.unless(self.answers)

    def _take(self, payload: bytes, now: float) -> None:
        if not self._asked:
            return
        self._agent.receive(payload)
        if answer := self._agent.answer:
            self._heard(answer, now)
        elif self._agent.is_new:  # the engine behind the agent was found out, or its clock
            self._asked, self._next_at = 1, now

    def _heard(self, answer: SnmpAnswer, now: float) -> None:
        step = self._steps[0]
        if step.asks is Asks.SET and answer.refusal and self._sent > 1 and not answer.is_shut_out:
            status = step.values(self.answers)[-1][0]  # the last of what it sets is the state of its row
            self._doubted = answer
            seen = Step(_SEES, step.key, Asks.GET, lambda _: [(status, None)], step.is_needed)
            self.spoken[-1].left_out, self.spoken[-1].answer = True, answer.refusal
            self._steps, self._is_out = [seen, *self._steps[1:]], False
            self._say(now)
            return
        if self._doubted is not None:
            is_there = answer.value == _ACTIVE
            answer, self._doubted = (SnmpAnswer() if is_there else self._doubted), None
            step = step._replace(asks=Asks.SET)
            if is_there:  # what was asked the first time is what was taken
                self.spoken[-2].acknowledged, self.spoken[-2].left_out, self.spoken[-2].answer = True, False, ""
        refusal = answer.refusal or ("" if answer.value is not None or step.asks is Asks.SET else ERROR_STATUS[2])
        self.answers[step.key] = answer
        self._answered(now, refusal, goes_on=not (step.is_needed or answer.is_shut_out))

    def told(self, key: str) -> Value | None:
        """Return what it answered, or None where it has no such value."""
        return self.answers.get(key, SnmpAnswer()).value

    def took(self, key: str) -> bool:
        """Return whether it was asked that, and did not refuse."""
        return key in self.answers and not self.answers[key].refusal
