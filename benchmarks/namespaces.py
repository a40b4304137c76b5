"""A laptop and a device namespace joined by a virtual cable, for as long as a benchmark runs."""

import os
import subprocess
from collections.abc import Iterator
from contextlib import contextmanager

LAPTOP_MAC = "02:00:00:00:00:01"


def _ip(*arguments: str) -> None:
    subprocess.run(["ip", *arguments], check=True, capture_output=True)


@contextmanager
def cable() -> Iterator[tuple[str, str]]:
    """Give the names of the laptop's and the device's namespace; zl0 and zd0 are the ends of the cable."""
    names = f"askport-bl{os.getpid()}", f"askport-bd{os.getpid()}"
    try:
        for name in names:
            _ip("netns", "add", name)
        _ip("link", "add", "zl0", "netns", names[0], "type", "veth", "peer", "name", "zd0", "netns", names[1])
        for name, end in zip(names, ("zl0", "zd0"), strict=True):
            _ip("-n", name, "link", "set", end, "addrgenmode", "none")
        _ip("-n", names[0], "link", "set", "zl0", "address", LAPTOP_MAC, "up")
        _ip("-n", names[1], "link", "set", "zd0", "up")
        yield names
    finally:
        for name in names:
            subprocess.run(["ip", "netns", "del", name], capture_output=True)
