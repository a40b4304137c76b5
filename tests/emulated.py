"""A computer of its own, emulated: started from a stick, with a disk that nobody may touch and a network card on a
cable's laptop end."""

import contextlib
import json
import socket
import subprocess
import time
from pathlib import Path

_UEFI = Path("/usr/share/OVMF")


class Computer:
    """One that is on, with its screen, its keys and its network card."""

    def __init__(self, cable, stick, disk, directory, *, uefi):
        for command in (
            ("link", "add", "br0", "type", "bridge"), ("link", "set", "zl0", "master", "br0"),
            ("tuntap", "add", "dev", "tap0", "mode", "tap"), ("link", "set", "tap0", "master", "br0"),
            ("link", "set", "tap0", "addrgenmode", "none"), ("link", "set", "br0", "addrgenmode", "none"),
            ("link", "set", "tap0", "up"), ("link", "set", "br0", "up"),
        ):  # fmt: skip
            cable.ip(*command, at="laptop")
        self._control, self._directory = directory / "qmp", directory
        self.serial = directory / "serial"
        firmware = []
        if uefi:
            held = directory / "firmware"
            held.write_bytes((_UEFI / "OVMF_VARS_4M.fd").read_bytes())
            firmware = ["-drive", f"if=pflash,format=raw,readonly=on,file={_UEFI}/OVMF_CODE_4M.fd", "-drive",
                        f"if=pflash,format=raw,file={held}"]  # fmt: skip
        self.process = subprocess.Popen(
            [*cable.inside("laptop"), "qemu-system-x86_64", "-machine", "q35", "-accel", "tcg,thread=multi",
             "-cpu", "max", "-smp", "2", "-m", "2048", "-display", "none", "-vga", "std", "-rtc", "base=utc", *firmware,
             "-device", "qemu-xhci", "-drive", f"if=none,id=stick,format=raw,file={stick}",
             "-device", "usb-storage,drive=stick,bootindex=1", "-device", "usb-kbd",
             "-drive", f"if=none,id=disk,format=raw,file={disk}", "-device", "ide-hd,drive=disk,bootindex=2",
             "-netdev", "tap,id=net,ifname=tap0,script=no,downscript=no",
             "-device", "e1000,netdev=net,mac=02:00:00:00:00:01", "-serial", f"unix:{self.serial},server=on,wait=off",
             "-qmp", f"unix:{self._control},server=on,wait=off"]
        )  # fmt: skip

    def tell(self, command, **arguments):
        """Have the emulator do something."""
        with contextlib.closing(socket.socket(socket.AF_UNIX)) as control:
            control.settimeout(20)
            control.connect(str(self._control))
            lines = control.makefile("rw")
            lines.readline()
            for each in ({"execute": "qmp_capabilities"}, {"execute": command, "arguments": arguments}):
                lines.write(json.dumps(each) + "\n")
                lines.flush()
                while "return" not in (said := json.loads(lines.readline())) and "error" not in said:
                    pass
            return said

    def picture(self, path):
        """Take a picture of the screen."""
        self.tell("screendump", filename=str(path), format="png")

    def keys(self, *keys):
        """Press keys, one after the other; each may be several that are held together, with a hyphen between them."""
        for each in keys:
            held = [{"type": "qcode", "data": one} for one in each.split("-")]
            self.tell("send-key", keys=held)
            time.sleep(0.3)

    def close(self):
        if self.process.poll() is None:
            with contextlib.suppress(OSError, ValueError):
                self.tell("quit")
            with contextlib.suppress(subprocess.TimeoutExpired):
                self.process.wait(10)
        if self.process.poll() is None:
            self.process.kill()
            self.process.wait()
