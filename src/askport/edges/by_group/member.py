"""Who is at the other end of the socket, and how much of it one user may have (unix(7))."""

import contextlib
import grp
import os
import pwd
import socket
from dataclasses import dataclass
from struct import unpack

from askport.edges.keeper.journal import DIRECTORY
from askport.edges.keeper.refusal import Refusal
from askport.edges.kernel import locks, namespaces

GROUP = "askport"
MOST_AT_ONCE = 16
"""Connections of one user: a full screen needs two, a crate on a switch one."""
_SO_PEERGROUPS, _MOST_GROUPS = 59, 1024  # bytes: 256 groups, which is what Python asks for at the most


@dataclass(frozen=True, slots=True)
class Member:
    """A process that asks."""

    uid: int
    name: str

    def have(self, adapter: str, index: int) -> None:
        """Have an adapter for this user alone, until this process and all others of this user have let go of it.

        Raises:
            Refusal: somebody else has it.
        """
        owner = locks.shared(DIRECTORY / f"{namespaces.number()}-{index}.user", str(self.uid))
        if owner != str(self.uid):
            raise Refusal(f"{adapter} is in use by {name_of(owner)}: have them end their Ask Port first.", "in-use")


def member_at(control: socket.socket) -> Member:
    """Return who connected, by what the kernel says of them at that moment.

    Raises:
        Refusal: they are not in the group, and not root.
    """
    _, uid, gid = unpack("iII", control.getsockopt(socket.SOL_SOCKET, socket.SO_PEERCRED, 12))
    groups = control.getsockopt(socket.SOL_SOCKET, _SO_PEERGROUPS, _MOST_GROUPS)
    name = name_of(str(uid))
    with contextlib.suppress(KeyError):
        if uid == 0 or grp.getgrnam(GROUP).gr_gid in (gid, *unpack(f"{len(groups) // 4}I", groups)):
            return Member(uid, name)
    raise Refusal(f"{name} is not in the group '{GROUP}': 'sudo usermod -aG {GROUP} {name}', and log in again.")


def name_of(uid: str) -> str:
    """Return what a user is called, or the number where it has no name."""
    with contextlib.suppress(KeyError, ValueError, OverflowError):
        return pwd.getpwuid(int(uid)).pw_name
    return f"user {uid or 'unknown'}"


def await_first(control: socket.socket, seconds: float) -> None:
    """Wait for the first message, without taking it.

    Raises:
        Refusal: none came in time.
    """
    control.settimeout(seconds)
    try:
        control.recv(1, socket.MSG_PEEK)
    except TimeoutError:
        raise Refusal("Nothing was asked for in time.") from None
    finally:
        control.settimeout(None)
    os.set_inheritable(control.fileno(), False)
