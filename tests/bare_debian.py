"""A bare Debian of its own, in which packages are installed and tried; its network is a laptop namespace."""

import os
import shutil
import subprocess
import tempfile
from pathlib import Path

ROOT = Path(__file__).parents[1]
_ENTER = (
    "mount --make-rprivate / && mount -t proc proc {root}/proc && mount --rbind /sys {root}/sys && "
    'mount --rbind /dev {root}/dev && exec chroot {root} "$@"'
)
_CLEAN = {"PATH": "/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin", "HOME": "/root", "TERM": "xterm-256color",
          "LANG": "C.UTF-8", "COLORTERM": "truecolor"}  # fmt: skip


class BareDebian:
    """One installation, unpacked for a test and taken away again."""

    def __init__(self, archive):
        self.root = Path(tempfile.mkdtemp(prefix="askport-bare-"))
        subprocess.run(["tar", "xf", archive, "-C", self.root, "--exclude=./dev/*"], check=True)
        self.run("useradd", "--create-home", "--shell", "/bin/bash", "mia")

    def command(self, *command, cable=None, user=None):
        """Return what runs a command in there, by a user, on a laptop's network or on none."""
        network = cable.inside("laptop") if cable else ["unshare", "-n"]
        become = ["setpriv", f"--reuid={user}", f"--regid={user}", "--init-groups", "env", f"HOME=/home/{user}",
                  f"USER={user}"] if user else []  # fmt: skip
        clean = ["env", "-i", *(f"{name}={value}" for name, value in _CLEAN.items())]
        enter = ["unshare", "-m", "sh", "-c", _ENTER.format(root=self.root), "sh"]
        return [*network, *enter, *clean, *become, *map(str, command)]

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
