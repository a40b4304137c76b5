"""What the commands share that read a device's own word on its settings."""

from dataclasses import replace
from ipaddress import IPv4Address, IPv4Interface

from askport.cli import passwords, ports
from askport.core.addresses import MacAddress
from askport.core.errors import BadInput
from askport.core.formats.ipv6 import link_local
from askport.core.kinds.model import Kind
from askport.core.phrases import phrase
from askport.core.plan.target import Target
from askport.core.ways import log_in, own_word_talk, snmp_talk, snmp_way
from askport.core.ways.start import Start


def named(mac: MacAddress, at: IPv4Address | None) -> Start:
    """Return a device that is only to be talked to, where it is said to be."""
    target = Target(interface=IPv4Interface(at or 0))
    return Start(mac=mac, target=target, laptop_mac=mac, laptop=None, old=at, now=0.0, xid=lambda: 0)


def reading_start(
    mac: MacAddress,
    at: IPv4Address | None,
    kind: Kind | None,
    by: str | None,
    *,
    port: str,
    user: str,
    password_from: str | None,
    must_read: bool = True,
    over_ipv6: bool = False,
) -> Start:
    """Return what a device's own word is read with, whole before anything is touched.

    Where it need not be read, a kind that does not say how is no mistake.

    Raises:
        BadInput: its kind does not say how it is read, or a log-in is missing.
    """
    ways = [by] if by else ["console", "page"]
    if by not in (None, "console", "page", *own_word_talk.READERS):
        raise BadInput(
            "'{by}' cannot read settings: choose console, page or {READERS}.",
            by=by,
            READERS=" or ".join(own_word_talk.READERS),
        )
    if by not in own_word_talk.READERS and kind is None:
        what = by or "console"
        raise BadInput("--by {what} needs its kind: give one with --kind ('askport kinds list' shows them).", what=what)
    if over_ipv6 and by in own_word_talk.READERS and by not in own_word_talk.OVER_IPV6:
        raise BadInput("--by {by} does not go over IPv6: leave --over-ipv6 out.", by=by)
    if by not in own_word_talk.BY_MAC and at is None and "/" not in port and not over_ipv6:
        raise BadInput("--by {by} talks to it where it is: name that with --at.", by=by)
    asks = (kind is not None and any(map(kind.asks_password, ways))) or bool(user) or by in own_word_talk.WITH_PASSWORD
    start = replace(
        named(mac, at), kind=kind, door=link_local(mac) if over_ipv6 else None,
        port=ports.tcp_port(port) if port and "/" not in port else None,
        line=port if "/" in port else "",
        log_in=log_in.LogIn(user, passwords.read_password(password_from, wanted=asks)),
    )  # fmt: skip
    if by == snmp_way.ReadBySnmp.name:
        snmp_talk.access_of(start)
    if must_read and kind and by not in own_word_talk.READERS and own_word_talk.reading(start, by) is None:
        what = by or phrase("console or page")
        raise BadInput(
            "The kind '{name}' does not say how its {what} is read: give that way read = [...].",
            name=kind.name,
            what=what,
        )
    return start
