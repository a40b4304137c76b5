"""Who may go through a door: programs of the same user, and of browsers the one that was handed its address.

A door stands on a loopback address of its own, so that cookies and origins of two doors are apart. A browser asks on
behalf of any page (RFC 6454, RFC 6265): a request is let in with the door's own Host, no other Origin, and a cookie
that only the door's one-time address sets.
"""

import os
import re
import secrets
import socket
import struct
from http.cookies import CookieError, SimpleCookie
from pathlib import Path

import h11

from askport.core.phrases import phrase
from askport.core.text import whole_number
from askport.edges.door_talk import Message

COOKIE = "askport-door"
OWN = "/.askport/"
"""Paths of the door's own; no device has them."""
_TCP = Path("/proc/net/tcp")


def own_address() -> str:
    """Return a loopback address that no other door is likely to have."""
    return f"127.{1 + secrets.randbelow(254)}.{secrets.randbelow(256)}.{1 + secrets.randbelow(254)}"


def is_of_same_user(peer: tuple[str, int]) -> bool:
    """Whether a connection from the loopback was made by this program's user, by the one who called sudo."""
    host = struct.unpack("=I", socket.inet_aton(peer[0]))[0]
    wanted = f"{host:08X}:{peer[1]:04X}"
    try:
        rows = [line.split() for line in _TCP.read_text().splitlines()[1:]]
    except OSError:
        return False
    # One whose program has let go of it is shown as root's, with no file behind it.
    users = {int(row[7]) for row in rows if row[1] == wanted and row[9] != "0"}
    sudo = whole_number(os.environ.get("SUDO_UID", ""), 0, 2**32 - 1)
    allowed = {0, os.getuid(), *([] if sudo is None else [sudo])}
    return bool(users) and users <= allowed


class Guard:
    """Lets in whoever has the cookie, and hands it out once for each address that was handed on."""

    def __init__(self) -> None:
        self._secret = secrets.token_urlsafe(24)
        self._unused: set[str] = set()
        self._handed: set[str] = set()

    def hand_out(self) -> str:
        """Return the path of one more address that lets one browser in once."""
        token = secrets.token_urlsafe(9)
        self._unused.add(token)
        self._handed.add(token)
        return f"{OWN}{token}"

    @property
    def has_unused(self) -> bool:
        """Whether an address that was handed out has let nobody in yet."""
        return bool(self._unused)

    def cookie(self) -> bytes:
        """Return the header's value that sets the cookie."""
        return phrase(
            "{cookie}={secret}; Path=/; HttpOnly; SameSite=Strict", cookie=COOKIE, secret=self._secret
        ).encode()

    def behind(self, request: Message, target: str) -> str | None:
        """Return the path behind a one-time address, or None where it is none, or was used."""
        token, _, rest = target.removeprefix(OWN).partition("/")
        token, mark, query = token.partition("?")
        if not target.startswith(OWN) or token not in self._handed:
            return None
        comes = isinstance(request.head, h11.Request) and request.head.method not in (b"HEAD", b"OPTIONS")
        if not (comes and token in self._unused) and not self.has_cookie(request):
            return None
        return f"/{rest}{mark}{query}"

    def use(self, target: str) -> None:
        """Have a one-time address let nobody in any more, once it has let one in."""
        self._unused.discard(re.split(r"[/?]", target.removeprefix(OWN))[0])

    def has_cookie(self, request: Message) -> bool:
        """Whether the browser was let in before."""
        try:
            held = SimpleCookie(request.header(b"cookie")).get(COOKIE)
        except CookieError:
            return False
        return held is not None and secrets.compare_digest(held.value.encode(), self._secret.encode())

    @staticmethod
    def without_cookie(value: bytes) -> bytes:
        """Return a Cookie header without the door's own, which the device never sees."""
        kept = [each.strip() for each in value.split(b";") if not each.strip().startswith(COOKIE.encode() + b"=")]
        return b"; ".join(kept)


def is_foreign(request: Message, host: str, *, enters: bool) -> str:
    """Say why a request is not from the door's own pages, or an empty text.

    Another port of the same address is the same site to a browser, which sends the cookie along (RFC 6265bis section
    5.2): only the door's one-time address is come to from elsewhere.
    """
    if request.header(b"host") != host:
        return phrase("it was asked for under another name")
    origin = request.header(b"origin")
    if origin and origin != f"http://{host}":
        return phrase("another page asked for it")
    comes_in = enters and request.header(b"sec-fetch-mode") == "navigate"
    if request.header(b"sec-fetch-site") in ("cross-site", "same-site") and not comes_in:
        return phrase("another page asked for it")
    return ""
