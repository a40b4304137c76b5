"""Gives up every right but those that the keeper needs (capabilities(7))."""

import ctypes
import os
from struct import pack

_CAP_NET_ADMIN, _CAP_NET_RAW = 12, 13
_CAP_SYS_ADMIN = 21  # what a network namespace is made and entered with (setns(2)); nothing else here uses it
_LINUX_CAPABILITY_VERSION_3 = 0x20080522
_PR_SET_NO_NEW_PRIVS = 38


def drop_all_but_network() -> None:
    """Keep the rights to change adapters, to open packet sockets and to make network namespaces; none to files."""
    libc = ctypes.CDLL(None, use_errno=True)
    kept = 1 << _CAP_NET_ADMIN | 1 << _CAP_NET_RAW | 1 << _CAP_SYS_ADMIN
    header = pack("Ii", _LINUX_CAPABILITY_VERSION_3, 0)
    # Two sets of effective, permitted and inheritable; the second is for capabilities from 32 on, of which none stays.
    data = pack("6I", kept, kept, 0, 0, 0, 0)
    if libc.capset(header, data) or libc.prctl(_PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0):
        raise OSError(ctypes.get_errno(), os.strerror(ctypes.get_errno()))
