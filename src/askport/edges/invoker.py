"""Becoming whoever called sudo, for good, and running their command without any rights (capabilities(7))."""

import contextlib
import os
import pwd

from askport.edges.kernel.capabilities import NET_RAW, control_process, keep_only

_PR_CAPBSET_DROP, _PR_SET_SECUREBITS = 24, 28
_NO_ROOT = 1 | 2  # SECBIT_NOROOT and its lock


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


def become_invoker_without_rights() -> None:
    """Be whoever called sudo, and have no capability from now on, nor get one as root by starting a program.

    What a program's file brings stays possible for raw sockets: ping is often made so, and would not start.

    Raises:
        OSError: the kernel would not take them away.
    """
    number = 0
    while number == NET_RAW or control_process(_PR_CAPBSET_DROP, number):
        number += 1  # until the kernel knows none of that number
    control_process(_PR_SET_SECUREBITS, _NO_ROOT)
    drop_to_invoker()
    keep_only(())
