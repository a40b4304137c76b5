"""SNMP: an agent is asked for the settings of its device, and a row is added to its table of addresses (RFC 4293).

The table takes an address and the interface that it is for. Masks are read-only in every standard table, and name
servers are in none, so neither is told. Rows of other addresses are left alone: agents take their interface down with
the row that they began with.
"""

from collections.abc import Callable
from ipaddress import IPv4Address

from askport.core.addresses import Address
from askport.core.finding.device import Device
from askport.core.kinds.model import Kind
from askport.core.phrases import phrase
from askport.core.ways import conversation, field_way, snmp_talk
from askport.core.ways.snmp_engine import Asks, Oid, SnmpAnswer, Value
from askport.core.ways.start import Start


class ReadBySnmp(snmp_talk.SnmpTalk):
    """Asks an agent for the settings of its device."""

    name = "snmp"

    def __init__(self, start: Start) -> None:
        """Begin to ask.

        Raises:
            ValueError: it is not known where the device is, or the laptop does not reach it there.
            BadInput: something that its agent asks for was not given.
        """

        def of_it(says: str, key: str, name: Callable[[IPv4Address], Oid]) -> snmp_talk.Step:
            return snmp_talk.Step(
                says,
                key,
                Asks.GET,
                lambda answers: [(name(snmp_talk.address_of(start, answers) or IPv4Address(0)), None)],
            )

        self._start = start
        super().__init__(
            start,
            [
                snmp_talk.get_(phrase("get its name"), "name", snmp_talk.SYS_NAME),
                *(snmp_talk.find_out(start) if start.door else ()),
                of_it(phrase("get its interface"), "interface", lambda at: snmp_talk.row(snmp_talk.IF_INDEX, at)),
                of_it(phrase("get its interface, as it was called before"), "old interface",
                      lambda at: (*snmp_talk.OLD_IF_INDEX, *at.packed)),
                of_it(phrase("get its prefix"), "prefix", lambda at: snmp_talk.row(snmp_talk.PREFIX, at)),
                of_it(phrase("get its mask"), "mask", lambda at: (*snmp_talk.OLD_MASK, *at.packed)),
                of_it(phrase("get its origin"), "origin", lambda at: snmp_talk.row(snmp_talk.ORIGIN, at)),
                of_it(phrase("get how it is stored"), "storage", lambda at: snmp_talk.row(snmp_talk.STORAGE, at)),
                snmp_talk.Step(phrase("get its default route"), "route", Asks.NEXT,
                      lambda _: [((*snmp_talk.ROUTE, snmp_talk.ROUTE_IF_INDEX, *snmp_talk.TO_ALL), None)]),
                snmp_talk.get_(phrase("get its default route, as it was called before"), "old route",
                              snmp_talk.OLD_NEXT_HOP),
            ],
        )  # fmt: skip

    def _conclude(self) -> None:
        at = snmp_talk.address_of(self._start, self.answers)
        if at is None or (self.told("interface") is None and self.told("old interface") is None):
            none = phrase("no IPv4 address for this port") if at is None else phrase("no address {at}", at=at)
            self._finish(conversation.Ended.REFUSED, phrase("its agent has {none}", none=none))
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
        if isinstance(origin, int) and origin in snmp_talk.ORIGINS:
            self._found["origin"] = snmp_talk.ORIGINS[origin]
        if isinstance(name := self.told("name"), bytes) and name:
            self._found["name"] = name.decode("utf-8", "replace")
        lasts = snmp_talk.LASTS.get(stored) if isinstance(stored := self.told("storage"), int) else None
        self._found |= {} if lasts is None else {"lasts": "yes" if lasts else "no"}
        self._finish(
            conversation.Ended.WELL, phrase("its agent stores this until a restart only") if lasts is False else ""
        )

    @property
    def _sees_routes(self) -> bool:
        """Whether it was shown a table of routes: what it has not in a table that is hidden is not known."""
        shown = self.answers.get("route", SnmpAnswer()).name[: len(snmp_talk.ROUTE) + 1] == (
            *snmp_talk.ROUTE,
            snmp_talk.ROUTE_IF_INDEX,
        )
        return (shown and self.told("route") is not None) or self.told("old route") is not None


def _default_route(name: Oid) -> IPv4Address | None:
    """Return the next hop out of the index of a default route: policy, then type, length and octets of an address."""
    head = (*snmp_talk.ROUTE, snmp_talk.ROUTE_IF_INDEX, *snmp_talk.TO_ALL)
    if name[: len(head)] != head:
        return None
    rest = name[len(head) :]
    hop = rest[1 + rest[0] :] if rest else ()
    return IPv4Address(bytes(hop[2:])) if hop[:2] == (1, 4) and len(hop) == 6 and max(hop) < 256 else None


class SetBySnmp(field_way.SetByField):
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
        snmp_talk.access_of(start)
        return cls.told(start)

    @classmethod
    def writes(cls, _: Start) -> tuple[str, ...]:
        """Return nothing: only what its agent takes counts."""
        return ()

    def _arrived(self, now: float) -> None:
        talk = self._conversation
        if isinstance(talk, snmp_talk.SnmpTalk) and talk.took("route"):
            self.wrote = ("gateway",)
        if self._at:
            self._note(
                phrase("SNMP only adds an address: whether it still has {at} too is seen in the proofs.", at=self._at),
                now,
            )
        super()._arrived(now)

    @property
    def permanent(self) -> bool | None:  # type: ignore[override]
        """Whether its agent says that a restart leaves it."""
        talk = self._conversation
        stored = talk.told("stored") if isinstance(talk, snmp_talk.SnmpTalk) else None
        return snmp_talk.LASTS.get(stored) if isinstance(stored, int) else None

    def _set(self) -> snmp_talk.SnmpTalk:
        return snmp_talk.SnmpTalk(self._start, _set_steps(self._start))

    @property
    def _sets_until(self) -> int:
        """Until the row is there; what comes after it may be refused."""
        return next(place for place, each in enumerate(_set_steps(self._start), 1) if each.key == "row")


def _set_steps(start: Start) -> list[snmp_talk.Step]:
    target, old = start.target, start.old or IPv4Address(0)
    begins = (
        snmp_talk.find_out(start)[:2]
        if start.door
        else [
            snmp_talk.get_(
                phrase("get the interface of {old}", old=old),
                "interface",
                snmp_talk.row(snmp_talk.IF_INDEX, old),
                needed=True,
            )
        ]
    )
    new, gateway = target.interface.ip, target.gateway

    def add(answers: dict[str, SnmpAnswer]) -> list[tuple[Oid, Value | None]]:
        return [
            (snmp_talk.row(snmp_talk.IF_INDEX, new), snmp_talk.port_of(start, answers)),
            (snmp_talk.row(snmp_talk.ROW_STATUS, new), snmp_talk.CREATE_AND_GO),
        ]

    steps = [
        snmp_talk.get_(phrase("get its name"), "name", snmp_talk.SYS_NAME),
        *begins,
        snmp_talk.Step(phrase("add {new} to its addresses", new=new), "row", Asks.SET, add, is_needed=True),
    ]
    if gateway:
        index = snmp_talk.route_index(gateway)

        def route(answers: dict[str, SnmpAnswer]) -> list[tuple[Oid, Value | None]]:
            return [
                ((*snmp_talk.ROUTE, snmp_talk.ROUTE_IF_INDEX, *index), snmp_talk.port_of(start, answers)),
                ((*snmp_talk.ROUTE, snmp_talk.ROUTE_TYPE, *index), snmp_talk.REMOTE),
                ((*snmp_talk.ROUTE, snmp_talk.ROUTE_STATUS, *index), snmp_talk.CREATE_AND_GO),
            ]

        steps.append(
            snmp_talk.Step(phrase("add the default route {gateway}", gateway=gateway), "route", Asks.SET, route)
        )
    stored = snmp_talk.row(snmp_talk.STORAGE, new)
    return [
        *steps,
        snmp_talk.Step(phrase("store it, to be kept"), "store", Asks.SET, lambda _: [(stored, snmp_talk.NON_VOLATILE)]),
        snmp_talk.get_(phrase("get how it is stored"), "stored", stored),
    ]


def _lets_in(_: Device | None, there: Address | None, kind: Kind | None) -> str | None:
    if kind is None or there is None or kind.way_by("snmp") is None:
        return None
    return phrase(
        "The agent of its kind takes an address by SNMP. It takes no mask and no DNS, and the "
        "old address may stay beside it."
    )


ENTRY = field_way.field_entry(
    SetBySnmp,
    says="adds the address to the table of its SNMP agent, and follows it. No mask, no DNS; the old address may stay. "
    "Needs --at and its community, or --user and a password",
    does="add {target} by SNMP, and follow it there",
    fits=_lets_in,
    over_ipv6=True,
    tells=("gateway",),
    reads=ReadBySnmp,
)
