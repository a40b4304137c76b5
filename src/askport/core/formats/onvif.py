"""ONVIF device service: SOAP messages as texts (ONVIF Core Specification sections 5 and 8.2, WS-Security 1.0)."""

import re
from base64 import b64encode
from collections.abc import Iterable
from datetime import UTC, datetime, timedelta
from hashlib import sha1
from ipaddress import AddressValueError, IPv4Address, IPv4Interface
from xml.etree import ElementTree
from xml.sax.saxutils import escape

from askport.core.text import display_text

PATH = "/onvif/device_service"
CONTENT_TYPE = "application/soap+xml; charset=utf-8"
_DEVICE, _SCHEMA = "http://www.onvif.org/ver10/device/wsdl", "http://www.onvif.org/ver10/schema"
_SOAP = "http://www.w3.org/2003/05/soap-envelope"
_SECURITY = "http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-wssecurity-secext-1.0.xsd"
_UTILITY = "http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-wssecurity-utility-1.0.xsd"
_TOKEN = "http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-username-token-profile-1.0"  # noqa: S105 - a name
_ENCODING = "http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-soap-message-security-1.0"
_LONGEST = 200_000
NOT_AUTHORIZED = "NotAuthorized"
FAULTS = {
    NOT_AUTHORIZED: "it did not take the log-in, which was given once only, because some lock after three",
    "InvalidNetworkInterface": "it does not know the interface",
    "InvalidIPv4Address": "it takes no such address",
    "InvalidGatewayAddress": "it takes no such gateway",
    "InvalidMtuValue": "it takes no such packet length",
    "InvalidInterfaceSpeed": "it takes no such speed",
    "InvalidArgVal": "it takes no such value",
    "InvalidArgs": "it does not understand the values",
    "OperationProhibited": "it does not permit that to this user",
    "ActionNotSupported": "it does not offer that",
    "Action": "it failed to do it",
    "UnknownAction": "it does not know the request",
    "InvalidDateTime": "it takes no such time",
    "WellFormed": "it says that the message is no XML",
    "TagMismatch": "it says that the message is no XML",
    "OutofMemory": "it has no room for the request now",
    "CriticalError": "it has failed, and may need a power cycle",
}
"""What a fault's innermost subcode means (ONVIF Core section 5.11.2 and 8.2), as the end of a sentence."""


class NotOnvif(ValueError):
    """A text that is no answer of a device service."""


class Element:
    """A part of an answer, whose parts are found by their names alone."""

    def __init__(self, part: ElementTree.Element) -> None:
        self._part = part

    @property
    def name(self) -> str:
        """Without its namespace."""
        return self._part.tag.rpartition("}")[2]

    @property
    def text(self) -> str:
        """Cleaned, and cut."""
        return display_text((self._part.text or "").strip(), 200)

    def get(self, attribute: str) -> str:
        """Return an attribute."""
        return display_text(self._part.get(attribute) or "", 100)

    def all(self, name: str) -> "list[Element]":
        """Return all parts of that name, at any depth."""
        return [each for each in map(Element, self._part.iter()) if each.name == name]

    def first(self, *names: str) -> "Element | None":
        """Return the first part along a path of names, or None."""
        part: Element | None = self
        for name in names:
            part = next(iter(part.all(name)), None) if part else None
        return part

    def said(self, *names: str) -> str:
        """Return the text of the first part along a path, or nothing."""
        part = self.first(*names)
        return part.text if part else ""

    def addresses(self, *names: str) -> list[IPv4Address]:
        """Return the IPv4 addresses that stand in parts of the last name."""
        part = self.first(*names[:-1]) if names[:-1] else self
        found = []
        for each in part.all(names[-1]) if part else ():
            try:
                found.append(IPv4Address(each.text))
            except AddressValueError:
                continue
        return found


def read_answer(text: str) -> Element:
    """Read an answer's body.

    Raises:
        NotOnvif: it is no SOAP message, too long, or has a document type, which hostile text could abuse.
    """
    if len(text) > _LONGEST or re.search(r"<!(DOCTYPE|ENTITY)", text, re.IGNORECASE):
        raise NotOnvif
    try:
        whole = Element(ElementTree.fromstring(text))  # noqa: S314 - without a document type there are no entities
    except ElementTree.ParseError:
        raise NotOnvif from None
    body = whole.first("Body")
    if whole.name != "Envelope" or body is None:
        raise NotOnvif
    return body


def fault_of(body: Element) -> str | None:
    """Return the innermost code of a fault, or None where it is none."""
    fault = body.first("Fault")
    if fault is None:
        return None
    codes = [each.text.rpartition(":")[2] for each in fault.all("Value")]
    return next((each for each in reversed(codes) if each in FAULTS), codes[-1] if codes else "Action")


def envelope(body: str, security: str = "") -> str:
    """Return a message."""
    return (
        f'<?xml version="1.0" encoding="UTF-8"?><s:Envelope xmlns:s="{_SOAP}" xmlns:tds="{_DEVICE}" '
        f'xmlns:tt="{_SCHEMA}"><s:Header>{security}</s:Header><s:Body>{body}</s:Body></s:Envelope>'
    )


def username_token(user: str, password: str, nonce: bytes, created: datetime) -> str:
    """Return the header that a device knows a user by (WS-Security UsernameToken Profile 1.0 section 3.1).

    Args:
        password: goes into a digest only.
        created: by the device's own clock, or it takes the message for an old one.
    """
    at = created.astimezone(UTC).strftime("%Y-%m-%dT%H:%M:%SZ")
    digest = b64encode(sha1(nonce + at.encode() + password.encode()).digest()).decode()  # noqa: S324 - the standard's
    return (
        f'<w:Security s:mustUnderstand="1" xmlns:w="{_SECURITY}" xmlns:u="{_UTILITY}"><w:UsernameToken>'
        f"<w:Username>{escape(user)}</w:Username>"
        f'<w:Password Type="{_TOKEN}#PasswordDigest">{digest}</w:Password>'
        f'<w:Nonce EncodingType="{_ENCODING}#Base64Binary">{b64encode(nonce).decode()}</w:Nonce>'
        f"<u:Created>{at}</u:Created></w:UsernameToken></w:Security>"
    )


def clock_of(body: Element) -> datetime | None:
    """Return what the device's clock says in GetSystemDateAndTimeResponse, or None where it says nothing sound."""
    moment = body.first("UTCDateTime")
    names = ("Year", "Month", "Day", "Hour", "Minute", "Second")
    try:
        numbers = [int(moment.said(name)) for name in names] if moment else []
        return datetime(*numbers[:5], tzinfo=UTC) + timedelta(seconds=numbers[5]) if numbers else None  # type: ignore[misc, arg-type]
    except (ValueError, OverflowError):
        return None


def ask(action: str) -> str:
    """Return a request without values."""
    return f"<tds:{action}/>"


def set_gateway(gateway: IPv4Address) -> str:
    """Return SetNetworkDefaultGateway (section 8.2.13)."""
    return f"<tds:SetNetworkDefaultGateway><tds:IPv4Address>{gateway}</tds:IPv4Address></tds:SetNetworkDefaultGateway>"


def set_dns(servers: Iterable[IPv4Address]) -> str:
    """Return SetDNS (section 8.2.6)."""
    manual = "".join(
        f"<tds:DNSManual><tt:Type>IPv4</tt:Type><tt:IPv4Address>{each}</tt:IPv4Address></tds:DNSManual>"
        for each in servers
    )
    return f"<tds:SetDNS><tds:FromDHCP>false</tds:FromDHCP>{manual}</tds:SetDNS>"


def set_interface(token: str, interface: IPv4Interface) -> str:
    """Return SetNetworkInterfaces with a fixed address (section 8.2.10)."""
    return (
        f"<tds:SetNetworkInterfaces><tds:InterfaceToken>{escape(token)}</tds:InterfaceToken><tds:NetworkInterface>"
        "<tt:Enabled>true</tt:Enabled><tt:IPv4><tt:Enabled>true</tt:Enabled>"
        f"<tt:Manual><tt:Address>{interface.ip}</tt:Address>"
        f"<tt:PrefixLength>{interface.network.prefixlen}</tt:PrefixLength></tt:Manual><tt:DHCP>false</tt:DHCP></tt:IPv4>"
        "</tds:NetworkInterface></tds:SetNetworkInterfaces>"
    )
