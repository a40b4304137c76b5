"""A stand-in that speaks ONVIF, with a clock that nobody has set."""

import re
from base64 import b64decode
from collections.abc import Mapping
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from ipaddress import IPv4Interface

from askport.bench import field_devices, stand_in
from askport.bench.pages import Answer, SoapTalk
from askport.core.addresses import MacAddress
from askport.core.formats import onvif
from askport.core.formats.discovery import PORT_WS_DISCOVERY, ws_discovery_match
from askport.core.formats.packet import ends_of, frame_between, read_packet
from askport.core.formats.udp import Udp


class PondCamera(field_devices.FieldDevice):
    """FL-03: its device service takes its settings over ONVIF, and uses them after a restart that it is told."""

    boot_s = 12.0
    _clock_off = timedelta(days=5 * 365)
    """Its clock was never set, and nobody is known by another clock than its own."""
    _token = "eth0"  # noqa: S105 - an interface's

    def __init__(self, mac: MacAddress, factory: stand_in.Settings, log_in: tuple[str, str]) -> None:
        super().__init__(mac, factory)
        self._log_in = log_in
        self._now = 0.0

    def started(self, now: float) -> list[bytes]:
        super().started(now)
        self.host.ports = (80,)
        return self.host.announce()

    def receive(self, data: bytes, now: float) -> list[bytes]:
        """Answer a probe for devices (WS-Discovery 1.1 section 5.3), as long as it could reach who asks."""
        self._now = now
        packet = read_packet(data)
        udp, ends, at = packet.get(Udp), ends_of(packet), self.host.interface
        asked = udp is not None and udp.dst_port == PORT_WS_DISCOVERY and b"Probe" in udp.payload
        if not (self.up and asked and udp and ends and at and ends.src in at.network):
            return super().receive(data, now)
        where = f"http://{at.ip}{onvif.PATH}".encode()
        answer = Udp(src_port=PORT_WS_DISCOVERY, dst_port=udp.src_port, payload=ws_discovery_match(where))
        return [frame_between(ends.back._replace(src_mac=self.mac, src=at.ip), answer)]

    def talk(self, port: int) -> stand_in.Talk | None:
        """Offer its device service."""
        return SoapTalk(self._serve) if port == 80 else None

    def tick(self, now: float) -> list[bytes]:
        """Restart where it was told to, or do what is due."""
        if self.up and self._restarts_at is not None and now >= self._restarts_at:
            self._restarts_at, self.up = None, False
            self.host.take(None, None)
            self._up_at = self.next_at = now + self.boot_s
            return []
        return super().tick(now)

    _restarts_at: float | None = None

    def _serve(self, method: str, path: str, fields: Mapping[str, str]) -> Answer | None:
        if path != onvif.PATH or method != "POST":
            return Answer(404, "")
        try:
            body = onvif.read_answer(fields.get("soap", ""))
        except onvif.NotOnvif:
            return Answer(400, "")
        action = next((each for each in _ACTIONS if body.first(each)), "")
        if action != "GetSystemDateAndTime" and not self._knows(fields["soap"]):
            fault = "<s:Fault><s:Code><s:Value>s:Sender</s:Value><s:Subcode><s:Value>ter:NotAuthorized</s:Value>"
            return Answer(400, onvif.envelope(f"{fault}</s:Subcode></s:Code></s:Fault>"))
        return Answer(200, onvif.envelope(f"<tds:{action}Response>{self._told(action, body)}</tds:{action}Response>"))

    @property
    def _clock(self) -> datetime:
        return datetime(2026, 3, 4, tzinfo=UTC) + timedelta(seconds=self._now) - self._clock_off

    def _knows(self, text: str) -> bool:
        found = re.search("<u:Created>(.*?)</u:Created>", text), re.search("<w:Nonce[^>]*>(.*?)</w:Nonce>", text)
        if not all(found):
            return False
        created, nonce = (each[1] for each in found if each)
        moment = datetime.strptime(created, "%Y-%m-%dT%H:%M:%SZ").replace(tzinfo=UTC)
        made = onvif.username_token(*self._log_in, b64decode(nonce), moment)
        return made in text and abs((moment - self._clock).total_seconds()) < 30

    def _told(self, action: str, body: onvif.Element) -> str:
        at = self.host.interface or IPv4Interface(0)
        match action:
            case "GetSystemDateAndTime":
                now = self._clock
                date = _parts(Year=now.year, Month=now.month, Day=now.day)
                time = _parts(Hour=now.hour, Minute=now.minute, Second=now.second)
                return f"<tds:SystemDateAndTime><tt:UTCDateTime>{time}{date}</tt:UTCDateTime></tds:SystemDateAndTime>"
            case "GetNetworkInterfaces":
                manual = f"<tt:Manual>{_parts(Address=at.ip, PrefixLength=at.network.prefixlen)}</tt:Manual>"
                config = f"<tt:IPv4><tt:Config>{manual}{_parts(DHCP='false')}</tt:Config></tt:IPv4>"
                about = f"<tt:Info>{_parts(HwAddress=self.mac)}</tt:Info>{config}"
                return f'<tds:NetworkInterfaces token="{self._token}">{about}</tds:NetworkInterfaces>'
            case "GetNetworkDefaultGateway":
                address = _parts(IPv4Address=self.host.gateway) if self.host.gateway else ""
                return f"<tds:NetworkGateway>{address}</tds:NetworkGateway>"
            case "GetDNS":
                manual = "".join(f"<tt:DNSManual>{_parts(IPv4Address=each)}</tt:DNSManual>" for each in self.saved.dns)
                return f"<tds:DNSInformation>{manual}</tds:DNSInformation>"
            case "GetHostname":
                return f"<tds:HostnameInformation>{_parts(Name='pond-camera')}</tds:HostnameInformation>"
            case "SetNetworkDefaultGateway":
                self.saved = replace(self.saved, gateway=next(iter(body.addresses("IPv4Address")), None))
            case "SetDNS":
                self.saved = replace(self.saved, dns=tuple(body.addresses("IPv4Address")))
            case "SetNetworkInterfaces":
                interface = IPv4Interface(f"{body.said('Address')}/{body.said('PrefixLength')}")
                self.saved = replace(self.saved, interface=interface)
                return "<tds:RebootNeeded>true</tds:RebootNeeded>"
            case "SystemReboot":
                self._restarts_at = self.next_at = self._now + 0.5
                return "<tds:Message>Restarting</tds:Message>"
        return ""


_ACTIONS = (
    "GetSystemDateAndTime", "GetNetworkInterfaces", "GetNetworkDefaultGateway", "GetDNS", "GetHostname",
    "SetNetworkDefaultGateway", "SetDNS", "SetNetworkInterfaces", "SystemReboot",
)  # fmt: skip


def _parts(**said: object) -> str:
    return "".join(f"<tt:{name}>{value}</tt:{name}>" for name, value in said.items())
