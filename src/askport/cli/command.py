"""Running somebody's command in the foreground while something is borrowed for it."""

import os
import signal
import socket
import subprocess
import time
from collections.abc import Callable

from askport.cli.saying import say
from askport.core.errors import AskPortError
from askport.edges.inside import told as why_not
from askport.edges.own_process import command_for

_ENDS = (signal.SIGINT, signal.SIGTERM, signal.SIGHUP)
_LOOKS_EVERY_S = 0.05
_PATIENCE_S = 2.0
"""How long the command has to end by itself once this program was told to; then it is ended."""
_LAST_S = 1.0


class Waiting:
    """A process that waits to become a command in a namespace, started while that is still permitted."""

    def __init__(self, command: list[str]) -> None:
        """Start it; it touches nothing before it is told where to go."""
        self._control, theirs = socket.socketpair()
        self.process = subprocess.Popen(  # noqa: S603 - our own module, by our own interpreter
            command_for("askport.edges.inside", str(theirs.fileno()), *command),
            pass_fds=[theirs.fileno()],
        )
        theirs.close()

    def go(self, namespace: int) -> "subprocess.Popen[bytes]":
        """Have it become its command in this namespace, and return it."""
        socket.send_fds(self._control, [b"."], [namespace])
        os.close(namespace)
        self._control.close()
        return self.process

    def __enter__(self) -> "Waiting":
        return self

    def __exit__(self, *_: object) -> None:
        self._control.close()
        self.process.wait()


def run_command(command: "list[str] | subprocess.Popen[bytes]", still: Callable[[], object] = lambda: None) -> int:
    """Run a command, or wait for one that runs, and return its exit status.

    Ctrl-C on the terminal reaches the command too and is its business. A signal to this program alone is passed on, and
    a command that does not end by it is ended.

    Args:
        still: raises what ends the command, where something is missing that it needs.

    Raises:
        KeyboardInterrupt: this program was told to end; the command has ended.
    """
    try:
        process = command if isinstance(command, subprocess.Popen) else subprocess.Popen(command)  # noqa: S603 - theirs
    except OSError as error:
        why, its_status = why_not(error, error.filename)
        say(why)
        return its_status
    before = None
    try:
        before = signal.pthread_sigmask(signal.SIG_BLOCK, _ENDS)  # from now on they are looked at one by one
        while (status := process.poll()) is None:
            told = signal.sigtimedwait(_ENDS, _LOOKS_EVERY_S)
            still()
            # Its code is positive where the kernel sent it for a key of the terminal (sigaction(2)). Where the program
            # was stopped and goes on, none is told of.
            if told and told.si_signo in _ENDS and not (told.si_signo == signal.SIGINT and told.si_code > 0):
                _end(process, signal.Signals(told.si_signo))
                raise KeyboardInterrupt
        return status if status >= 0 else 128 - status
    except (KeyboardInterrupt, AskPortError):
        if process.poll() is None:
            _end(process, signal.SIGINT)
        raise
    finally:
        if before is not None:
            signal.pthread_sigmask(signal.SIG_SETMASK, before)


def _end(process: "subprocess.Popen[bytes]", told: signal.Signals) -> None:
    """Pass a signal on, and end what does not end by it."""
    for each, patience_s in ((told, _PATIENCE_S), (signal.SIGTERM, _LAST_S), (signal.SIGKILL, _LAST_S)):
        process.send_signal(each)
        deadline = time.monotonic() + patience_s
        while process.poll() is None and time.monotonic() < deadline:
            time.sleep(_LOOKS_EVERY_S)
        if process.poll() is not None:
            return
