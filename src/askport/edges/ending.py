"""Ends every keeper on this computer, and gives back what interrupted runs have left: before the program itself goes.

``python -I … askport.edges.ending``, as root: what a package's scripts call before it is upgraded or removed.
"""

import contextlib
import os
import signal
import sys
import time
from pathlib import Path

from askport.core import errors
from askport.core.phrases import listed, phrase
from askport.edges.restoring import give_back_all

_KEEPERS = (b"askport.edges.keeper", b"askport.edges.by_group")
_PATIENCE_S = 15.0
"""A network manager that takes its adapter back takes its time."""


def keepers() -> list[int]:
    """Return the processes that keep an adapter, of whatever installation; they are root's (proc(5))."""
    found = []
    for each in Path("/proc").glob("[0-9]*"):
        with contextlib.suppress(OSError):
            words = (each / "cmdline").read_bytes().split(b"\0")
            if any(word in _KEEPERS for word in words) and each.stat().st_uid == 0:
                found.append(int(each.name))
    return found


def end_all() -> list[int]:
    """Have every keeper give back and end; return those that did not."""
    ending = keepers()
    for each in ending:
        with contextlib.suppress(ProcessLookupError):
            os.kill(each, signal.SIGTERM)
    deadline = time.monotonic() + _PATIENCE_S
    while (left := sorted(set(ending) & set(keepers()))) and time.monotonic() < deadline:
        time.sleep(0.05)
    return left


def main() -> int:
    """End them, and say what was given back."""
    if left := end_all():
        sys.stderr.write(
            phrase("askport: these keepers did not end: {left}.\n", left=listed([str(each) for each in left]))
        )
    try:
        for name, restored in give_back_all().items():
            if restored.given:
                sys.stderr.write(
                    phrase("askport: gave {given} on {name} back.\n", given=listed(restored.given), name=name)
                )
    except errors.MachineRefused as error:
        sys.stderr.write(phrase("askport: {message}\n", message=error.message))
        return 1
    return 1 if left else 0


if __name__ == "__main__":
    sys.exit(main())
