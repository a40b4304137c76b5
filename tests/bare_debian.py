"""A bare Debian of its own, in which packages are installed and tried; its network is a laptop namespace."""

import contextlib
import os
import shutil
import subprocess
import tempfile
from pathlib import Path

from conftest import children, wait_for

ROOT = Path(__file__).parents[1]
_ENTER = (
    "mount --make-rprivate / && mount -t proc proc {root}/proc && mount --rbind /sys {root}/sys && "
    'mount --rbind /dev {root}/dev && exec chroot {root} "$@"'
)
_BOOT = (
    "mount --make-rprivate / && mount --bind {root} {root} && mount -t proc proc {root}/proc && "
    "mount -t sysfs sysfs {root}/sys && mount -t cgroup2 cgroup2 {root}/sys/fs/cgroup && "
    "mount -t tmpfs tmpfs {root}/run && mount -t tmpfs -o mode=755 tmpfs {root}/dev && cd {root}/dev && "
    "for each in null zero full random urandom tty; do : >$each; mount --bind /dev/$each $each; done && "
    "mkdir pts shm && mount -t devpts -o newinstance,ptmxmode=0666,mode=0620,gid=5 devpts pts && "
    "ln -s pts/ptmx ptmx && "
    "exec chroot {root} env -i container=other PATH=/usr/sbin:/usr/bin:/sbin:/bin /lib/systemd/systemd --show-status=0"
)
"""Its own systemd as the first process of namespaces of its own (systemd.io, "Container Interface")."""
_CLEAN = {"PATH": "/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin", "HOME": "/root", "TERM": "xterm-256color",
          "LANG": "C.UTF-8", "COLORTERM": "truecolor"}  # fmt: skip


class BareDebian:
    """One installation, unpacked for a test and taken away again."""

    def __init__(self, archive):
        self.root = Path(tempfile.mkdtemp(prefix="askport-bare-"))
        subprocess.run(["tar", "xf", archive, "-C", self.root, "--exclude=./dev/*"], check=True)
        self._first = None
        self.run("useradd", "--create-home", "--shell", "/bin/bash", "mia")

    def command(self, *command, cable=None, user=None):
        """Return what runs a command in there, by a user, on a laptop's network or on none."""
        if self._first:
            joined = ["nsenter", "-t", self._first, "-m", "-u", "-i", "-n", "-p", "-C", "-r", "-w"]
            return self._as(joined, command, user)
        network = cable.inside("laptop") if cable else ["unshare", "-n"]
        enter = ["unshare", "-m", "sh", "-c", _ENTER.format(root=self.root), "sh"]
        return self._as([*network, *enter], command, user)

    def _as(self, enter, command, user):
        become = ["setpriv", f"--reuid={user}", f"--regid={user}", "--init-groups", "env", f"HOME=/home/{user}",
                  f"USER={user}"] if user else []  # fmt: skip
        clean = ["env", "-i", *(f"{name}={value}" for name, value in _CLEAN.items())]
        return [*enter, *clean, *become, *map(str, command)]

    @contextlib.contextmanager
    def booted(self, cable):
        """Have its systemd run meanwhile, on a laptop's network: commands are run beside that."""
        apart = ["unshare", "--mount", "--uts", "--ipc", "--cgroup", "--pid", "--fork", "--kill-child"]
        boot = [*cable.inside("laptop"), *apart, "sh", "-c", _BOOT.format(root=self.root)]
        outer = subprocess.Popen(boot, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
        try:
            assert wait_for(lambda: children(outer.pid))
            (first,) = children(outer.pid)
            self._first = first
            assert wait_for(lambda: "running" in self.run("systemctl", "is-system-running", check=False).stdout)
            yield
        finally:
            self._first = None
            outer.kill()
            outer.wait()

    def run(self, *command, cable=None, user=None, **options):
        """Run a command in there, and return what came of it."""
        ready = {"capture_output": True, "text": True, "check": True, "timeout": 300} | options
        try:
            return subprocess.run(self.command(*command, cable=cable, user=user), **ready)
        except subprocess.CalledProcessError as error:
            raise AssertionError(f"{command}: {error.stdout}{error.stderr}") from None

    def bring(self, path, into="/srv"):
        """Put a file or an archive's contents in there; return where it is there."""
        (self.root / into[1:]).mkdir(parents=True, exist_ok=True)
        if str(path).endswith(".tar.gz"):
            subprocess.run(["tar", "xzf", path, "-C", self.root / into[1:], "--no-same-owner"], check=True)
            return f"{into}/{path.name.removesuffix('.tar.gz')}"
        shutil.copy(path, self.root / into[1:])
        return f"{into}/{path.name}"

    def size_mb(self, path):
        """Return how much a folder in there takes, in MB."""
        told = subprocess.run(["du", "-sm", self.root / path[1:]], capture_output=True, text=True, check=True)
        return int(told.stdout.split()[0])

    def close(self):
        assert not os.path.ismount(self.root / "proc"), "nothing outside may be mounted there when it goes"
        shutil.rmtree(self.root)
