"""EtherNet/IP: the TCP/IP Interface object is read and set by unconnected messages over a session (CIP volume 2)."""

from collections.abc import Callable
from dataclasses import replace
from ipaddress import IPv4Address
from struct import pack, unpack_from
from typing import NamedTuple

from askport.core import addresses, channels, protocols
from askport.core.formats import cip, field_protocols, unreadable
from askport.core.formats.cip import Attribute, CipService, Command, Configuration, Encapsulated
from askport.core.phrases import phrase
from askport.core.ways import conversation, field_way, step_talk, talking
from askport.core.ways.start import Start

_ANSWER_S = 5.0
_METHODS = {cip.STATIC: "static", cip.BOOTP: "bootp", cip.DHCP: "dhcp"}
_LOST = phrase("what it answered cannot be read")


class _Step(NamedTuple):
    """One request to the object."""

    says: str
    """As it is shown."""
    service: int
    attribute: int
    data: Callable[[dict[int, bytes]], bytes] = lambda _: b""
    """Makes what is sent out of what was answered before, by attribute."""
    refuses: Callable[[bytes], str] = lambda _: ""
    """Says why what was answered forbids going on, as the end of a sentence."""
    is_needed: bool = True
    """Whether a refusal ends it."""


class CipTalk(step_talk.StepTalk[_Step]):
    """Opens a session, and asks or tells the object one attribute after the other."""

    def __init__(self, far: channels.TcpPort, steps: list[_Step], now: float) -> None:
        super().__init__(steps)
        self._channel = channels.Channel(far)
        self._session: int | None = None
        self._came = b""
        self.answers: dict[int, bytes] = {}
        self._is_open = False
        self._give_up_at = now + _ANSWER_S
        self._effects.append(channels.OpenChannel(self._channel))

    def channel_event(self, event: channels.ChannelEvent, now: float) -> None:
        if event.channel is not self._channel or self.done:
            return
        match event:
            case channels.Opened():
                self._is_open, self._give_up_at = True, now + _ANSWER_S
                self._effects.append(channels.SendOn(self._channel, cip.register_session()))
            case channels.Received(_, data):
                self._came += data
                self._read(now)
            case channels.Closed(_, because):
                lost = conversation.Ended.CLOSED if self._is_open else conversation.Ended.UNREACHED
                self._finish(lost, because or phrase("it ended the connection"))

    def _read(self, now: float) -> None:
        while not self.done:
            taken = cip.take_message(self._came)
            if isinstance(taken, unreadable.Unreadable):
                self._finish(conversation.Ended.TOO_MUCH, _LOST)
                return
            message, self._came = taken
            if message is None:
                return
            self._heard(message, now)

    def _heard(self, message: Encapsulated, now: float) -> None:
        if message.status:
            why = cip.ENCAPSULATION_STATUS.get(message.status, phrase("status {status:#x}", status=message.status))
            self._finish(conversation.Ended.REFUSED, why)
        elif message.command == Command.REGISTER_SESSION and self._session is None:
            self._session = message.session
            self._say(now)
        elif message.command == Command.SEND_RR_DATA and self._session is not None:
            step, reply = self._steps[0], message.reply
            if reply is None or reply.service != step.service:
                self._finish(conversation.Ended.REFUSED, _LOST)
            elif reply.status:
                why = cip.STATUS.get(reply.status, phrase("general status {status:#x}", status=reply.status))
                self._answered(now, why, goes_on=not step.is_needed)
            elif forbids := step.refuses(reply.data):
                self._finish(conversation.Ended.REFUSED, forbids)
            else:
                self.answers[step.attribute] = reply.data
                self._answered(now)

    def _say(self, now: float) -> None:
        step = self._steps[0]
        self._goes_out(step.says, changes=step.service == CipService.SET)
        request = cip.interface_request(step.service, step.attribute, step.data(self.answers))
        self._effects.append(channels.SendOn(self._channel, cip.unconnected(self._session or 0, request)))
        self._give_up_at = now + _ANSWER_S

    def handle_timer(self, now: float) -> None:
        if not self.done and now >= self._give_up_at:
            self._finish(conversation.Ended.SILENT, phrase("nothing came back in {answer_s:.0f} s", answer_s=_ANSWER_S))

    def next_deadline(self) -> float | None:
        return None if self.done else self._give_up_at

    def _finish(self, ended: conversation.Ended, because: str) -> None:
        super()._finish(ended, because)
        self._effects.append(channels.CloseChannel(self._channel))


def _from_switches(data: bytes) -> str:
    by_hand = len(data) >= 4 and data[0] & cip.METHOD == cip.FROM_SWITCHES
    return phrase("its address comes from switches on the device: set them instead") if by_hand else ""


def _settable(data: bytes) -> str:
    return "" if len(data) >= 4 and data[0] & cip.SETTABLE else phrase("its address cannot be set by CIP")


_READS = [
    _Step(phrase("get status"), CipService.GET, Attribute.STATUS, is_needed=False),
    _Step(phrase("get configuration control"), CipService.GET, Attribute.CONTROL, is_needed=False),
    _Step(phrase("get configuration"), CipService.GET, Attribute.CONFIGURATION),
    _Step(phrase("get host name"), CipService.GET, Attribute.HOST_NAME, is_needed=False),
]


class ReadByCip(CipTalk):
    """Asks what the object says of its settings."""

    def __init__(self, start: Start) -> None:
        """Begin to ask.

        Raises:
            ValueError: it is not known where the device is.
        """
        super().__init__(_far(start), _READS, start.now)

    def _conclude(self) -> None:
        value = cip.decode_configuration(self.answers.get(Attribute.CONFIGURATION, b""))
        if isinstance(value, unreadable.Unreadable):
            self._finish(conversation.Ended.REFUSED, _LOST)
            return

        def none(address: IPv4Address) -> str:
            return "none" if address == addresses.UNSPECIFIED else str(address)

        self._found = {
            "address": none(value.address), "mask": str(value.mask), "gateway": none(value.gateway),
            "dns1": none(value.dns[0]), "dns2": none(value.dns[1]),
        }  # fmt: skip
        control, status = self.answers.get(Attribute.CONTROL, b""), self.answers.get(Attribute.STATUS, b"")
        if len(control) >= 4:
            self._found["origin"] = _METHODS.get(control[0] & cip.METHOD, "unknown")
        name = self.answers.get(Attribute.HOST_NAME, b"")
        if len(name) > 2:
            size = int(unpack_from("<H", name)[0])
            self._found |= {"name": name[2 : 2 + size].decode(protocols.PROTOCOLS["cip"].names_in)} if size else {}
        waits = bool(status) and bool(status[0] & cip.PENDING)
        self._finish(conversation.Ended.WELL, phrase("a new configuration waits for its restart") if waits else "")


class SetByCip(field_way.SetByField):
    """Makes its configuration static, tells it the new one, and follows it: the success is often lost with the move."""

    name, what = "cip", phrase("TCP/IP Interface object")

    @classmethod
    def said_in_all(cls, start: Start) -> list[str]:
        """Return what is asked before, too: whether it can be set at all."""
        return [each.says for each in _set_steps(start)]

    @classmethod
    def told(cls, start: Start) -> list[str]:
        """Return what is set."""
        return [each.says for each in _set_steps(start) if each.service == CipService.SET]

    def _read(self, now: float) -> conversation.Conversation:
        return ReadByCip(replace(self._start, now=now))

    def _set(self) -> conversation.Conversation:
        return CipTalk(_far(self._start), _set_steps(self._start), self._start.now)

    def _follow(self, ended: conversation.Ended, now: float) -> None:
        talk = self._conversation
        capability = talk.answers.get(Attribute.CAPABILITY, b"") if isinstance(talk, CipTalk) else b""
        if capability and capability[0] & cip.RESET_NEEDED:
            self._by = talking.FieldTerms(self.said_in_all(self._start), "after restart")
        super()._follow(ended, now)


def _far(start: Start) -> channels.TcpPort:
    if start.old is None:
        raise ValueError(phrase("EtherNet/IP reaches a device where it is"))
    return channels.TcpPort(start.old, start.port or field_protocols.PORT_ETHERNET_IP)


def _set_steps(start: Start) -> list[_Step]:
    target = start.target
    dns = (*target.dns, addresses.UNSPECIFIED, addresses.UNSPECIFIED)[:2]
    value = Configuration(
        target.interface.ip, target.interface.netmask, target.gateway or addresses.UNSPECIFIED, (dns[0], dns[1])
    )

    def static(answers: dict[int, bytes]) -> bytes:
        before = int.from_bytes(answers[Attribute.CONTROL][:4], "little") & ~cip.METHOD
        return pack("<I", before | cip.STATIC | (cip.DNS_ENABLED if target.dns else 0))

    def configuration(answers: dict[int, bytes]) -> bytes:
        known = cip.decode_configuration(answers[Attribute.CONFIGURATION])
        if isinstance(known, unreadable.Unreadable):
            return cip.encode_configuration(value)
        # Servers that nobody planned stay: the attribute holds them beside the address, and would lose them.
        return cip.encode_configuration(value._replace(domain=known.domain, dns=value.dns if target.dns else known.dns))

    name = protocols.told_name("cip", start.columns)
    named = cip.encode_host_name(name) if name else b""
    calls = _Step(
        phrase("set host name {name}", name=name), CipService.SET, Attribute.HOST_NAME, lambda _: named, is_needed=False
    )
    gateway = target.gateway or "none"
    told = "set configuration {ip} {netmask} gateway {gateway} DNS {dns}"
    told = told if target.dns else "set configuration {ip} {netmask} gateway {gateway}"
    return [
        _Step(phrase("get status"), CipService.GET, Attribute.STATUS, refuses=_from_switches),
        _Step(phrase("get capability"), CipService.GET, Attribute.CAPABILITY, refuses=_settable),
        _Step(phrase("get configuration control"), CipService.GET, Attribute.CONTROL),
        _Step(phrase("get configuration"), CipService.GET, Attribute.CONFIGURATION),
        *([calls] if name else []),
        _Step(phrase("set configuration control static"), CipService.SET, Attribute.CONTROL, static),
        _Step(
            phrase(told, ip=target.interface.ip, netmask=target.interface.netmask, gateway=gateway,
                   dns=" ".join(map(str, target.dns))),
            CipService.SET, Attribute.CONFIGURATION, configuration,
        ),
    ]  # fmt: skip


ENTRY = field_way.field_entry(
    SetByCip,
    says=phrase("makes its configuration static and tells it over EtherNet/IP (CIP), and follows it. Needs --at"),
    does="tell it by EtherNet/IP, and follow it to {target}",
    why=phrase("its interface object is told, and says itself what it has."),
    reads=ReadByCip,
)
