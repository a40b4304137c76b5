"""What the commands share that read a device's own word on its settings."""

from ipaddress import IPv4Address, IPv4Interface

from askport.cli.passwords import read_password
from askport.cli.ports import tcp_port
from askport.core.addresses import MacAddress
from askport.core.errors import BadInput
from askport.core.kinds.model import Kind
from askport.core.plan.target import Target
from askport.core.ways.log_in import LogIn
from askport.core.ways.reading import reading
from askport.core.ways.start import Start


def reading_start(
    mac: MacAddress, at: IPv4Address, kind: Kind, by: str | None, *, port: str, user: str, password_from: str | None
) -> Start:
    """Return what a device's own word is read with, whole before anything is touched.

    Raises:
        BadInput: its kind does not say how it is read, or a log-in is missing.
    """
    ways = [by] if by else ["console", "page"]
    start = Start(
        mac=mac, target=Target(interface=IPv4Interface(at)), laptop_mac=mac, laptop=None, old=at, now=0.0,
        xid=lambda: 0, kind=kind, port=tcp_port(port) if port and "/" not in port else None,
        line=port if "/" in port else "",
        log_in=LogIn(user, read_password(password_from, wanted=any(kind.asks_password(each) for each in ways))),
    )  # fmt: skip
    if by not in (None, "console", "page"):
        raise BadInput(f"'{by}' reads nothing back: choose console or page.")
    if reading(start, by) is None:
        what = by or "console or page"
        raise BadInput(f"The kind '{kind.name}' does not say how its {what} is read: give that way read = [...].")
    return start
