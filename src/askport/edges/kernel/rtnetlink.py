"""The kernel's own messages about addresses, routes and neighbours (rtnetlink(7)), read and sent as they are."""

import errno
import os
import socket
from struct import calcsize, pack, unpack_from
from typing import Self

NEWLINK, DELLINK, NEWADDR, DELADDR, NEWROUTE, DELROUTE, NEWNEIGH, DELNEIGH = 16, 17, 20, 21, 24, 25, 28, 29
GET = 2  # from the number of a NEW message to that of its GET
ADDRESS, ROUTE, NEIGHBOUR, LINK = "BBBBI", "BBBBBBBBI", "BxxxiHBB", "BxHiII"
_REQUEST, _ACK, _INTERRUPTED, _DUMP = 1, 4, 0x10, 0x300
REPLACE, ONLY_NEW, CREATE, APPEND = 0x100, 0x200, 0x400, 0x800
_ERROR, _DONE = 2, 3
_DUMPS = 50
"""How often what changes while it is told is asked for again: a cable that is plugged in changes it a few times."""
INET = socket.AF_INET


class Kernel:
    """One netlink socket."""

    def __init__(self) -> None:
        self._socket = socket.socket(socket.AF_NETLINK, socket.SOCK_RAW, 0)
        self._socket.settimeout(5.0)
        self._sequence = 0

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    def close(self) -> None:
        """Let go of it."""
        self._socket.close()

    def _exchange(self, kind: int, flags: int, payload: bytes) -> tuple[list[bytes], bool]:
        """Return what was answered, and whether it is whole: all of it from one moment."""
        self._sequence += 1
        head = pack("IHHII", 16 + len(payload), kind, flags | _REQUEST, self._sequence, 0)
        self._socket.send(head + payload)
        found: list[bytes] = []
        is_whole = True
        while True:
            data = self._socket.recv(1 << 18)
            while len(data) >= 16:
                size, answer, marks, sequence, _ = unpack_from("IHHII", data)
                body, data = data[16:size], data[size + -size % 4 :]
                if sequence != self._sequence:
                    continue
                is_whole &= not marks & _INTERRUPTED
                if answer == _ERROR:
                    code = -int(unpack_from("i", body)[0])
                    if code:
                        raise OSError(code, os.strerror(code))
                    return found, is_whole
                if answer == _DONE:
                    return found, is_whole
                found.append(body)

    def send(self, kind: int, payload: bytes, flags: int = 0) -> None:
        """Have one message carried out.

        Raises:
            OSError: the kernel would not.
        """
        self._exchange(kind, flags | _ACK, payload)

    def take_away(self, kind: int, payload: bytes, _flags: int = 0) -> None:
        """Have something taken away; what is gone already is well.

        Raises:
            OSError: the kernel would not.
        """
        try:
            self.send(kind, payload)
        except OSError as error:
            if error.errno not in GONE:
                raise

    def refusal(self, kind: int, payload: bytes) -> str | None:
        """Say why the kernel would not take a message that describes what it has already, or return None."""
        try:
            self.send(kind, payload, CREATE | APPEND)
        except OSError as error:
            return None if error.errno == errno.EEXIST else error.strerror
        self.take_away(kind + 1, payload)
        return "it would become another one"

    def dump(self, kind: int, request: bytes) -> list[bytes]:
        """Return all messages of a kind, each without its netlink header.

        The kernel tells them in several pieces and marks them where something changed in between (NLM_F_DUMP_INTR,
        linux/netlink.h): one may be missing then, or there twice, and all are asked for again.

        Raises:
            OSError: the kernel would not, or it changed all the time.
        """
        for _ in range(_DUMPS):
            found, is_whole = self._exchange(kind + GET, _DUMP, request)
            if is_whole:
                return found
        raise OSError(errno.EBUSY, "the network settings are being changed all the time")

    def ask(self, kind: int, request: bytes) -> list[bytes]:
        """Return what answers one question that is not for all of a kind.

        Raises:
            OSError: the kernel would not.
        """
        return self._exchange(kind + GET, _ACK, request)[0]


def attributes(message: bytes, layout: str) -> dict[int, bytes]:
    """Return the attributes of a message behind its fixed part."""
    found, at = {}, calcsize(layout)
    while at + 4 <= len(message):
        size, kind = unpack_from("HH", message, at)
        if size < 4:
            break
        found[kind & 0x3FFF] = message[at + 4 : at + size]
        at += size + -size % 4
    return found


def with_attributes(head: bytes, **named: bytes) -> bytes:
    """Return a message with attributes, each named ``_`` and its number."""
    parts = (pack("HH", 4 + len(data), int(name[1:])) + data + bytes(-len(data) % 4) for name, data in named.items())
    return head + b"".join(parts)


GONE = frozenset({errno.EADDRNOTAVAIL, errno.ENODEV, errno.ENXIO, errno.ENOENT, errno.ESRCH})
"""What the kernel says where there is nothing left to take away, or the adapter itself was pulled out."""
