"""Links and addresses that pass a door: those of the device lead to the door, and back to the device when they return.

What the browser is shown it may send back, in a form's field, say. So whatever is changed on the way to the browser is
changed back on the way to the device.
"""

import re
from collections.abc import Callable
from ipaddress import IPv4Address
from urllib.parse import quote

from askport.edges.door_guard import OWN

_AWAY = f"{OWN}away/"
_ADDRESS = rb"(\d{1,3}(?:\.\d{1,3}){3})(?![\w.])(:\d{1,5})?"


class Links:
    """Those of one door."""

    def __init__(self, url: str, host: str, *, secure: bool) -> None:
        """Begin with where the door is, and the device's host as it is written in links."""
        self.url, self.host, self.origin = url, host, f"http{'s' if secure else ''}://{host}"
        self.led_to = ""
        """The address that the device's page leads to last, where that is not its own."""

    def to_browser(self, text: bytes, *, leads: bool = False) -> bytes:
        """Have links to the device lead to the door; ``leads`` has those to other addresses lead to the door's page."""
        own = re.sub(rb"https?://" + re.escape(self.host.encode()) + rb"(?![\w.])(:\d+)?", self.url.encode(), text)
        own = re.sub(rb"https?:\\/\\/" + re.escape(self.host.encode()) + rb"(?![\w.])(:\d+)?",
                     self.url.replace("/", "\\/").encode(), own)  # fmt: skip
        return re.sub(rb"(https?)://" + _ADDRESS, self._away, own) if leads else own

    def _away(self, found: re.Match[bytes]) -> bytes:
        address = found[2].decode()
        if address.startswith("127.") or not _is_ipv4(address):
            return found[0]
        return f"{self.url}{_AWAY}{found[1].decode()}/{address}{(found[3] or b'').decode()}".encode()

    def to_device(self, text: bytes) -> bytes:
        """Have what was changed for the browser be as it was: plain, quoted as in a form, or as in JSON."""
        for write in _WRITTEN:
            url, away, origin = write(self.url), write(_AWAY), write(self.origin)
            back = re.compile(
                rb"%b%b(https?)%b([\d.]+(?::\d+|%%3[Aa]\d+)?)" % (_any(url), _any(away), _any(write("/")))
            )
            text = back.sub(lambda found, write=write: found[1] + write("://") + found[2], text)  # type: ignore[misc]
            text = re.sub(_any(url), lambda _, origin=origin: origin, text)  # type: ignore[misc]
        return text

    @staticmethod
    def is_away(text: str) -> bool:
        """Whether a link leads to the door's own page for other addresses."""
        return _AWAY in text

    @staticmethod
    def away_to(target: str) -> str:
        """Return the address that a page of the device leads to, or an empty text where it stays."""
        if not target.startswith(_AWAY):
            return ""
        return target.removeprefix(_AWAY).partition("/")[2].partition("/")[0].partition(":")[0]


def _quoted(text: str) -> bytes:
    return quote(text, safe="").encode()


_WRITTEN: tuple[Callable[[str], bytes], ...] = (str.encode, _quoted, lambda text: text.replace("/", "\\/").encode())


def _any(written: bytes) -> bytes:
    """Return an expression for a text whose quoted characters may be written in small letters too."""
    return re.sub(rb"%([0-9A-F]{2})", lambda found: b"%(?i:" + found[1] + b")", re.escape(written))


def _is_ipv4(text: str) -> bool:
    try:
        IPv4Address(text)
    except ValueError:
        return False
    return True
