"""BACnet/IP: the Network Port object is read and written, and its changes are activated (ASHRAE 135 clause 12.56)."""

from collections.abc import Callable, Iterator
from dataclasses import replace
from ipaddress import AddressValueError, IPv4Address
from typing import NamedTuple

from askport.core.addresses import UNSPECIFIED
from askport.core.formats import bacnet
from askport.core.formats.bacnet import ANY_INSTANCE, BacnetAnswer, Property
from askport.core.formats.field_protocols import (
    PORT_BACNET,
    Bacnet,
    BacnetService,
    decode_bacnet,
    encode_bacnet,
)
from askport.core.phrases import phrase
from askport.core.ways import conversation, datagrams, field_way
from askport.core.ways.start import Start

_OPTIONAL = frozenset({Property.DNS_SERVER, Property.CHANGES_PENDING, Property.DHCP_ENABLE})
"""What a device need not have."""
_FINDS = frozenset({Property.OBJECT_IDENTIFIER, Property.OBJECT_LIST})
"""What is asked only to find the network port."""
_ACTIVATES = 0
"""Stands for the last step, which is about no property."""
_MOST_OBJECTS = 20_000


class _Step(NamedTuple):
    """One request."""

    says: str
    number: int
    asks: Callable[[int, int], bytes]
    """Makes the message, from the number of the request and the instance of the object."""
    place: int | None = None
    """Of a list, which of its places is asked for; 0 is their number."""
    is_like_the_last: bool = False
    """Whether it is shown with the question before it, as one."""
    writes: bool = False


def _reads(number: Property) -> _Step:
    words = number.name.lower().replace("_", " ")
    return _Step(
        phrase("read {words}", words=words), number, lambda invoke, port: bacnet.read_property(invoke, port, number)
    )


def _writes(number: Property, value: bytes, shown: object) -> _Step:
    words = number.name.lower().replace("_", " ")
    return _Step(
        phrase("write {words} {shown}", words=words, shown=shown), number,
        lambda invoke, port: bacnet.write_property(invoke, port, number, value),
        writes=True,
    )  # fmt: skip


class BacnetTalk(datagrams.Datagrams[_Step]):
    """Asks one thing after the other; first which of its objects is the network port.

    Newer devices know a number that stands for it. Others are asked for all their objects, and for one after the other
    where those do not fit into an answer: from both ends, because what is built in is listed first or last.
    """

    port, protocol = PORT_BACNET, "BACnet/IP"
    answer_s = 3.0
    """What the standard waits for by default (clause 12.11.28)."""

    def __init__(self, start: Start, steps: list[_Step]) -> None:
        """Ask for the object's number first.

        Raises:
            ValueError: it is not known where the device is, or the laptop does not reach it there.
        """
        super().__init__(
            start, [_Step(phrase("find the network port"), Property.OBJECT_IDENTIFIER, self._find_port), *steps]
        )
        self._network_port = self._device = ANY_INSTANCE
        self._invoke = start.xid() & 0xFF
        self._to_list: Iterator[int] = iter(())
        self.answers: dict[int, list[bytes]] = {}
        self.wants_password = False
        """Whether it refused to use what was written, because it wants another password."""
        self.left_out: set[int] = set()
        """Properties that it does not have, so that nothing was written there."""

    def _find_port(self, invoke: int, _: int) -> bytes:
        return bacnet.read_property(invoke, ANY_INSTANCE, Property.OBJECT_IDENTIFIER)

    def _lists(self, says: str, index: int | None) -> _Step:
        return _Step(
            says, Property.OBJECT_LIST, lambda invoke, _: bacnet.read_object_list(invoke, self._device, index), index
        )

    def _question(self, step: _Step) -> tuple[str, bool, list[bytes]]:
        # the number of the device itself comes first, where it has to be named
        who = [] if self.spoken else [encode_bacnet(Bacnet(BacnetService.WHO_IS), to_one=True)]
        return step.says, step.writes, [*who, step.asks(self._invoke, self._network_port)]

    def _take(self, payload: bytes, now: float) -> None:
        said = decode_bacnet(payload)
        if isinstance(said, Bacnet) and said.instance is not None and not said.is_behind and said.origin is None:
            self._device = said.instance
        answer = bacnet.decode_answer(payload)
        if not isinstance(answer, BacnetAnswer) or answer.invoke != self._invoke or not self._is_out:
            return
        if answer.may_pass and self._steps[0].number not in _FINDS and not self._is_last_try:
            return  # as if it had not answered: it is asked again
        self._heard(answer, now)

    def _heard(self, answer: BacnetAnswer, now: float) -> None:
        self._invoke = (self._invoke + 1) & 0xFF
        step = self._steps[0]
        if step.number in _FINDS:
            if more := self._find_on(step, answer):
                self._steps.insert(1, more)
            self._answered(now, answer.refusal, goes_on=True)
            if more and more.is_like_the_last:
                self.spoken.pop()
            return
        goes_on = self._may_be_left_out(step, answer)
        if not answer.refusal:
            self.answers[step.number] = bacnet.values_of(answer.value)
        elif goes_on:
            self.left_out.add(step.number)
        else:
            self.wants_password = answer.wants_password
        self._answered(now, answer.refusal, goes_on=goes_on)

    def _find_on(self, step: _Step, answer: BacnetAnswer) -> _Step | None:
        """Take what it said of its objects; return what is asked for next, or None where its port is known."""
        values = bacnet.values_of(answer.value)
        port = bacnet.port_in(values)
        if port is not None:
            self._network_port = port
            return None
        if step.number == Property.OBJECT_IDENTIFIER:  # it does not know the number that stands for any
            return self._lists(phrase("list its objects"), None)
        if step.place is None and answer.refusal:  # they do not fit into one message
            return self._lists(phrase("count its objects"), 0)
        if step.place == 0 and values:
            count = min(int.from_bytes(values[0], "big"), _MOST_OBJECTS)
            self._to_list = _from_both_ends(count)
        following = next(self._to_list, None)
        if following is None:
            self._network_port = 1
            return None
        like = step.place not in (None, 0)
        return self._lists(phrase("list its objects one by one"), following)._replace(is_like_the_last=like)

    def _may_be_left_out(self, step: _Step, answer: BacnetAnswer) -> bool:
        """Whether it goes on though this was refused: what it does not have cannot stay as it was."""
        return step.number in _OPTIONAL and (answer.is_unknown or not step.writes)


def _from_both_ends(count: int) -> Iterator[int]:
    """Yield the numbers from 1 to a count, the last and the first by turns."""
    low, high = 1, count
    while low <= high:
        yield high
        if low < high:
            yield low
        low, high = low + 1, high - 1


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
        self._finish(conversation.Ended.WELL, phrase("changes wait to be activated") if waits else "")


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


class SetByBacnet(field_way.SetByField):
    """Writes the properties of its network port, has them used, and follows it."""

    name, what = "bacnet", phrase("network port")

    @classmethod
    def told(cls, start: Start) -> list[str]:
        """Return what is written, and that it is to be used."""
        return [each.says for each in _set_steps(start)]

    def _set(self) -> BacnetTalk:
        return BacnetTalk(self._start, _set_steps(self._start))

    def _read(self, now: float) -> conversation.Conversation:
        return ReadByBacnet(replace(self._start, now=now))

    def _arrived(self, now: float) -> None:
        """Claim to have given it nothing that it does not have."""
        talk = self._conversation
        if isinstance(talk, BacnetTalk) and Property.DNS_SERVER in talk.left_out:
            self.wrote = tuple(each for each in self.wrote or () if each != "dns")
        super()._arrived(now)

    @property
    def _sets_until(self) -> int:
        """How many things are said until it is set: all but having it used, which may answer from elsewhere."""
        talk = self._conversation
        finding = sum(not each.changes for each in talk.spoken)
        wants = isinstance(talk, BacnetTalk) and talk.wants_password
        return finding + len(self._by.set) - (0 if wants else 1)


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
    activate = _Step(
        phrase("activate changes"), _ACTIVATES, lambda invoke, _: bacnet.activate_changes(invoke, password), writes=True
    )
    return [*steps, activate]


ENTRY = field_way.field_entry(
    SetByBacnet,
    says=phrase("writes its BACnet network port, has the changes used, and follows it. Needs --at"),
    does="tell it by BACnet, and follow it to {target}",
    why=phrase("its network port is written, and says itself what it has."),
    reads=ReadByBacnet,
)
