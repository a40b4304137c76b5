"""Stands in for systemd: hands the listening socket to the group's service, as its third descriptor."""

import contextlib
import os
import signal
import socket
import subprocess
import sys
import threading
from pathlib import Path

from conftest import children, wait_for

GROUP_NUMBER = 990
MEMBER, OTHER, STRANGER = 1000, 1001, 1002
_ONE_USER = threading.Lock()
"""All of a process' threads are the same user: none looks at processes while the tests are somebody else."""
_WHERE = Path(__file__).parents[1] / "src"
_SERVICE = (
    "import os, sys; os.dup2(int(sys.argv[2]), 3); sys.path.insert(0, sys.argv[1]); "
    "from askport.edges.by_group.__main__ import main; main()"
)


class Ran:
    """One keeper of the service's, as far as its number tells."""

    def __init__(self, pid):
        self.pid = pid

    def poll(self):
        try:
            return None if "Z" not in Path(f"/proc/{self.pid}/stat").read_text().rpartition(")")[2][:3] else 0
        except OSError:
            return 0

    def kill(self):
        os.kill(self.pid, signal.SIGKILL)

    def terminate(self):
        os.kill(self.pid, signal.SIGTERM)


class GroupKeeper:
    """A socket at which the group's keepers are asked for, for one namespace."""

    def __init__(self, inside, directory, also=("zl0",)):
        self.path, self.log = directory / "keeper.socket", directory / "journal"
        self.etc = directory / "etc"
        (self.etc / "askport").mkdir(parents=True)
        for name in ("nsswitch.conf", "ld.so.cache", "ssl", "alternatives"):
            with contextlib.suppress(FileNotFoundError):
                os.symlink(f"/proc/1/root/etc/{name}", self.etc / name)
        users = ((0, "root"), (MEMBER, "mia"), (OTHER, "olaf"), (STRANGER, "sten"))
        (self.etc / "passwd").write_text("".join(f"{name}:x:{uid}:{uid}::/:/bin/sh\n" for uid, name in users))
        (self.etc / "group").write_text(f"root:x:0:\naskport:x:{GROUP_NUMBER}:\n")
        (self.etc / "askport/also-wired").write_text("\n".join(also))
        directory.chmod(0o755)
        self._seen = []
        with socket.socket(socket.AF_UNIX, socket.SOCK_SEQPACKET) as listener, self.log.open("wb") as journal:
            listener.bind(str(self.path))
            listener.listen(256)
            self.path.chmod(0o666)
            python = [sys.executable, "-I", "-c", _SERVICE, _WHERE, str(listener.fileno())]
            command = [*inside, "unshare", "-m", "sh", "-c", f'mount --bind {self.etc} /etc; exec "$@"', "sh", *python]
            self.service = subprocess.Popen(command, pass_fds=[listener.fileno()], stderr=journal)

    @property
    def keepers(self):
        """Return every keeper that was seen, the last one last."""
        known = {each.pid for each in self._seen}
        self._seen += [Ran(pid) for pid in sorted(map(int, children(self.service.pid))) if pid not in known]
        return self._seen

    def refusals(self):
        """Return what stands in the system's log."""
        return [each for each in self.log.read_text().splitlines() if each.startswith("<4>refused to ")]

    def close(self):
        wait_for(lambda: all(each.poll() is not None for each in self.keepers), 5)
        self.service.kill()
        self.service.wait()
        for each in self._seen:
            if each.poll() is None:
                each.kill()


@contextlib.contextmanager
def user(number, *groups):
    """Be a user for a moment, as far as the kernel tells others who connects."""
    before = os.getgroups()
    with _ONE_USER:
        os.setgroups(groups)
        os.setresgid(number, number, 0)
        os.setresuid(-1, number, -1)
        try:
            yield
        finally:
            os.setresuid(-1, 0, -1)
            os.setresgid(0, 0, 0)
            os.setgroups(before)
