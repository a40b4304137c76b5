"""Network namespaces, made and entered (network_namespaces(7), unshare(2), setns(2))."""

import ctypes
import os
from pathlib import Path

_CLONE_NEWNET = 0x40000000
_LIBC = ctypes.CDLL(None, use_errno=True)


def _checked(result: int) -> None:
    if result:
        raise OSError(ctypes.get_errno(), os.strerror(ctypes.get_errno()))


def own() -> int:
    """Return a descriptor of the namespace that this thread is in."""
    return os.open("/proc/thread-self/ns/net", os.O_RDONLY | os.O_CLOEXEC)


def number() -> int:
    """Return the number by which the kernel knows the namespace that this process is in."""
    return Path("/proc/self/ns/net").stat().st_ino


def make() -> None:
    """Be in a new one, which has nothing but a loopback.

    Raises:
        OSError: the kernel would not.
    """
    _checked(_LIBC.unshare(_CLONE_NEWNET))


def enter(descriptor: int) -> None:
    """Be in the one with this descriptor.

    Raises:
        OSError: the kernel would not.
    """
    _checked(_LIBC.setns(descriptor, _CLONE_NEWNET))
