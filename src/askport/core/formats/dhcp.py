"""BOOTP (RFC 951, 1542) and DHCP (RFC 2131, 2132) messages: one format, told apart by option 53."""

from enum import IntEnum
from ipaddress import IPv4Address
from struct import Struct, pack
from typing import NamedTuple

from askport.core.addresses import UNSPECIFIED, MacAddress, addresses_of, mac_of
from askport.core.formats.unreadable import Unreadable, made

SERVER_PORT = 67
CLIENT_PORT = 68
BROADCAST_FLAG = 0x8000
"""The client cannot yet take unicast answers (RFC 2131 section 4.1, RFC 1542 section 3.1.1)."""

_FIXED = 236
_HEADER = Struct("!BBBBIHH")
_COOKIE = bytes((99, 130, 83, 99))
_MIN_MESSAGE = 300
"""BOOTP messages are at least this long; old clients drop shorter ones (RFC 951 section 3, RFC 1542 section 2.1)."""
_PAD, _END, _OVERLOAD = 0, 255, 52


class BootpOp(IntEnum):
    """Direction of a message (RFC 951)."""

    BOOTREQUEST = 1
    BOOTREPLY = 2


_OPERATIONS = frozenset(map(int, BootpOp))


class MessageType(IntEnum):
    """DHCP message types (RFC 2132 section 9.6)."""

    DISCOVER = 1
    OFFER = 2
    REQUEST = 3
    DECLINE = 4
    ACK = 5
    NAK = 6
    RELEASE = 7
    INFORM = 8


class OptionCode(IntEnum):
    """Option codes that this program reads or writes (RFC 2132)."""

    SUBNET_MASK = 1
    ROUTER = 3
    DOMAIN_NAME_SERVER = 6
    HOST_NAME = 12
    REQUESTED_IP_ADDRESS = 50
    LEASE_TIME = 51
    OVERLOAD = _OVERLOAD
    MESSAGE_TYPE = 53
    SERVER_IDENTIFIER = 54
    PARAMETER_REQUEST_LIST = 55
    VENDOR_CLASS_IDENTIFIER = 60
    CLIENT_IDENTIFIER = 61
    CLIENT_FQDN = 81
    """RFC 4702; three bytes stand before the name."""


Options = tuple[tuple[int, bytes], ...]
"""Code and data in the order of the wire, duplicates kept; read long ones through ``Dhcp.option`` (RFC 3396)."""


class Dhcp(NamedTuple):
    """One BOOTP or DHCP message."""

    op: int
    xid: int
    chaddr: bytes
    """The client's hardware address field, all 16 bytes; only the first ``hlen`` count."""
    htype: int = 1
    hlen: int = 6
    hops: int = 0
    secs: int = 0
    flags: int = 0
    ciaddr: IPv4Address = UNSPECIFIED
    yiaddr: IPv4Address = UNSPECIFIED
    siaddr: IPv4Address = UNSPECIFIED
    giaddr: IPv4Address = UNSPECIFIED
    sname: bytes = bytes(64)
    file: bytes = bytes(128)
    options: Options = ()
    has_cookie: bool = True
    """False in a plain RFC 951 message, whose vendor area is nobody's business."""

    @property
    def client(self) -> MacAddress | None:
        """The client's MAC address, or None where the message is not about Ethernet."""
        return mac_of(self.chaddr[:6]) if self.htype == 1 and self.hlen == 6 else None

    @property
    def message_type(self) -> int | None:
        """The DHCP message type, or None in a BOOTP message."""
        data = self.option(OptionCode.MESSAGE_TYPE)
        return data[0] if data else None

    @property
    def wants_broadcast(self) -> bool:
        """Whether the client asks for broadcast answers."""
        return bool(self.flags & BROADCAST_FLAG)

    def option(self, code: int) -> bytes | None:
        """Return an option's data, its parts joined (RFC 3396), or None where it is absent."""
        joined = None
        for present, data in self.options:
            if present == code:
                joined = data if joined is None else joined + data
        return joined

    def addresses(self, code: int) -> tuple[IPv4Address, ...]:
        """Return the addresses in an option; a ragged end is left out."""
        data = self.option(code) or b""
        return addresses_of(data[: len(data) // 4 * 4])

    def address(self, code: int) -> IPv4Address | None:
        """Return the first address in an option, or None."""
        found = self.addresses(code)
        return found[0] if found else None


def _walk(area: bytes) -> list[tuple[int, bytes]]:
    """Return the options of one area; one that runs over the end is cut there, and the walk ends."""
    found = []
    at, last = 0, len(area) - 1
    while at <= last:
        code = area[at]
        if code == _END:
            break
        if code == _PAD:
            at += 1
            continue
        if at == last:
            break
        behind = at + 2 + area[at + 1]
        found.append((code, area[at + 2 : behind]))
        at = behind
    return found


def decode_dhcp(data: bytes) -> Dhcp | Unreadable:
    """Read a message, with options that overflow into ``file`` and ``sname`` (option 52, RFC 2131 section 4.1)."""
    if len(data) < _FIXED:
        return Unreadable("BOOTP", len(data), f"it has {len(data)} of at least {_FIXED} bytes")
    op, htype, hlen, hops, xid, secs, flags = _HEADER.unpack_from(data)
    if op not in _OPERATIONS:
        return Unreadable("BOOTP", 0, f"its operation is {op}")
    sname, file = data[44:108], data[108:236]
    has_cookie = data[236:240] == _COOKIE
    options = _walk(data[240:]) if has_cookie else []
    for code, value in options:
        if code == _OVERLOAD and value:
            options += _walk(file) if value[0] & 1 else ()
            options += _walk(sname) if value[0] & 2 else ()
            break
    ciaddr, yiaddr, siaddr, giaddr = addresses_of(data[12:28])
    return made(
        Dhcp,
        (
            op,
            xid,
            data[28:44],
            htype,
            hlen,
            hops,
            secs,
            flags,
            ciaddr,
            yiaddr,
            siaddr,
            giaddr,
            sname,
            file,
            tuple(options),
            has_cookie,
        ),
    )


def encode_dhcp(message: Dhcp) -> bytes:
    """Write a message, padded to the 300 bytes that old clients insist on; overflowed options are not made."""
    head = pack(
        "!BBBBIHH", message.op, message.htype, message.hlen, message.hops, message.xid, message.secs, message.flags
    )
    addresses = b"".join(each.packed for each in (message.ciaddr, message.yiaddr, message.siaddr, message.giaddr))
    fixed = head + addresses + message.chaddr.ljust(16, b"\0") + message.sname + message.file
    vendor = b""
    if message.has_cookie:
        vendor = (
            _COOKIE + b"".join(bytes((code, len(value))) + value for code, value in message.options) + bytes((_END,))
        )
    return (fixed + vendor).ljust(_MIN_MESSAGE, b"\0")
