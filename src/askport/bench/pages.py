"""The pages of stand-ins: HTTP/1.1 over the bench's TCP, with one form that sets the device."""

import secrets
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from html import escape
from ipaddress import AddressValueError, IPv4Address, IPv4Interface, NetmaskValueError
from urllib.parse import parse_qsl

import h11

from askport.bench.stand_in import Settings

SETS_AT = "/net"


@dataclass(frozen=True, slots=True)
class Answer:
    """What a page answers."""

    status: int
    body: str


Serve = Callable[[str, str, Mapping[str, str]], Answer | None]
"""Takes method, path and fields; returns the answer, or None where the connection is lost with it."""


class WebTalk:
    """One connection to a page: one request, one answer."""

    over = False

    def __init__(self, serve: Serve) -> None:
        self._serve = serve
        self._http = h11.Connection(h11.SERVER)
        self._request: h11.Request | None = None
        self._body = b""

    def greets(self) -> bytes:
        """Return nothing: the browser speaks first."""
        return b""

    def receives(self, data: bytes, now: float) -> bytes:
        """Take a part of the request; answer it once it is whole."""
        self._http.receive_data(data)
        try:
            while (event := self._http.next_event()) not in (h11.NEED_DATA, h11.PAUSED):
                if isinstance(event, h11.Request):
                    self._request = event
                elif isinstance(event, h11.Data):
                    self._body += event.data
                elif isinstance(event, h11.EndOfMessage) and self._request:
                    return self._answer(self._request)
        except h11.RemoteProtocolError:
            self.over = True
        return b""

    def _fields(self) -> dict[str, str]:
        return dict(parse_qsl(self._body.decode("utf-8", "replace"), keep_blank_values=True))

    def _answer(self, request: h11.Request) -> bytes:
        self.over = True
        answer = self._serve(request.method.decode(), request.target.decode().split("?")[0], self._fields())
        if answer is None:
            return b""
        body = answer.body.encode()
        head = [
            ("Content-Type", "text/html; charset=utf-8"),
            ("Content-Length", str(len(body))),
            ("Connection", "close"),
        ]
        said = self._http.send(h11.Response(status_code=answer.status, headers=head))
        parts = (said, self._http.send(h11.Data(body)), self._http.send(h11.EndOfMessage()))
        return b"".join(each or b"" for each in parts)


class SoapTalk(WebTalk):
    """The same for a service whose requests are one text each."""

    def _fields(self) -> dict[str, str]:
        return {"soap": self._body.decode("utf-8", "replace")}


def exchange(talk: WebTalk, method: str, target: str, host: str, body: bytes, kind: str, now: float) -> Answer | None:
    """Send one request on a fresh connection to a page; return its answer, or None where none came."""
    http = h11.Connection(h11.CLIENT)
    head = [("Host", host), ("Connection", "close"), ("Content-Type", kind), ("Content-Length", str(len(body)))]
    sent = [http.send(each) for each in (h11.Request(method=method, target=target, headers=head), h11.Data(body))]
    sent.append(http.send(h11.EndOfMessage()))
    http.receive_data(talk.receives(b"".join(each or b"" for each in sent), now))
    http.receive_data(b"")
    status, text = 0, b""
    try:
        while not isinstance(event := http.next_event(), h11.EndOfMessage | h11.ConnectionClosed):
            if isinstance(event, h11.Response):
                status = event.status_code
            elif isinstance(event, h11.Data):
                text += event.data
    except h11.RemoteProtocolError:
        return None
    return Answer(status, text.decode("utf-8", "replace")) if status else None


class SettingsPage:
    """A page with a title and a form for the address; what saving does is the device's."""

    def __init__(self, title: str, *, by_octets: bool = False) -> None:
        """Make it; with ``by_octets`` its form has four fields for each address."""
        self.title, self._by_octets = title, by_octets
        self._token = secrets.token_hex(4)

    def serve(
        self,
        method: str,
        path: str,
        fields: Mapping[str, str],
        shown: Settings,
        save: Callable[[Settings], Answer | None],
    ) -> Answer | None:
        """Answer one request; ``save`` answers where the form is sound."""
        match method, path:
            case "GET", "/":
                return self._page(f'<p><a href="{SETS_AT}">Network</a></p>')
            case "GET", "/net":
                return self._page(self._form(shown))
            case "POST", "/net" if fields.get("token") != self._token:
                return Answer(403, "This form is too old: open it again.")
            case "POST", "/net":
                settings = self._read(fields)
                return save(settings) if isinstance(settings, Settings) else Answer(400, escape(settings))
        return Answer(404, "There is nothing here.")

    def _page(self, body: str) -> Answer:
        return Answer(200, f"<html><head><title>{escape(self.title)}</title></head><body>{body}</body></html>")

    def _form(self, shown: Settings) -> str:
        interface = shown.interface or IPv4Interface("0.0.0.0/0")
        none = IPv4Address(0)
        dns = (*shown.dns, none, none)[:2]
        values = {"ip": interface.ip, "mask": interface.netmask, "gw": shown.gateway or none}
        values |= {f"dns{place}": each for place, each in enumerate(dns, 1)}
        rows = [
            f'<input name="{name}{place}" value="{octet}" size="3">'
            for name, value in values.items()
            for place, octet in self._parts(value)
        ]
        dns_words = ", ".join(str(each) for each in shown.dns) or "none"
        uses = f"Address {interface.ip}, mask {interface.netmask}, gateway {values['gw']}, DNS {dns_words}."
        hidden = f'<input type="hidden" name="token" value="{self._token}">'
        form = f'<form method="post" action="{SETS_AT}">{"".join(rows)}{hidden}<button>Save</button></form>'
        return f"<p>{uses}</p>{form}"

    def _parts(self, value: IPv4Address) -> list[tuple[str, str]]:
        if not self._by_octets:
            return [("", str(value))]
        return [(f"_{place}", str(octet)) for place, octet in enumerate(value.packed, 1)]

    def _read(self, fields: Mapping[str, str]) -> Settings | str:
        def value(name: str) -> str:
            if not self._by_octets:
                return fields.get(name, "0.0.0.0")
            return ".".join(fields.get(f"{name}_{place}", "0") for place in range(1, 5))

        try:
            interface = IPv4Interface(f"{value('ip')}/{value('mask')}")
            gateway, *dns = (IPv4Address(value(name)) for name in ("gw", "dns1", "dns2"))
        except (AddressValueError, NetmaskValueError, ValueError):
            return "One of these is no address."
        return Settings(interface, gateway if int(gateway) else None, tuple(each for each in dns if int(each)))
