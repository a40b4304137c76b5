"""``make stick``: an image for a USB stick that starts a computer into the full screen, whatever is installed on it."""

import shutil
import sys
from datetime import UTC, datetime
from pathlib import Path

from making import BUILD, DIST, HERE, emptied, epoch, run, tell, version
from papers import environment, put_beside, sbom, with_debian

_PACKAGES = ("linux-image-amd64,live-boot,systemd-sysv,udev,kmod,kmscon,fonts-dejavu-core,libgl1-mesa-dri,"
             "exfatprogs,python3,iproute2,nftables,passwd,sudo")  # fmt: skip
_JOBS_MB = 128
_SOURCES = (Path("/etc/apt/sources.list.d/debian.sources"), Path("/etc/apt/sources.list"))


def _system() -> Path:
    """Return the stick's system as a tree, made from the registry's packages."""
    tree = BUILD / "stick-system"
    package = next(DIST.glob("askport_*.deb"))
    stamp = BUILD / "stick-system.made"
    if stamp.exists() and stamp.stat().st_mtime > max(package.stat().st_mtime, (HERE / "stick/hook").stat().st_mtime):
        return tree
    shutil.rmtree(tree, ignore_errors=True)
    sources = next(each for each in _SOURCES if each.exists())
    suite = next(each.partition("=")[2].strip('"') for each in Path("/etc/os-release").read_text().splitlines()
                 if each.startswith("VERSION_CODENAME="))  # fmt: skip
    hook = f'{HERE / "stick/hook"} "$1" {HERE / "stick"} {package}'
    run("mmdebstrap", "--quiet", "--variant=minbase", "--aptopt=Apt::Install-Recommends \"false\"",
        f"--include={_PACKAGES}", f"--customize-hook={hook}", suite, tree, sources)  # fmt: skip
    stamp.touch()
    return tree


def main() -> None:
    """Make the image."""
    tree, disk = _system(), emptied(BUILD / "stick")
    moment = datetime.fromtimestamp(epoch(), UTC)
    uuid, stamp = f"{moment:%Y-%m-%d-%H-%M-%S}-00", f"{moment:%Y%m%d%H%M%S}00"
    (disk / "live").mkdir()
    (disk / "boot/grub").mkdir(parents=True)
    for name in ("vmlinuz", "initrd.img"):
        found = sorted((tree / "boot").glob(f"{name}-*"))[-1]
        shutil.copy2(found, disk / "live" / name.removesuffix(".img"))
    run("mksquashfs", tree, disk / "live/filesystem.squashfs", "-comp", "zstd", "-Xcompression-level", "15",
        "-noappend", "-quiet", "-wildcards", "-e", "boot/*", "proc/*", "sys/*", "run/*", "tmp/*")  # fmt: skip
    more = " ".join(sys.argv[1:])
    text = (HERE / "stick/grub.cfg").read_text().replace("@UUID@", uuid).replace("@MORE@", more)
    (disk / "boot/grub/grub.cfg").write_text(text)
    jobs = BUILD / "jobs.exfat"
    with jobs.open("wb") as file:
        file.truncate(_JOBS_MB * 1_000_000 // 512 * 512)
    run("mkfs.exfat", "-L", "ASKPORTJOBS", jobs)
    image = DIST / f"askport-{version()}-stick.img"
    run("grub-mkrescue", "-o", image, disk, "--", "-volid", "ASKPORTBOOT", "-volume_date", "uuid", stamp,
        "-boot_image", "any", "appended_part_as=gpt", "-append_partition", "4", "0x07", jobs)  # fmt: skip
    tell([image, put_beside(image, with_debian(sbom(environment()), tree))])


if __name__ == "__main__":
    main()
