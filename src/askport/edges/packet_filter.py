"""The kernel's packet filter: what the program wants to hear is let through, a flood of anything else is not.

Classic BPF (linux/filter.h). Bulk traffic (TCP data, unicast UDP between high ports) says nothing that its first
frames have not said, and would crowd the rest out.
"""

from struct import pack

from askport.core.protocols import PROTOCOLS

_ACCEPT, _REJECT = "accept", "reject"
_LDB, _LDH, _LDXB_IP_LENGTH = 0x30, 0x28, 0xB1
_LDH_X = 0x48
_LDB_X = 0x50
_JEQ, _JGE, _JSET = 0x15, 0x35, 0x45
_RET = 0x06
_WHOLE_FRAME = 0x40000

_PORTS = (1900, 3702, 5353, 5355, *(each.udp_port for each in PROTOCOLS.values() if each.udp_port))
"""UDP ports over 1023 at which devices are found: SSDP, WS-Discovery, mDNS, LLMNR, and those of field protocols.
Answers come from them, to wherever the question came from."""

_PROFINET = 0x8892
_ETHERTYPES = [each.ethertype for each in PROTOCOLS.values() if each.ethertype and each.ethertype != _PROFINET]

# Each line: label, operation, number, label if true, label if false; None goes on to the next line.
_Line = tuple[str | None, int, int, str | None, str | None]


def _known(accept_else: str) -> tuple[_Line, ...]:
    """Accept the port that was loaded if it is well known; of the last, ``accept_else`` says what comes next."""
    lines: list[_Line] = [(None, _JGE, 1024, None, _ACCEPT)]
    lines += [(None, _JEQ, port, _ACCEPT, None) for port in _PORTS[:-1]]
    return (*lines, (None, _JEQ, _PORTS[-1], _ACCEPT, accept_else))


_PROGRAM: tuple[_Line, ...] = (
    (None, _LDH, 12, None, None),  # EtherType
    (None, _JEQ, 0x0806, _ACCEPT, None),  # ARP
    (None, _JEQ, 0x0800, "ipv4", None),
    (None, _JEQ, 0x86DD, "ipv6", None),
    (None, _JEQ, 0x8100, _ACCEPT, None),  # 802.1Q tags that the kernel has left in place
    (None, _JEQ, 0x88A8, _ACCEPT, None),
    (None, _JEQ, 0x88CC, _ACCEPT, None),  # LLDP
    (None, _JEQ, 0x888E, _ACCEPT, None),  # 802.1X
    (None, _JEQ, _PROFINET, "profinet", None),
    *((None, _JEQ, each, _ACCEPT, None) for each in _ETHERTYPES),
    (None, _JGE, 0x0600, _REJECT, _ACCEPT),  # 802.3: spanning tree
    ("profinet", _LDH, 14, None, None),  # DCP, and no cyclic data
    (None, _JGE, 0xFEFC, _ACCEPT, _REJECT),
    ("ipv6", _LDB, 20, None, None),  # its next header
    (None, _JEQ, 58, _ACCEPT, None),  # ICMPv6
    (None, _JEQ, 0, _ACCEPT, None),  # hop-by-hop options, in front of listener reports
    (None, _JEQ, 6, "tcp6", None),
    (None, _JEQ, 17, None, _REJECT),
    (None, _LDB, 0, None, None),  # UDP: everything to a group
    (None, _JSET, 1, _ACCEPT, None),
    (None, _LDH, 54, None, None),  # and to or from a known port
    *_known("ipv6 to"),
    ("ipv6 to", _LDH, 56, None, None),
    *_known(_REJECT),
    ("ipv4", _LDB, 23, None, None),  # its protocol
    (None, _JEQ, 1, _ACCEPT, None),  # ICMP
    (None, _JEQ, 2, _ACCEPT, None),  # IGMP
    (None, _JEQ, 112, _ACCEPT, None),  # VRRP
    (None, _JEQ, 6, "tcp", None),
    (None, _JEQ, 17, None, _REJECT),
    (None, _LDB, 0, None, None),  # UDP, as above
    (None, _JSET, 1, _ACCEPT, None),
    (None, _LDXB_IP_LENGTH, 14, None, None),
    (None, _LDH_X, 14, None, None),
    *_known("ipv4 to"),
    ("ipv4 to", _LDH_X, 16, None, None),
    *_known(_REJECT),
    ("tcp", _LDXB_IP_LENGTH, 14, None, None),  # TCP: the segments that open, refuse and close
    (None, _LDB_X, 27, None, None),
    (None, _JSET, 0x07, _ACCEPT, _REJECT),
    ("tcp6", _LDB, 67, None, None),  # the same over IPv6
    (None, _JSET, 0x07, _ACCEPT, _REJECT),
    (_ACCEPT, _RET, _WHOLE_FRAME, None, None),
    (_REJECT, _RET, 0, None, None),
)


def assemble() -> bytes:
    """Return the filter as an array of ``struct sock_filter``."""
    places = {label: place for place, (label, *_) in enumerate(_PROGRAM) if label}

    def jump(place: int, label: str | None) -> int:
        return places[label] - place - 1 if label else 0

    return b"".join(
        pack("HBBI", code, jump(place, true), jump(place, false), number)
        for place, (_, code, number, true, false) in enumerate(_PROGRAM)
    )
