"""How a keeper is had: started by root, or through the socket that a package brings for the group (unix(7))."""

import getpass
import os
import socket
import stat
import subprocess
from pathlib import Path

from askport.core.errors import MachineRefused
from askport.core.phrases import listed, phrase, together
from askport.edges.by_group.member import GROUP
from askport.edges.kernel.capabilities import NET_ADMIN, NET_RAW, effective
from askport.edges.own_process import command_for

SOCKET = Path("/run/askport-keeper.socket")
_SUDO = "No permission to use an adapter: start Ask Port with sudo."
SWITCH_ON = "sudo systemctl restart askport-keeper.socket"
_OFF = phrase(
    "The service that hands out adapters is switched off: '{switch_on}', or start Ask Port with sudo.",
    switch_on=SWITCH_ON,
)
_NEEDED = {"CAP_NET_ADMIN": NET_ADMIN, "CAP_NET_RAW": NET_RAW}
GIVE = "Start the container with both, or the program outside of it."
_UNIT = Path("/usr/lib/systemd/system/askport-keeper.socket")


def socket_path() -> Path:
    """Return where the group's keepers are asked for."""
    return Path(os.environ.get("ASKPORT_KEEPER", SOCKET))


def no_rights() -> str | None:
    """Say why no keeper can be had, and what to do; None where one can be, as root or as a member of the group."""
    if os.geteuid() == 0:
        lacks = phrase("Root may not use adapters here: it lacks {rights}.", rights=listed(lacking()))
        return together(lacks, GIVE) if lacking() else None
    path = socket_path()
    try:
        is_socket = stat.S_ISSOCK(path.stat().st_mode)
    except OSError:
        is_socket = False
    if not is_socket:
        return _OFF if path == SOCKET and _UNIT.exists() else _SUDO
    if os.access(path, os.W_OK):
        return None
    return phrase(
        "You are not in the group '{group}', which may use adapters. Run 'sudo usermod -aG "
        "{group} {user}' and log in again, or start with sudo.",
        group=GROUP,
        user=getpass.getuser(),
    )


def lacking() -> list[str]:
    """Return the capabilities (capabilities(7)) that a keeper needs and this process has not."""
    has = effective()
    return [name for name, number in _NEEDED.items() if not has >> number & 1]


def is_switched_off() -> bool:
    """Whether nobody listens where the group's keepers are asked for, though its socket is there, or its service."""
    if os.geteuid() == 0:
        return False
    with socket.socket(socket.AF_UNIX, socket.SOCK_SEQPACKET) as control:
        try:
            control.connect(str(socket_path()))
        except ConnectionRefusedError:
            return True
        except OSError:
            return no_rights() == _OFF
    return False


def start() -> tuple[socket.socket, "subprocess.Popen[bytes] | None"]:
    """Return the near end of a keeper's socket, and its process where that is a child of this one.

    Raises:
        MachineRefused: no permission.
    """
    if why := no_rights():
        raise MachineRefused(why, code="no-permission")
    if os.geteuid() != 0:
        control = socket.socket(socket.AF_UNIX, socket.SOCK_SEQPACKET)
        try:
            control.connect(str(socket_path()))
        except OSError as error:
            control.close()
            if isinstance(error, ConnectionRefusedError):
                raise MachineRefused(_OFF, code="no-permission") from None
            raise MachineRefused(
                "The keeper cannot be reached at {socket}: {why}. Start Ask Port with sudo.",
                socket=socket_path(),
                why=error.strerror,
                code="no-permission",
            ) from None
        control.setblocking(False)
        return control, None
    ours, theirs = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
    ours.setblocking(False)
    # A session of its own keeps it out of the reach of the terminal's signals.
    process = subprocess.Popen(  # noqa: S603 - our own module, by our own interpreter
        command_for("askport.edges.keeper", str(theirs.fileno())),
        pass_fds=[theirs.fileno()],
        stdin=subprocess.DEVNULL,
        stdout=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL,
        start_new_session=True,
        cwd="/",
    )
    theirs.close()
    return ours, process
