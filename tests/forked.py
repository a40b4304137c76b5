"""Starts the program by forking a process that has everything loaded, instead of a Python that loads it each time.

What a test sees is as ever: a child of its own with pipes, signals and an exit status, in the namespace, with the
environment, the directory and the descriptors that it was given. The process that forks is forked itself, once a worker
and before its first test, so that no test leaves its mark on what another one starts.
"""

import atexit
import ctypes
import faulthandler
import fcntl
import gc
import importlib
import io
import json
import locale
import os
import pkgutil
import random
import resource
import signal
import socket
import subprocess
import sys
import tempfile
import termios
import threading
import traceback

import askport
from askport.cli.main import main

_LIBC = ctypes.CDLL(None, use_errno=True)
_CHILD_SUBREAPER, _NEWNS, _NEWNET, _SLAVE, _DETACH = 36, 0x20000, 0x40000000, 1 << 19 | 1 << 14, 2
_ABOVE = 500
"""Where descriptors are kept while they are put where they belong."""


LOADED_LATE = (
    "asyncssh", "httpx", "logging.handlers", "platformdirs", "serial_asyncio_fast", "structlog", "telnetlib3"
)  # fmt: skip
"""What the program loads as it needs it."""


def load_everything():
    """Load all of the program, so that nothing that is forked has to."""
    for each in pkgutil.walk_packages(askport.__path__, "askport."):
        if not each.name.endswith("__main__"):
            importlib.import_module(each.name)
    for name in LOADED_LATE:
        importlib.import_module(name)


def _kernel(call, *arguments):
    if getattr(_LIBC, call)(*arguments):
        raise OSError(ctypes.get_errno(), f"{call}: {os.strerror(ctypes.get_errno())}")


def enter(namespace):
    """Be in a network namespace with a /sys that shows it, as ``ip netns exec`` does."""
    with open(f"/run/netns/{namespace}", "rb") as opened:
        _kernel("setns", opened.fileno(), _NEWNET)
    _kernel("unshare", _NEWNS)
    _kernel("mount", b"none", b"/", None, _SLAVE, None)
    _LIBC.umount2(b"/sys", _DETACH)
    _kernel("mount", b"none", b"/sys", b"sysfs", 0, None)


def own_mounts(*directories):
    """Have directories that are this process' and its children's alone."""
    _kernel("unshare", _NEWNS)
    for each in directories:
        _kernel("mount", b"none", each.encode(), b"tmpfs", 0, b"mode=0700")


class Forker:
    """The process that forks the program, and the near end of a socket to it."""

    def __init__(self):
        self._near, far = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
        self._one = threading.Lock()
        gc.freeze()  # what is loaded is never looked at again, and so never copied
        if not os.fork():
            try:
                self._near.close()
                for each in (signal.SIGINT, signal.SIGTERM):
                    signal.signal(each, signal.SIG_DFL)
                _serve(far)
            finally:
                os._exit(0)
        far.close()

    def fork(self, request, descriptors):
        """Fork a program and return its process number; it is this process' own child."""
        with self._one:
            # Whoever asks adopts what the go-between leaves behind, and nothing else: not what programs leave behind.
            _LIBC.prctl(_CHILD_SUBREAPER, 1)
            socket.send_fds(self._near, [json.dumps(request).encode()], descriptors)
            answer = self._near.recv(64)
            _LIBC.prctl(_CHILD_SUBREAPER, 0)
        return int(answer)


def _serve(far):
    while True:
        data, descriptors, _, _ = socket.recv_fds(far, 1 << 20, 64)
        if not data:
            return
        read, write = os.pipe()
        between = os.fork()
        if not between:
            child = os.fork()
            if not child:
                _be_the_program(json.loads(data), descriptors)
            os.write(write, str(child).encode())
            os._exit(0)
        os.waitpid(between, 0)
        far.send(os.read(read, 64))
        for each in (read, write, *descriptors):
            os.close(each)


def _be_the_program(request, descriptors):
    """Become the program as if it had been started anew, and end as it does."""
    status = 1
    try:
        _arrange(request, descriptors)
        main()
    except SystemExit as end:
        status = end.code if isinstance(end.code, int) else int(end.code is not None)
    except BaseException:  # noqa: BLE001 - it ends as an interpreter would
        traceback.print_exc()
    finally:
        try:
            for each in threading.enumerate():
                if each is not threading.current_thread() and not each.daemon:
                    each.join()
            atexit._run_exitfuncs()
            for each in (sys.stdout, sys.stderr):
                each.flush()
        finally:
            os._exit(status)


def _arrange(request, descriptors):
    atexit._clear()
    faulthandler.disable()
    for number, each in enumerate(descriptors):
        os.dup2(each, _ABOVE + number, inheritable=False)
    for number, where in enumerate(request["descriptors"]):
        os.dup2(_ABOVE + number, where)
    last = 2
    for where in sorted({*request["descriptors"], os.sysconf("SC_OPEN_MAX")}):
        if where > 2:
            os.closerange(last + 1, where)
            last = where
    if request["session"]:
        os.setsid()
    if request["terminal"]:
        fcntl.ioctl(0, termios.TIOCSCTTY, 1)  # taken from the process that lends it
    for each in signal.valid_signals() - {signal.SIGKILL, signal.SIGSTOP}:
        if signal.getsignal(each) not in (signal.SIG_DFL, None):
            signal.signal(each, signal.SIG_DFL)
    signal.signal(signal.SIGINT, signal.default_int_handler)
    for each in (signal.SIGPIPE, signal.SIGXFSZ):
        signal.signal(each, signal.SIG_IGN)
    if request["namespace"]:
        enter(request["namespace"])
    os.environ.clear()
    os.environ.update(request["environment"])
    os.chdir(request["directory"])
    locale.setlocale(locale.LC_CTYPE, "")
    sys.argv = request["command"]
    if "PYTHONFAULTHANDLER" in os.environ:
        faulthandler.enable(2)
    for number, (name, mode, errors) in enumerate(
        (("stdin", "r", "strict"), ("stdout", "w", "strict"), ("stderr", "w", "backslashreplace"))
    ):
        raw = open(number, mode + "b", buffering=-1, closefd=False)  # noqa: SIM115 - for as long as the program lasts
        stream = io.TextIOWrapper(raw, errors=errors, line_buffering=name == "stderr" or os.isatty(number))
        setattr(sys, name, stream)
        setattr(sys, f"__{name}__", stream)
    for each, bound in request["bounds"]:
        resource.setrlimit(each, (bound, bound))
    random.seed()
    tempfile.tempdir = None


class Program(subprocess.Popen):
    """The program, forked; a ``Popen`` in all that a test sees of it."""

    forker = None
    """That of this worker."""

    def __init__(self, command, namespace=None, *, lends_terminal=False, bounds=(), **options):
        self._namespace, self._lends_terminal, self._bounds = namespace, lends_terminal, bounds
        super().__init__(command, **options)

    def _execute_child(self, args, executable, preexec_fn, close_fds, pass_fds, cwd, env, startupinfo, creationflags,
                       shell, p2cread, p2cwrite, c2pread, c2pwrite, errread, errwrite, restore_signals, gid, gids, uid,
                       umask, start_new_session, *rest):  # fmt: skip
        """Fork instead of starting: the one step of a Popen that differs."""
        ends = [mine if given == -1 else given for mine, given in enumerate((p2cread, c2pwrite, errwrite))]
        request = {
            "command": [str(each) for each in args], "namespace": self._namespace, "session": start_new_session,
            "environment": dict(os.environ if env is None else env), "directory": str(cwd or os.getcwd()),
            "terminal": self._lends_terminal, "bounds": self._bounds, "descriptors": [0, 1, 2, *pass_fds],
        }  # fmt: skip
        try:
            self.pid = Program.forker.fork(request, [*ends, *pass_fds])
            self._child_created = True
        finally:
            self._close_pipe_fds(p2cread, p2cwrite, c2pread, c2pwrite, errread, errwrite)
