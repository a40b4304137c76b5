"""Tries what the laptop's kernel can, in a namespace of its own that ends with it (``python -m askport.edges.trial``).

Nothing of the laptop is touched: the adapter that is tried on is made in that namespace. A word for each thing that
worked goes to standard output.
"""

import shutil
import socket
import subprocess
import sys
from ctypes import addressof, create_string_buffer
from struct import pack

from askport.edges.kernel import namespaces
from askport.edges.kernel.apart import Apart
from askport.edges.packet_filter import assemble

_SO_ATTACH_FILTER, _ETH_P_ALL = 26, 3
_MAC = bytes.fromhex("02000041534b")


def main() -> None:
    """Try one thing after the other."""
    namespaces.make()
    _works("namespace")
    program = assemble()
    with socket.socket(socket.AF_PACKET, socket.SOCK_RAW, socket.htons(_ETH_P_ALL)) as packets:
        held = create_string_buffer(program)
        packets.setsockopt(socket.SOL_SOCKET, _SO_ATTACH_FILTER, pack("HL", len(program) // 8, addressof(held)))
        _works("filter")
    if _runs("nft", "list", "ruleset"):
        _works("nft")
    if shutil.which("ip") is None:
        _works("no-ip")
    elif _runs("ip", "link", "add", "trial0", "type", "veth", "peer", "name", "trial1"):
        apart = Apart(socket.if_nametoindex("trial0"), _MAC, 1500)
        _works("macvlan")
        apart.close()


def _works(word: str) -> None:
    sys.stdout.write(f"{word}\n")
    sys.stdout.flush()


def _runs(program: str, *arguments: str) -> bool:
    path = shutil.which(program)
    if path is None:
        return False
    return subprocess.run([path, *arguments], capture_output=True, check=False).returncode == 0  # noqa: S603 - our words


if __name__ == "__main__":
    main()
