"""Running somebody's command in the foreground while something is borrowed for it."""

import signal
import subprocess
import time

from askport.cli.saying import say

_NOT_FOUND, _NOT_EXECUTABLE = 127, 126
"""What shells report for a command that is not there, or cannot be started."""
_ENDS = (signal.SIGINT, signal.SIGTERM, signal.SIGHUP)
_LOOKS_EVERY_S = 0.05
_PATIENCE_S = 2.0
"""How long the command has to end by itself once this program was told to; then it is ended."""
_LAST_S = 1.0


def run_command(command: list[str]) -> int:
    """Run a command and return its exit status.

    Ctrl-C on the terminal reaches the command too and is its business. A signal to this program alone is passed on, and
    a command that does not end by it is ended.

    Raises:
        KeyboardInterrupt: this program was told to end; the command has ended.
    """
    try:
        process = subprocess.Popen(command)  # noqa: S603 - the user's own command
    except FileNotFoundError:
        say(f"askport: there is no command '{command[0]}'.")
        return _NOT_FOUND
    except OSError as error:
        say(f"askport: '{command[0]}' cannot be run: {error.strerror}.")
        return _NOT_EXECUTABLE
    before = None
    try:
        before = signal.pthread_sigmask(signal.SIG_BLOCK, _ENDS)  # from now on they are looked at one by one
        while (status := process.poll()) is None:
            told = signal.sigtimedwait(_ENDS, _LOOKS_EVERY_S)
            # Its code is positive where the kernel sent it for a key of the terminal (sigaction(2)).
            if told and not (told.si_signo == signal.SIGINT and told.si_code > 0):
                _end(process, signal.Signals(told.si_signo))
                raise KeyboardInterrupt
        return status if status >= 0 else 128 - status
    except KeyboardInterrupt:
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
