"""Packet sockets (packet(7)): every frame of one adapter that a filter lets through, with the kernel's time on it."""

import ctypes
import socket
from struct import pack

_ETH_P_ALL = 3
_SOL_PACKET = 263
_PACKET_ADD_MEMBERSHIP, _PACKET_AUXDATA, _PACKET_IGNORE_OUTGOING, _PACKET_MR_PROMISC = 1, 8, 23, 1
_SO_ATTACH_FILTER, _SO_RCVBUFFORCE, _SO_TIMESTAMPNS = 26, 33, 35
_RECEIVE_BUFFER = 8 << 20  # bytes: half a second of minimum frames at 100 Mb/s with the kernel's overhead for each


def open_packet_socket(name: str, index: int, program: bytes) -> socket.socket:
    """Return a packet socket on one adapter, filtered before its first frame."""
    wire = socket.socket(socket.AF_PACKET, socket.SOCK_RAW, 0)
    buffer = ctypes.create_string_buffer(program)
    wire.setsockopt(socket.SOL_SOCKET, _SO_ATTACH_FILTER, pack("HP", len(program) // 8, ctypes.addressof(buffer)))
    for option, value in ((_SO_RCVBUFFORCE, _RECEIVE_BUFFER), (_SO_TIMESTAMPNS, 1)):
        wire.setsockopt(socket.SOL_SOCKET, option, value)
    for option in (_PACKET_AUXDATA, _PACKET_IGNORE_OUTGOING):
        wire.setsockopt(_SOL_PACKET, option, 1)
    membership = pack("iHH8s", index, _PACKET_MR_PROMISC, 0, b"")
    wire.setsockopt(_SOL_PACKET, _PACKET_ADD_MEMBERSHIP, membership)
    wire.bind((name, _ETH_P_ALL))
    return wire
