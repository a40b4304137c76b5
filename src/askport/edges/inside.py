"""Runs one command in a namespace: ``python -I -m askport.edges.inside DESCRIPTOR COMMAND …``.

It is started while the program may still do so, and waits on a Unix socket for the namespace's descriptor. Then it
enters it, becomes whoever called sudo, gives up every capability and turns into the command, with the terminal, the
process group and the directory that it was started with. Where the other end closes first, it ends without a word.
"""

import os
import signal
import socket
import sys

from askport.core.phrases import phrase
from askport.edges.invoker import become_invoker_without_rights
from askport.edges.kernel import capabilities, namespaces

_PR_SET_PDEATHSIG = 1
_NOT_FOUND, _NOT_EXECUTABLE = 127, 126
"""What shells report for a command that is not there, or cannot be started."""


def told(error: OSError, command: str) -> tuple[str, int]:
    """Return why a command could not be started, and the exit status for that."""
    if isinstance(error, FileNotFoundError):
        return phrase("askport: there is no command '{command}'.", command=command), _NOT_FOUND
    return phrase("askport: '{command}' cannot be run: {why}.", command=command, why=error.strerror), _NOT_EXECUTABLE


def main(descriptor: int, command: list[str]) -> int:
    """Wait for the namespace, and become the command in it."""
    signal.signal(signal.SIGINT, signal.SIG_DFL)
    program = os.getppid()
    with socket.socket(fileno=descriptor) as control:
        data, handed, _, _ = socket.recv_fds(control, 1, 1)
    if not data or not handed:
        return 0
    namespaces.enter(handed[0])
    os.close(handed[0])
    become_invoker_without_rights()
    # Set behind the change of user, which takes it away (prctl(2)); it tells of no end that came before.
    capabilities.control_process(_PR_SET_PDEATHSIG, signal.SIGKILL)
    if os.getppid() != program:
        return 0
    try:
        os.execvp(command[0], command)  # noqa: S606 - the user's own command
    except OSError as error:
        why, status = told(error, command[0])
        sys.stderr.write(why + "\n")
        return status


if __name__ == "__main__":
    sys.exit(main(int(sys.argv[1]), sys.argv[2:]))
