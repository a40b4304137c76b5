"""A computer is started from the stick, in an emulator: to the first screen, through one device, and off again.

It takes minutes, because nothing helps the emulator along: ``make stick-test``. ``ASKPORT_PICTURES`` names a folder for
pictures of what it shows.
"""

import hashlib
import json
import os
import shutil
import struct
import subprocess
import time
from pathlib import Path

import pytest
from PIL import Image

from conftest import DEVICE, askport, wait_for
from emulated import Computer
from test_kernel import CLIENT_SCRIPT

STICK = next(Path("dist").glob("askport-*-stick.img"), Path("dist/none"))
KEYS = {".": "dot", "/": "slash", " ": "spc"}
START_S, STEP_S = 900, 90


def digest(path):
    return hashlib.file_digest(path.open("rb"), "sha256").hexdigest()


def coloured(picture, bright):
    """Return how many points are of a colour: ours is amber, theirs teal (in signs of 256 colours or of all)."""
    image = Image.open(picture).convert("RGB")
    amber = (lambda r, g, b: r > 200 and 130 < g < 200 and b < 130) if bright == "ours" else None
    test = amber or (lambda r, g, b: r < 130 and g > 170 and b > 170)
    return sum(count for count, each in image.getcolors(1 << 20) if test(*each))


def jobs_of(stick, into):
    """Copy what is on the stick's own partition, as any computer reads it (GPT; UEFI specification, section 5)."""
    with stick.open("rb") as file:
        file.seek(512)
        head = file.read(512)
        at, (count, size) = struct.unpack_from("<Q", head, 72)[0], struct.unpack_from("<II", head, 80)
        file.seek(at * 512)
        entries = [file.read(size) for _ in range(count)]
        entry = next(each for each in entries if each[56:].decode("utf-16le").startswith("Appended4"))
        first, last = struct.unpack_from("<QQ", entry, 32)
        file.seek(first * 512)
        (into / "partition").write_bytes(file.read((last - first + 1) * 512))
    mounted = into / "mounted"
    mounted.mkdir()
    run = ["losetup", "-f", "--show", "-r", str(into / "partition")]
    loop = subprocess.run(run, check=True, capture_output=True, text=True).stdout.strip()
    try:
        subprocess.run(["mount.exfat-fuse", "-o", "ro", loop, str(mounted)], check=True, capture_output=True)
        shutil.copytree(mounted, into / "copied")
        subprocess.run(["umount", str(mounted)], check=True)
    finally:
        subprocess.run(["losetup", "-d", loop], check=True)
    return into / "copied"


@pytest.mark.parametrize("uefi", [False, True], ids=["bios", "uefi"])
def test_a_device_is_set_and_recorded_from_the_stick(cable, tmp_path, uefi):
    """The laptop's disk is bit for bit what it was, and its job is on the stick's own partition."""
    stick, disk = tmp_path / "stick.img", tmp_path / "disk.img"
    shutil.copy(STICK, stick)
    with disk.open("wb") as file:
        file.truncate(64 << 20)
    subprocess.run(["mkfs.ext4", "-q", "-F", "-L", "ASKPORTJOBS2", str(disk)], check=True)
    before = digest(disk)
    script = tmp_path / "client"
    script.write_text(CLIENT_SCRIPT)
    script.chmod(0o755)
    pictures = Path(os.environ.get("ASKPORT_PICTURES", tmp_path))
    computer = Computer(cable, stick, disk, tmp_path, uefi=uefi)

    def shown(name, colour, least, seconds):
        path = pictures / f"{'uefi' if uefi else 'bios'}-{name}.png"

        def is_there():
            computer.picture(path)
            time.sleep(1)
            return coloured(path, colour) > least

        assert wait_for(is_there, seconds), f"never saw {name}: {path}"
        time.sleep(4)  # the rest of it is drawn

    try:
        time.sleep(30)
        shown("plug", "ours", 1000, START_S)
        computer.keys("ret")
        cable.start("device", "udhcpc", "-i", "zd0", "-f", "-t", "400", "-T", "2", "-s", str(script))
        shown("find", "theirs", 1500, STEP_S)
        time.sleep(10)
        computer.keys("ret")
        time.sleep(12)
        computer.keys("e")
        time.sleep(6)
        computer.keys(*(KEYS.get(each, each) for each in "10.84.16.21/22 via 10.84.19.254"), "ret")
        time.sleep(20)
        shown("set", "theirs", 1500, STEP_S)
        computer.keys("ret")
        assert wait_for(lambda: "10.84.16.21/22" in cable.ip("addr", "show", "zd0"), STEP_S)
        time.sleep(40)
        shown("prove", "theirs", 1500, STEP_S)
        computer.keys("l")
        time.sleep(10)
        computer.keys("ret")
        time.sleep(15)
        shown("record", "theirs", 1500, STEP_S)
        computer.keys("q")
        assert wait_for(lambda: computer.process.poll() is not None, 240), "it does not switch itself off"
    finally:
        computer.close()
    assert digest(disk) == before
    copied = jobs_of(stick, tmp_path)
    (job,) = (copied / "askport").glob("*.askport")
    row = json.loads(askport("register", "list", job, "--json").stdout)["devices"][0]
    left = {name: each["value"] for name, each in row["as_left"].items() if name in ("address", "prefix")}
    assert (row["mac"], left) == (DEVICE, {"address": "10.84.16.21", "prefix": 22})
