"""BACnet/IP: the Network Port object is read and written, and its changes are activated (ASHRAE 135 clause 12.56)."""

from collections.abc import Callable
from ipaddress import AddressValueError, IPv4Address
from typing import NamedTuple

from askport.core.addresses import UNSPECIFIED
from askport.core.formats import bacnet
from askport.core.formats.bacnet import ANY_INSTANCE, Answer, Property
from askport.core.formats.field_protocols import (
    PORT_BACNET,
    Bacnet,
    BacnetService,
    decode_bacnet,
    encode_bacnet,
)
from askport.core.ways.conversation import Ended
from askport.core.ways.datagrams import Datagrams
from askport.core.ways.start import Start
from askport.core.ways.talking import FieldTerms, Talking

_FINDING = ("find the network port", "list its objects")
_FINDS = (Property.OBJECT_IDENTIFIER, Property.OBJECT_LIST)
_OPTIONAL = frozenset({Property.DNS_SERVER, Property.CHANGES_PENDING, Property.DHCP_ENABLE})
"""What a device need not have."""


class _Step(NamedTuple):
    """One request."""

    says: str
    number: int
    asks: Callable[[int, int], bytes]
    """Makes the message, from the number of the request and the instance of the object."""


def _reads(number: Property) -> _Step:
    words = number.name.lower().replace("_", " ")
    return _Step(f"read {words}", number, lambda invoke, port: bacnet.read_property(invoke, port, number))


def _writes(number: Property, value: bytes, shown: object) -> _Step:
    words = number.name.lower().replace("_", " ")
    return _Step(
        f"write {words} {shown}", number, lambda invoke, port: bacnet.write_property(invoke, port, number, value)
    )


class BacnetTalk(Datagrams):
    """Asks one thing after the other."""

    port, protocol = PORT_BACNET, "BACnet/IP"

    def __init__(self, start: Start, steps: list[_Step]) -> None:
        """Ask for the object's number first.

        Raises:
            ValueError: it is not known where the device is, or the laptop does not reach it there.
        """
        super().__init__(start)
        self._steps = [_Step(_FINDING[0], Property.OBJECT_IDENTIFIER, self._find_port), *steps]
        self._network_port = self._device = ANY_INSTANCE
        self._invoke = start.xid() & 0xFF
        self.answers: dict[int, list[bytes]] = {}

    def _find_port(self, invoke: int, _: int) -> bytes:
        return bacnet.read_property(invoke, ANY_INSTANCE, Property.OBJECT_IDENTIFIER)

    def _list_objects(self, invoke: int, _: int) -> bytes:
        return bacnet.read_object_list(invoke, self._device)

    @property
    def has_said_all(self) -> bool:
        """Whether everything was sent."""
        return len(self._steps) == 1 and self._asked > 0

    def _question(self) -> tuple[str, list[bytes]]:
        step = self._steps[0]
        # the number of the device itself comes first, where it has to be named
        who = [] if self.spoken else [encode_bacnet(Bacnet(BacnetService.WHO_IS))]
        return step.says, [*who, step.asks(self._invoke, self._network_port)]

    def _take(self, payload: bytes, now: float) -> None:
        said = decode_bacnet(payload)
        if isinstance(said, Bacnet) and said.instance is not None:
            self._device = said.instance
        answer = bacnet.decode_answer(payload)
        if isinstance(answer, Answer) and answer.invoke == self._invoke and self._asked:
            self._answered(answer, now)

    def _answered(self, answer: Answer, now: float) -> None:
        step, values = self._steps[0], bacnet.values_of(answer.value)
        port = bacnet.port_in(values) if step.number in _FINDS else None
        if port is not None:
            self._network_port = port
        elif step.number == Property.OBJECT_IDENTIFIER:  # it does not know the number that stands for any
            lists = _Step(_FINDING[1], Property.OBJECT_LIST, self._list_objects)
            self._steps.insert(1, lists)
        elif step.number == Property.OBJECT_LIST:
            self._network_port = 1
        elif answer.refusal and step.number not in _OPTIONAL:
            self._finish(Ended.REFUSED, f"{answer.refusal} (“{step.says}”)")
            return
        elif not answer.refusal:
            self.answers[step.number] = values
        self.spoken[-1].acknowledged = True
        self.spoken[-1].answer = answer.refusal
        self._steps = self._steps[1:]
        self._invoke = (self._invoke + 1) & 0xFF
        self._ask_next(now)
        if not self._steps:
            self._conclude()

    def _conclude(self) -> None:
        self._finish(Ended.WELL, "")


class ReadByBacnet(BacnetTalk):
    """Asks for the settings of its network port."""

    def __init__(self, start: Start) -> None:
        """Begin to ask.

        Raises:
            ValueError: it is not known where the device is, or the laptop does not reach it there.
        """
        wanted = (Property.IP_ADDRESS, Property.SUBNET_MASK, Property.DEFAULT_GATEWAY, Property.DNS_SERVER)
        super().__init__(start, [_reads(each) for each in (*wanted, Property.DHCP_ENABLE, Property.CHANGES_PENDING)])

    def _conclude(self) -> None:
        names = {"address": Property.IP_ADDRESS, "mask": Property.SUBNET_MASK, "gateway": Property.DEFAULT_GATEWAY}
        for name, number in names.items():
            found = _addresses(self.answers.get(number, []))
            if found:  # what is no address says nothing of one
                self._found[name] = "none" if found[0] == UNSPECIFIED else str(found[0])
        if Property.DNS_SERVER in self.answers:
            servers = [each for each in _addresses(self.answers[Property.DNS_SERVER]) if each != UNSPECIFIED]
            self._found |= {f"dns{n + 1}": str(servers[n]) if n < len(servers) else "none" for n in range(2)}
        if Property.DHCP_ENABLE in self.answers:
            self._found["origin"] = "dhcp" if _is_true(self.answers[Property.DHCP_ENABLE]) else "static"
        waits = _is_true(self.answers.get(Property.CHANGES_PENDING, []))
        self._finish(Ended.WELL, "changes wait to be activated" if waits else "")


def _addresses(values: list[bytes]) -> list[IPv4Address]:
    found = []
    for each in values:
        try:
            found.append(IPv4Address(each))
        except AddressValueError:
            continue
    return found


def _is_true(values: list[bytes]) -> bool:
    return bool(values) and values[0] == b"\x01"


class SetByBacnet(Talking):
    """Writes the properties of its network port, has them used, and follows it."""

    name = "bacnet"
    what = "network port"

    def __init__(self, start: Start) -> None:
        """Begin to talk.

        Raises:
            ValueError: it cannot be reached, before and after.
        """
        self._steps = _set_steps(start)
        super().__init__(start, start.kind, FieldTerms([each.says for each in self._steps]), [])
        self.wrote = ("mask", "gateway", *(("dns",) if start.target.dns else ()))

    def _set(self) -> BacnetTalk:
        return BacnetTalk(self._start, list(self._steps))

    @property
    def _sets_until(self) -> int:
        return len(self._steps) + sum(each.text in _FINDING for each in self._conversation.spoken) - 1


def _set_steps(start: Start) -> list[_Step]:
    target = start.target
    at, gateway = target.interface, target.gateway or UNSPECIFIED
    servers = b"".join(bacnet.octets(each.packed) for each in target.dns)
    password = start.log_in.password
    steps = [
        _writes(Property.DHCP_ENABLE, bacnet.boolean(value=False), "false"),
        _writes(Property.SUBNET_MASK, bacnet.octets(at.netmask.packed), at.netmask),
        _writes(Property.DEFAULT_GATEWAY, bacnet.octets(gateway.packed), target.gateway or "none"),
    ]
    if target.dns:
        steps.append(_writes(Property.DNS_SERVER, servers, " ".join(map(str, target.dns))))
    steps.append(_writes(Property.IP_ADDRESS, bacnet.octets(at.ip.packed), at.ip))
    activate = _Step("activate changes", 0, lambda invoke, _: bacnet.activate_changes(invoke, password))
    return [*steps, activate]


def shown_properties(start: Start) -> list[str]:
    """Return what it is told."""
    return [each.says for each in _set_steps(start)]
