"""Opening a page in the technician's own browser, without giving the terminal out of hand."""

import os
import shutil
import subprocess

_OPENERS = ("xdg-open", "gio", "open")


def open_page(url: str) -> bool:
    """Have a browser with a window of its own show a page; return whether one could be started.

    A browser that would take over the terminal, as text browsers do, is none: the full screen stands there.
    """
    if not (os.environ.get("DISPLAY") or os.environ.get("WAYLAND_DISPLAY")):
        return False
    opener = next(filter(None, map(shutil.which, _OPENERS)), None)
    if opener is None:
        return False
    command = [opener, *(["open"] if opener.endswith("gio") else []), url]
    try:
        subprocess.Popen(  # noqa: S603 - an address of our own, by the desktop's opener
            command, stdin=subprocess.DEVNULL, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
            start_new_session=True,
        )  # fmt: skip
    except OSError:
        return False
    return True
