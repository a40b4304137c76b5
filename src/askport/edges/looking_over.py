"""Looking the laptop over: what of it the program can use, what not and why, and the line that mends it."""

import contextlib
import os
import pwd
import shutil
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from contextlib import closing
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path

from platformdirs import user_data_path

from askport.core.errors import AskPortError
from askport.core.phrases import listed, phrase, phrase_of, together
from askport.core.reach.in_the_way import CABLE_KINDS
from askport.core.text import whole_number
from askport.edges import adapters, jobfile, keeper_start, own_process
from askport.edges.by_group.member import GROUP
from askport.edges.crew.server import Server
from askport.edges.transports.serial_line import serial_lines

_SAME_DAY_S, _LONG_S = 86_400.0, 3 * 365 * 86_400.0
"""Within which a clock is not behind, and after which it seems ahead."""
_APART_S = 120.0
"""How far this clock and that of a crew's server may be apart."""
_MANAGERS = ("NetworkManager", "systemd-network", "dhcpcd", "connmand")
_SMALLEST = (80, 24)
_TRIAL_S = 15.0


@dataclass(frozen=True, slots=True)
class Look:
    """One thing that was looked at."""

    name: str
    is_well: bool | None
    """None where it could not be seen."""
    says: str
    mend: str = ""
    """The line that mends it, or what to do."""
    is_needed: bool = False
    """Whether the main job cannot run without it."""


def look_over() -> Iterator[Look]:
    """Yield each thing, those that the main job needs first; nothing of the laptop is changed."""
    is_root = os.geteuid() == 0
    yield _rights()
    yield _adapters()
    tried = _trial() if is_root else None
    yield _tried(
        tried,
        "namespace",
        phrase("Network namespaces"),
        phrase("A kernel that has them (CONFIG_NET_NS)."),
        needed=False,
    )
    yield _tried(
        tried,
        "filter",
        phrase("The capture filter"),
        phrase("A kernel with packet sockets (CONFIG_PACKET)."),
        needed=True,
    )
    yield _beside(tried)
    yield _managers()
    yield _firewall(tried)
    yield _clock()
    yield _job_folder()
    yield _serial()
    yield _browser()
    yield Look(
        "clipboard",
        None,
        phrase("Values are copied by the terminal (OSC 52), which cannot be asked whether it does that."),
    )
    yield _terminal()


def _rights() -> Look:
    why_not = keeper_start.no_rights()
    if keeper_start.is_switched_off():
        text = phrase("The service that hands out adapters to the group is switched off.")
        return Look("rights", False, text, keeper_start.SWITCH_ON, is_needed=True)
    if why_not is None:
        may = (
            "The program may use adapters."
            if os.geteuid() == 0
            else "The program may use adapters by the group '{group}'."
        )
        return Look("rights", True, phrase(may, group=GROUP), is_needed=True)
    if os.geteuid() == 0:
        return Look("rights", False, why_not.removesuffix(f" {keeper_start.GIVE}"), keeper_start.GIVE, is_needed=True)
    if GROUP in why_not:
        mend = f"sudo usermod -aG {GROUP} $USER, and log in again"
        return Look(
            "rights",
            False,
            phrase("You are not in the group '{group}', which may use adapters.", group=GROUP),
            mend,
            is_needed=True,
        )
    return Look("rights", False, phrase("Using adapters needs more rights."), "sudo askport", is_needed=True)


def _adapters() -> Look:
    try:
        found = [each for each in adapters.list_adapters() if each.kind in CABLE_KINDS and each.mac]
    except AskPortError as error:
        return Look("adapters", False, error.message, phrase("Start anew."), is_needed=True)
    wired = [each for each in found if each.kind == "wired"] or found
    down = [each.name for each in wired if not each.switched_on]
    usable = [each.name for each in found if each.switched_on]
    if usable:
        more = phrase_of(len(down), "{down} is switched off.", "{down} are switched off.", down=listed(down))
        mend = f"sudo ip link set {down[0]} up" if down else ""
        return Look(
            "adapters",
            True,
            together(phrase("A cable fits {usable}.", usable=listed(usable)), more if down else ""),
            mend,
            is_needed=True,
        )
    if down:
        return Look(
            "adapters",
            False,
            phrase("{down} is switched off.", down=listed(down)),
            f"sudo ip link set {down[0]} up",
            is_needed=True,
        )
    text = phrase("There is no adapter that a cable fits.")
    return Look("adapters", False, text, phrase("Plug in an adapter for USB."), is_needed=True)


def _trial() -> frozenset[str]:
    """Return what worked in a namespace of its own."""
    with contextlib.suppress(OSError, subprocess.TimeoutExpired):
        command = own_process.command_for("askport.edges.trial")
        done = subprocess.run(command, capture_output=True, text=True, timeout=_TRIAL_S, check=False)  # noqa: S603 - ours
        return frozenset(done.stdout.split())
    return frozenset()


def _tried(tried: frozenset[str] | None, word: str, what: str, mend: str, *, needed: bool) -> Look:
    if tried is None:
        return Look(
            word, None, phrase("{what}: tried only as root.", what=what), "sudo askport doctor", is_needed=False
        )
    works = word in tried
    text = phrase("{what}: works." if works else "{what}: does not work here.", what=what)
    return Look(word, works, text, "" if works else mend, is_needed=needed)


def _beside(tried: frozenset[str] | None) -> Look:
    if tried and "no-ip" in tried:
        return Look(
            "macvlan",
            None,
            phrase("Borrowing beside the adapter was not tried: there is no 'ip'."),
            "sudo apt install iproute2",
        )
    look = _tried(tried, "macvlan", phrase("Borrowing beside the adapter"), "sudo modprobe macvlan", needed=False)
    if look.is_well is False:
        return Look(
            look.name, False, phrase("{says} It is borrowed on the adapter, and given back.", says=look.says), look.mend
        )
    return look


def _managers() -> Look:
    running = set()
    for each in Path("/proc").glob("[0-9]*/comm"):
        with contextlib.suppress(OSError):
            name = each.read_text().strip()
            running |= {known for known in _MANAGERS if name.startswith(known)}
    text = phrase(
        "{running} looks after adapters; what is borrowed beside them is none of its business.",
        running=listed(sorted(running)),
    )
    return Look("managers", True, text if running else phrase("No network manager runs."))


def _firewall(tried: frozenset[str] | None) -> Look:
    if tried is None:
        return Look("firewall", None, phrase("The firewall's rules are seen only as root."), "sudo askport doctor")
    text = (
        phrase("Its rules can be read (nft).")
        if "nft" in tried
        else phrase("There is no nft: rules of its own are not looked at.")
    )
    return Look("firewall", True, phrase("{text} What is borrowed beside the adapter goes by no rule.", text=text))


def _clock() -> Look:
    """Hold the clock against what was surely before: this program's files, and the jobs in the usual folder."""
    now, made = time.time(), Path(__file__).stat().st_mtime
    written = {each.stat().st_mtime: each for each in _jobs_at().glob("*.askport")}
    last = max([made, *written])
    said = time.strftime("%Y-%m-%d %H:%M %Z", time.localtime(now))
    mend = "sudo date -s 'YEAR-MONTH-DAY HOUR:MINUTE', with the time that it is now."
    crew = _crew_says(written[max(written)]) if written else None
    if crew and abs((crew - datetime.fromtimestamp(now, UTC)).total_seconds()) > _APART_S:
        text = phrase(
            "The clock says {said}, and the crew's server {crew:%Y-%m-%d %H:%M %Z}: is it right?",
            said=said,
            crew=crew.astimezone(),
        )
        return Look("clock", False, text, mend)
    if now < last - _SAME_DAY_S:
        what = phrase("the newest job was written") if last > made else phrase("this program was installed")
        when = time.strftime("%Y-%m-%d", time.localtime(last))
        return Look(
            "clock",
            False,
            phrase(
                "The clock says {said}, but {what} on {when}: records would be too old.",
                said=said,
                what=what,
                when=when,
            ),
            mend,
        )
    if now > last + _LONG_S:
        return Look(
            "clock",
            False,
            phrase("The clock says {said}, years after anything here was written: is it right?", said=said),
            mend,
        )
    return Look("clock", True, phrase("The clock says {said}.", said=said))


def _crew_says(job: Path) -> datetime | None:
    """Return what time it is by the server of a job's crew, where it has one that answers."""
    with contextlib.suppress(AskPortError), closing(jobfile.JobFile(job, create=False)) as kept:
        if kept.crew:
            with closing(Server(kept.crew.url)) as server:
                return server.news(kept.crew.pulled, most=1).now
    return None


def _jobs_at() -> Path:
    """Return where jobs are kept by default: under sudo, at home with whoever called it, as the program does."""
    folder, own = user_data_path("askport"), Path.home()
    user = whole_number(os.environ.get("SUDO_UID", ""), 0, 2**32 - 1) if os.geteuid() == 0 else None
    if user is None or not folder.is_relative_to(own):
        return folder
    try:
        return Path(pwd.getpwuid(user).pw_dir) / folder.relative_to(own)
    except KeyError:
        return folder


def _job_folder() -> Look:
    folder = _jobs_at()
    there = next(each for each in (folder, *folder.parents) if each.exists())
    try:
        with tempfile.TemporaryFile(dir=there):
            pass
    except OSError as error:
        return Look(
            "jobs",
            False,
            phrase("Jobs cannot be kept: {why}.", why=error.strerror),
            phrase("Give a file with --job."),
            is_needed=True,
        )
    free = shutil.disk_usage(there).free // 1_000_000
    return Look(
        "jobs",
        free > 50,
        phrase("Jobs can be kept, {free:,} MB are free.", free=free),
        "" if free > 50 else phrase("Make room."),
        is_needed=True,
    )


def _serial() -> Look:
    lines = [path for path, _ in serial_lines()]
    shut = [each for each in lines if not os.access(each, os.R_OK | os.W_OK)]
    if shut:
        return Look(
            "serial",
            False,
            phrase("{shut} may not be used.", shut=listed(shut)),
            "sudo usermod -aG dialout $USER, and log in again",
        )
    return Look(
        "serial",
        True,
        f"{listed(lines)}." if lines else phrase("There is no serial line; one behind USB shows when it is in."),
    )


def _browser() -> Look:
    has = any(map(shutil.which, ("xdg-open", "gio", "open")))
    shows = bool(os.environ.get("DISPLAY") or os.environ.get("WAYLAND_DISPLAY"))
    if has and shows:
        return Look("browser", True, phrase("A device's page opens in your browser."))
    why = phrase("there is no window here") if not shows else phrase("nothing opens links")
    return Look("browser", None, phrase("A device's page is printed as an address, because {why}.", why=why))


def _terminal() -> Look:
    size = shutil.get_terminal_size((0, 0))
    if not sys.stdout.isatty():
        return Look("terminal", None, phrase("This is no terminal: the full screen needs one."))
    if size.columns < _SMALLEST[0] or size.lines < _SMALLEST[1]:
        return Look(
            "terminal",
            False,
            phrase("The terminal has {columns} by {lines} cells.", columns=size.columns, lines=size.lines),
            phrase("Make it 80 by 24 or larger."),
        )
    full = os.environ.get("COLORTERM", "") in ("truecolor", "24bit")
    colours = phrase("full colours") if full else phrase("few colours (no COLORTERM): shapes say it too")
    return Look(
        "terminal",
        True,
        phrase("{columns} by {lines} cells, {colours}.", columns=size.columns, lines=size.lines, colours=colours),
    )
