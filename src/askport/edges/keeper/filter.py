"""The kernel's packet filter: what the program wants to hear is let through, a flood of anything else is not.

Classic BPF (linux/filter.h). Bulk traffic (TCP data, unicast UDP between high ports) says nothing that its first
frames have not said, and would crowd the rest out.
"""

import ctypes
import socket
from struct import pack

_ACCEPT, _REJECT = "accept", "reject"
_LDB, _LDH, _LDXB_IP_LENGTH = 0x30, 0x28, 0xB1
_LDH_X = 0x48
_LDB_X = 0x50
_JEQ, _JGE, _JSET = 0x15, 0x35, 0x45
_RET = 0x06
_WHOLE_FRAME = 0x40000
_SO_ATTACH_FILTER = 26

# Each line: label, operation, number, label if true, label if false; None goes on to the next line.
_PROGRAM: tuple[tuple[str | None, int, int, str | None, str | None], ...] = (
    (None, _LDH, 12, None, None),  # EtherType
    (None, _JEQ, 0x0806, _ACCEPT, None),  # ARP
    (None, _JEQ, 0x8100, _ACCEPT, None),  # 802.1Q tags that the kernel has left in place
    (None, _JEQ, 0x88A8, _ACCEPT, None),
    (None, _JEQ, 0x0800, None, _REJECT),  # IPv4
    (None, _LDB, 23, None, None),  # its protocol
    (None, _JEQ, 1, _ACCEPT, None),  # ICMP
    (None, _JEQ, 2, _ACCEPT, None),  # IGMP
    (None, _JEQ, 6, "tcp", None),
    (None, _JEQ, 17, None, _REJECT),
    (None, _LDB, 0, None, None),  # UDP: everything to a group
    (None, _JSET, 1, _ACCEPT, None),
    (None, _LDXB_IP_LENGTH, 14, None, None),  # and to or from a well-known port
    (None, _LDH_X, 14, None, None),
    (None, _JGE, 1024, None, _ACCEPT),
    (None, _LDH_X, 16, None, None),
    (None, _JGE, 1024, _REJECT, _ACCEPT),
    ("tcp", _LDXB_IP_LENGTH, 14, None, None),  # TCP: the segments that open, refuse and close
    (None, _LDB_X, 27, None, None),
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


def attach(packet_socket: socket.socket) -> None:
    """Attach the filter; the socket must not be bound yet, so that no frame comes before it."""
    program = assemble()
    buffer = ctypes.create_string_buffer(program)
    fprog = pack("HP", len(program) // 8, ctypes.addressof(buffer))
    packet_socket.setsockopt(socket.SOL_SOCKET, _SO_ATTACH_FILTER, fprog)
