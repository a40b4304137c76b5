"""Ends the program when its terminal is gone, even where nobody says so."""

import os
import signal
import threading
import time

_LOOKS_EVERY_S = 0.25
_GRACE_S = 0.5


def end_with_terminal(exit_status: int) -> None:
    """Have the program end as by a hang-up once its standard input is no terminal any more, if it is one now.

    The kernel tells the leader of a session only (termios(3)); one that waits for its child, as make or a script does,
    passes nothing on. What the program writes fails from then on, and may hold it up for ever: so where it has not
    ended after a moment, it is ended. What it had borrowed is its keeper's to give back.
    """
    if os.isatty(0):
        threading.Thread(target=_watch, args=(exit_status,), name="terminal", daemon=True).start()


def _watch(exit_status: int) -> None:
    while os.isatty(0):
        time.sleep(_LOOKS_EVERY_S)
    os.kill(os.getpid(), signal.SIGHUP)
    time.sleep(_GRACE_S)
    os._exit(exit_status)
