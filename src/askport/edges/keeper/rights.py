"""Gives up rights: all but what the keeper needs, or all, and root itself for whoever called sudo (capabilities(7))."""

import contextlib
import ctypes
import os
import pwd
from struct import pack

_CAP_NET_ADMIN, _CAP_NET_RAW = 12, 13
_CAP_SYS_ADMIN = 21  # what a network namespace is made and entered with (setns(2)); nothing else here uses it
_LINUX_CAPABILITY_VERSION_3 = 0x20080522
_PR_SET_NO_NEW_PRIVS, _PR_CAPBSET_DROP, _PR_SET_SECUREBITS = 38, 24, 28
_NO_ROOT = 1 | 2  # SECBIT_NOROOT and its lock
_LIBC = ctypes.CDLL(None, use_errno=True)


def _keep(*kept: int) -> None:
    """Keep these capabilities, all below 32, and no others."""
    bits = sum(1 << each for each in kept)
    # Two sets of effective, permitted and inheritable; the second is for capabilities from 32 on, of which none stays.
    if _LIBC.capset(pack("Ii", _LINUX_CAPABILITY_VERSION_3, 0), pack("6I", bits, bits, 0, 0, 0, 0)):
        raise OSError(ctypes.get_errno(), os.strerror(ctypes.get_errno()))


def drop_all_but_network() -> None:
    """Keep the rights to change adapters, to open packet sockets and to make network namespaces; none to files."""
    _keep(_CAP_NET_ADMIN, _CAP_NET_RAW, _CAP_SYS_ADMIN)
    if _LIBC.prctl(_PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0):
        raise OSError(ctypes.get_errno(), os.strerror(ctypes.get_errno()))


def become_invoker_without_rights() -> None:
    """Be whoever called sudo, and have no capability from now on, nor get one as root by starting a program.

    What a program's file brings stays possible for raw sockets: ping is often made so, and would not start.
    """
    number = 0
    while number == _CAP_NET_RAW or _LIBC.prctl(_PR_CAPBSET_DROP, number, 0, 0, 0) == 0:
        number += 1  # until the kernel knows none of that number
    _LIBC.prctl(_PR_SET_SECUREBITS, _NO_ROOT, 0, 0, 0)
    drop_to_invoker()
    _keep()


def drop_to_invoker() -> None:
    """Go on as the user who called sudo, for good; as plain root there is nobody to drop to."""
    if os.geteuid() != 0 or "SUDO_UID" not in os.environ:
        return
    user, group = int(os.environ["SUDO_UID"]), int(os.environ.get("SUDO_GID", os.environ["SUDO_UID"]))
    with contextlib.suppress(KeyError):
        os.environ["HOME"] = pwd.getpwuid(user).pw_dir
    try:
        os.initgroups(pwd.getpwuid(user).pw_name, group)  # those that may use serial ports, say
    except (KeyError, OSError):
        os.setgroups([])
    os.setresgid(group, group, group)
    os.setresuid(user, user, user)
