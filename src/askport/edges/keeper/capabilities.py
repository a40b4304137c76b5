"""Drops every privilege but the two that the keeper needs (capabilities(7))."""

import ctypes
import os
from struct import pack

_CAP_NET_ADMIN, _CAP_NET_RAW = 12, 13
_LINUX_CAPABILITY_VERSION_3 = 0x20080522
_PR_SET_NO_NEW_PRIVS = 38


def drop_all_but_network() -> None:
    """Keep the rights to change adapters and open packet sockets, and none to files, processes or anything else."""
    libc = ctypes.CDLL(None, use_errno=True)
    kept = 1 << _CAP_NET_ADMIN | 1 << _CAP_NET_RAW
    header = pack("Ii", _LINUX_CAPABILITY_VERSION_3, 0)
    # Two sets of effective, permitted and inheritable; the second is for capabilities from 32 on, of which none stays.
    data = pack("6I", kept, kept, 0, 0, 0, 0)
    if libc.capset(header, data) or libc.prctl(_PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0):
        raise OSError(ctypes.get_errno(), os.strerror(ctypes.get_errno()))
