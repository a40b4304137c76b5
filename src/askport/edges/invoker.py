"""Becoming whoever called sudo, for good, and running their command without any rights (capabilities(7))."""

import contextlib
import os
import pwd
import sys
from pathlib import Path

from askport.edges.kernel.capabilities import NET_RAW, control_process, keep_only

_PR_CAPBSET_DROP, _PR_SET_SECUREBITS = 24, 28
_NO_ROOT = 1 | 2  # SECBIT_NOROOT and its lock


def _keep_in_reach(user: int, group: int) -> None:
    """Keep loadable what is not loaded yet, where a user cannot enter the folders that it lies in.

    Only the way to such a folder is barred: one that is open already is entered by its descriptor (proc(5)).
    """
    os.setegid(group)
    os.seteuid(user)
    barred = [each for each in sys.path if each and not os.access(each, os.R_OK | os.X_OK, effective_ids=True)]
    os.seteuid(0)
    os.setegid(0)
    opened = {each: f"/proc/self/fd/{os.open(each, os.O_PATH)}" for each in barred if Path(each).is_dir()}

    def through(path: str) -> str:
        old = max((each for each in opened if f"{path}/".startswith(f"{each}/")), key=len, default="")
        return opened[old] + path.removeprefix(old) if old else path

    sys.path[:] = map(through, sys.path)
    for module in list(sys.modules.values()):
        if isinstance(getattr(module, "__path__", None), list):
            module.__path__[:] = map(through, module.__path__)
        if isinstance(getattr(module, "__file__", None), str):
            module.__file__ = through(module.__file__ or "")


def drop_to_invoker() -> None:
    """Go on as the user who called sudo, for good; as plain root there is nobody to drop to."""
    if os.geteuid() != 0 or "SUDO_UID" not in os.environ:
        return
    user, group = int(os.environ["SUDO_UID"]), int(os.environ.get("SUDO_GID", os.environ["SUDO_UID"]))
    _keep_in_reach(user, group)
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
