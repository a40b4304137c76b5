"""Giving rights up for good (capabilities(7), capset(2))."""

import ctypes
import os
from collections.abc import Collection
from pathlib import Path
from struct import pack

NET_ADMIN, NET_RAW, SYS_ADMIN = 12, 13, 21
_PR_SET_NO_NEW_PRIVS = 38
_VERSION_3 = 0x20080522
_LIBC = ctypes.CDLL(None, use_errno=True)


def keep_only(kept: Collection[int]) -> None:
    """Give up every capability but these, all of which have numbers below 32; what is not there is not got.

    Raises:
        OSError: the kernel would not.
    """
    low = sum(1 << each for each in kept)
    # Two sets of effective, permitted and inheritable; the second is for capabilities from 32 on, of which none stays.
    if _LIBC.capset(pack("Ii", _VERSION_3, 0), pack("6I", low, low, 0, 0, 0, 0)):
        raise OSError(ctypes.get_errno(), os.strerror(ctypes.get_errno()))


def effective() -> int:
    """Return this process's effective capabilities, a bit each (proc_pid_status(5)); all where that is not told."""
    try:
        lines = Path("/proc/self/status").read_text().splitlines()
    except OSError:
        return -1
    return next((int(line.split()[1], 16) for line in lines if line.startswith("CapEff:")), -1)


def get_no_more() -> None:
    """Get no right back, by whatever program is started.

    Raises:
        OSError: the kernel would not.
    """
    if not control_process(_PR_SET_NO_NEW_PRIVS, 1):
        raise OSError(ctypes.get_errno(), os.strerror(ctypes.get_errno()))


def control_process(option: int, argument: int) -> bool:
    """Set one thing of this process (prctl(2)); return whether the kernel did."""
    return bool(_LIBC.prctl(option, argument, 0, 0, 0) == 0)
