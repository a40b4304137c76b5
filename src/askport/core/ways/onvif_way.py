"""ONVIF: the device service is asked for its clock first, and then read and set (ONVIF Core section 8.2)."""

from collections.abc import Callable
from dataclasses import replace
from datetime import datetime, timedelta
from ipaddress import IPv4Address
from typing import NamedTuple
from urllib.parse import urlsplit

from askport.core import addresses, channels, errors
from askport.core.formats import onvif
from askport.core.formats.onvif import Element
from askport.core.phrases import phrase
from askport.core.ways import conversation, field_way, step_talk
from askport.core.ways.start import Start

_UNAUTHORIZED, _OK, _NOT_FOUND = 401, 200, 404
_CLOCK = "GetSystemDateAndTime"
_REBOOTS_S = 120.0
"""How long a camera may take to start, where its kind does not say."""
_SETS = "SetNetworkInterfaces"
_NO_PASSWORD = phrase("it asked for no log-in: anybody on its network can change it, so give it a password")


class _Call(NamedTuple):
    """One request."""

    action: str
    body: str
    reads: Callable[[Element], None] = lambda _: None
    changes: bool = False


class OnvifTalk(step_talk.StepTalk[_Call]):
    """Sends requests one after the other; the log-in is found out without trying it, and given once."""

    def __init__(self, start: Start) -> None:
        """Ask for the clock.

        Raises:
            ValueError: it is not known where the device is.
        """
        clock = _Call(_CLOCK, onvif.ask(_CLOCK), self._take_clock)
        interfaces = _Call("GetNetworkInterfaces", onvif.ask("GetNetworkInterfaces"), self._take_interfaces)
        password = start.log_in.password
        super().__init__([clock, interfaces], {"password": password} if password else {})
        if start.old is None:
            raise ValueError(phrase("ONVIF reaches a device where it is"))
        self._start, self._now = start, start.now
        self._far, self._path = _service_of(start.old, start.places.get("onvif", ""), start.port)
        self._asked_again = False
        self._log_in = start.log_in
        self._clock: tuple[datetime, float] | None = None
        self._is_known = False
        """Whether it is found out how it is logged in to."""
        self._by_token = self._logged_in = False
        self._asked: channels.PageCall | None = None
        self.interface: Element | None = None
        self.reboots = False
        self._say(start.now)

    def _say(self, now: float) -> None:
        call = self._steps[0]
        self._goes_out(call.action, changes=call.changes)
        security = ""
        if self._by_token:
            moment, at = self._clock or (datetime.fromtimestamp(0).astimezone(), self._now)
            nonce = b"".join(self._start.xid().to_bytes(4, "big") for _ in range(4))
            created = moment + timedelta(seconds=self._now - at)
            security = onvif.username_token(self._log_in.user, self._log_in.password, nonce, created)
        text = onvif.envelope(call.body, security)
        self._asked = channels.PageCall(self._far, "POST", self._path, body=(text, onvif.CONTENT_TYPE))
        self._effects.append(channels.Fetch(self._asked))

    def handle_timer(self, now: float) -> None:
        """Take in how late it is; requests have their own time."""
        self._now = now

    def next_deadline(self) -> float | None:
        return None

    def channel_event(self, event: channels.ChannelEvent, now: float) -> None:
        if self.done or event.channel is not self._asked:
            return
        self._now = now
        match event:
            case channels.Fetched(_, status, text, clock=clock):
                # Its own clock as its answer was sent, until it says more of it.
                self._clock = self._clock or ((clock, now) if clock else None)
                self._heard(status, text)
            case channels.Closed() if not self._asked_again and not self.has_begun:
                self._asked_again = True  # many reset the first connection after they were asleep
                self._say(now)
            case channels.Closed(_, because):
                self._lost(because or phrase("the connection was lost"))

    def _heard(self, status: int, text: str) -> None:
        call = self._steps[0]
        try:
            body = onvif.read_answer(text)
            fault = onvif.fault_of(body)
        except onvif.NotOnvif:
            body, fault = None, None
        refused = status == _UNAUTHORIZED or fault == onvif.NOT_AUTHORIZED
        why = onvif.FAULTS.get(fault or "", phrase("it answered {fault}", fault=fault or status))
        if call.action == _CLOCK and (refused or body is None or fault) and status != _NOT_FOUND:
            self._answered(
                self._now, why, goes_on=True
            )  # some hide their clock behind a log-in, for which it is needed
        elif refused:
            self._refused_log_in(by_digest=status == _UNAUTHORIZED and fault is None)
        elif body is None:
            self._finish(conversation.Ended.REFUSED, phrase("it answered {status} and no ONVIF message", status=status))
        elif fault or status != _OK:
            self._answered(self._now, why)
        else:
            self._is_known |= call.action != _CLOCK
            call.reads(body)
            self._answered(self._now)

    def _refused_log_in(self, *, by_digest: bool) -> None:
        """Log in as it wants it, once."""
        if self._is_known or self._logged_in:
            self._finish(conversation.Ended.REFUSED, onvif.FAULTS[onvif.NOT_AUTHORIZED])
        elif not self._log_in.user:
            self._finish(conversation.Ended.REFUSED, phrase("it asks for a log-in: give its name and password"))
        else:
            self._logged_in = True
            if by_digest:
                self._far = channels.HttpPort(self._far.address, self._far.port, self._far.secure, *self._log_in_words)
            else:
                self._by_token = True
            self._say(self._now)

    @property
    def _log_in_words(self) -> tuple[str, str]:
        return self._log_in.user, self._log_in.password

    def _take_clock(self, body: Element) -> None:
        moment = onvif.clock_of(body)
        self._clock = (moment, self._now) if moment else self._clock

    def _take_interfaces(self, body: Element) -> None:
        interfaces = body.all("NetworkInterfaces")
        mine = (each for each in interfaces if _mac(each.said("HwAddress")) == self._start.mac)
        self.interface = next(mine, None) or (interfaces[0] if len(interfaces) == 1 else None)
        if self.interface is None:
            self._finish(conversation.Ended.REFUSED, phrase("it lists no interface with its MAC address"))
            return
        self._steps += self._more(self.interface)

    def _more(self, interface: Element) -> list[_Call]:
        """Return what is asked or told beside."""
        raise NotImplementedError

    def _conclude(self) -> None:
        self._finish(conversation.Ended.WELL, "" if self._logged_in else _NO_PASSWORD)


def _service_of(address: IPv4Address, url: str, port: int | None) -> tuple[channels.HttpPort, str]:
    """Return where its device service is: at the port and the path that it says; its host is never another's."""
    try:
        said = urlsplit(url)
    except ValueError:
        said = urlsplit("")
    try:
        named = said.port
    except ValueError:
        named = None
    secure = said.scheme == "https"
    number = port or named or (443 if secure else 80)
    return channels.HttpPort(address, number, secure), said.path if said.path.startswith("/") else onvif.PATH


def _is_true(text: str) -> bool:
    """Whether a boolean of an XML schema is true (XML Schema part 2 section 3.2.2)."""
    return text.strip() in ("true", "1")


def _mac(text: str) -> addresses.MacAddress | None:
    try:
        return addresses.MacAddress.parse(text)
    except errors.BadInput:
        return None


class ReadByOnvif(OnvifTalk):
    """Asks for its settings."""

    def _more(self, interface: Element) -> list[_Call]:
        config = interface.first("IPv4", "Config") or interface
        by_dhcp = _is_true(config.said("DHCP"))
        shown = config.first("FromDHCP") if by_dhcp else None
        part = shown or config.first("Manual")
        if part:
            self._found |= {"address": part.said("Address"), "prefix": part.said("PrefixLength")}
        self._found["origin"] = "dhcp" if by_dhcp else "static"
        return [
            _Call("GetNetworkDefaultGateway", onvif.ask("GetNetworkDefaultGateway"), self._take_gateway),
            _Call("GetDNS", onvif.ask("GetDNS"), self._take_dns),
            _Call("GetHostname", onvif.ask("GetHostname"), self._take_name),
        ]

    def _take_gateway(self, body: Element) -> None:
        self._found["gateway"] = str(next(iter(body.addresses("NetworkGateway", "IPv4Address")), "none"))

    def _take_dns(self, body: Element) -> None:
        servers: list[IPv4Address] = body.addresses("DNSInformation", "IPv4Address")
        for place in range(2):
            self._found[f"dns{place + 1}"] = str(servers[place]) if place < len(servers) else "none"

    def _take_name(self, body: Element) -> None:
        if name := body.said("HostnameInformation", "Name"):
            self._found["name"] = name


class _Setting(OnvifTalk):
    """Tells it gateway and servers, then its address, and has it restart where it wants to."""

    def _more(self, interface: Element) -> list[_Call]:
        *before, sets = _told(self._start, interface.get("token"))
        return [*before, sets._replace(reads=self._take_reboot)]

    def _take_reboot(self, body: Element) -> None:
        if _is_true(body.said("RebootNeeded")):
            self.reboots = True
            self._steps.append(_Call("SystemReboot", onvif.ask("SystemReboot"), changes=True))


def _told(start: Start, token: str) -> list[_Call]:
    target = start.target
    calls = []
    if target.gateway:
        calls.append(
            _Call(
                phrase("SetNetworkDefaultGateway {gateway}", gateway=target.gateway), onvif.set_gateway(target.gateway)
            )
        )
    if target.dns:
        calls.append(
            _Call(phrase("SetDNS {servers}", servers=" ".join(map(str, target.dns))), onvif.set_dns(target.dns))
        )
    calls.append(_Call(_SETS, onvif.set_interface(token, target.interface)))
    return [each._replace(changes=True) for each in calls]


class SetByOnvif(field_way.SetByField):
    """Tells its device service the new settings, and follows it; a restart that it asks for is made."""

    name, what = "onvif", phrase("device service")

    @classmethod
    def told(cls, start: Start) -> list[str]:
        """Return the actions that set something."""
        return [each.action for each in _told(start, "")]

    @classmethod
    def shown(cls, start: Start) -> list[str]:
        """Return them with the address."""
        at = start.target.interface
        return [f"{each} {at}" if each == _SETS else each for each in cls.told(start)]

    @classmethod
    def writes(cls, start: Start) -> tuple[str, ...]:
        """Return what is planned: it is told by an action of its own each."""
        gateway, dns = start.target.gateway, start.target.dns
        return ("mask", *(("gateway",) if gateway else ()), *(("dns",) if dns else ()))

    def _read(self, now: float) -> conversation.Conversation:
        return ReadByOnvif(replace(self._start, now=now))

    def _set(self) -> conversation.Conversation:
        return _Setting(self._start)

    @property
    def _sets_until(self) -> int:
        spoken = [each.text for each in self._conversation.spoken]
        return spoken.index(_SETS) + 1 if _SETS in spoken else len(spoken) + 1

    @property
    def _boot_s(self) -> float:
        reboots = isinstance(self._conversation, OnvifTalk) and self._conversation.reboots
        return super()._boot_s or (_REBOOTS_S if reboots else 0.0)


ENTRY = field_way.field_entry(
    SetByOnvif,
    says=phrase("tells its ONVIF device service, has it restart where it asks for that, and follows it. Needs --at"),
    does="tell it by ONVIF, and follow it to {target}",
    why=phrase("its device service is told, and says itself what it has."),
    reads=ReadByOnvif,
)
