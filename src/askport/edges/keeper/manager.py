"""Takes an adapter out of a network manager's hands through its own command, and gives it back."""

import subprocess
import time

_WAIT_S = 5.0


def _ask(*arguments: str) -> str:
    """Run NetworkManager's command, and return what it says, or nothing where it is absent or does not answer."""
    try:
        run = subprocess.run(["nmcli", *arguments], capture_output=True, text=True, timeout=_WAIT_S)  # noqa: S603, S607
    except (OSError, subprocess.TimeoutExpired):
        return ""
    return run.stdout.strip() if run.returncode == 0 else ""


def manages(adapter: str) -> bool:
    """Whether NetworkManager runs and has the adapter in its hands."""
    return _ask("-g", "GENERAL.NM-MANAGED", "device", "show", adapter) == "yes"


def take_out(adapter: str) -> None:
    """Have it leave the adapter alone until told otherwise, and wait until it does."""
    _ask("device", "set", adapter, "managed", "no")
    deadline = time.monotonic() + _WAIT_S
    while manages(adapter) and time.monotonic() < deadline:
        time.sleep(0.05)


def give_back(adapter: str) -> None:
    """Have it manage the adapter again."""
    _ask("device", "set", adapter, "managed", "yes")
