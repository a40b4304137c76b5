"""Stands in for systemd: accepts on the keeper's socket and starts a keeper for each connection, with it as third."""

import contextlib
import os
import socket
import subprocess
import sys
import threading
from pathlib import Path

GROUP_NUMBER = 990
MEMBER, OTHER, STRANGER = 1000, 1001, 1002
_ONE_USER = threading.Lock()
"""All of a process' threads are the same user: none starts a keeper while the tests are somebody else."""
_WHERE = Path(__file__).parents[1] / "src"
_UNIT = (_WHERE.parent / "packages/debian/askport-keeper.socket").read_text()
_MOST = int(_UNIT.partition("MaxConnections=")[2].split()[0])


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
        self._inside, self._journal = inside, self.log.open("wb")
        self._listener = socket.socket(socket.AF_UNIX, socket.SOCK_SEQPACKET)
        self._listener.bind(str(self.path))
        self._listener.listen(256)
        directory.chmod(0o755)
        self.path.chmod(0o666)
        self.keepers = []
        threading.Thread(target=self._accept, daemon=True).start()

    def _accept(self):
        code = (
            "import os, sys; os.dup2(int(sys.argv[2]), 3); sys.path.insert(0, sys.argv[1]); "
            "from askport.edges.by_group.__main__ import main; main()"
        )
        shell = f'mount --bind {self.etc} /etc; exec "$@"'
        while True:
            try:
                connection, _ = self._listener.accept()
            except OSError:
                return
            if sum(each.poll() is None for each in self.keepers) >= _MOST:
                connection.close()
                continue
            with connection, _ONE_USER:
                python = [sys.executable, "-I", "-c", code, _WHERE, str(connection.fileno())]
                command = [*self._inside, "unshare", "-m", "sh", "-c", shell, "sh", *python]
                self.keepers.append(subprocess.Popen(command, pass_fds=[connection.fileno()], stderr=self._journal))

    def refusals(self):
        """Return what stands in the system's log."""
        return [each for each in self.log.read_text().splitlines() if each.startswith("<4>refused to ")]

    def close(self):
        self._listener.shutdown(socket.SHUT_RDWR)
        self._listener.close()
        for each in self.keepers:
            with contextlib.suppress(subprocess.TimeoutExpired):
                each.wait(5)
            if each.poll() is None:
                each.kill()
                each.wait()
        self._journal.close()


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
