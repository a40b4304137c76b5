"""Takes an adapter out of a network manager's hands through its own command, and gives it back.

dhcpcd needs no asking: it never touches an address that is not its own, but puts its own back, so with it in charge
nothing is borrowed instead of what is there.
"""

import subprocess
import time
from pathlib import Path

DHCPCD = "dhcpcd"
_NMCLI, _NETWORKCTL = "/usr/bin/nmcli", "/usr/bin/networkctl"
_CLEAN = {"PATH": "/usr/sbin:/usr/bin:/sbin:/bin", "LC_ALL": "C"}
_WAIT_S = 5.0
_IN_ITS_HANDS = {
    "NetworkManager": ([_NMCLI, "-g", "GENERAL.NM-MANAGED", "device", "show"], ("yes",)),
    "systemd-networkd": ([_NETWORKCTL, "list", "--no-legend"], ("configuring", "configured", "failed")),
}
"""What asks each about one adapter, and what the last word of its answer is where it has it in its hands."""


def _ask(*command: str) -> str | None:
    """Run a manager's command, and return what it says, or None where it is absent or refuses."""
    try:
        run = subprocess.run(command, capture_output=True, text=True, timeout=_WAIT_S, env=_CLEAN)  # noqa: S603
    except (OSError, subprocess.TimeoutExpired):
        return None
    return run.stdout.strip() if run.returncode == 0 else None


def of(adapter: str) -> str | None:
    """Return the program that has the adapter in its hands (networkctl(1), nmcli(1), dhcpcd(8))."""
    for name, (command, yes) in _IN_ITS_HANDS.items():
        if (_ask(*command, adapter) or "").endswith(yes):
            return name
    alone = Path("/run/dhcpcd") / f"{adapter}.pid"
    return DHCPCD if alone.exists() or (alone.parent / "pid").exists() else None


def take_out(manager: str, adapter: str) -> bool:
    """Have it leave the adapter alone until told otherwise; say whether it does."""
    _hand(manager, adapter, managed=False)
    deadline = time.monotonic() + _WAIT_S
    while of(adapter) == manager and time.monotonic() < deadline:
        time.sleep(0.05)
    return of(adapter) != manager


def give_back(manager: str, adapter: str) -> str | None:
    """Have it manage the adapter again; return why it does not, or None where it does."""
    return None if _hand(manager, adapter, managed=True) else f"{manager} does not take it back"


def _hand(manager: str, adapter: str, *, managed: bool) -> bool:
    if manager == "NetworkManager":
        return _ask(_NMCLI, "device", "set", adapter, "managed", "yes" if managed else "no") is not None
    rule = Path("/run/systemd/network") / f"00-askport-{adapter}.network"  # systemd.network(5), gone with a restart
    try:
        if managed:
            rule.unlink(missing_ok=True)
        else:
            rule.parent.mkdir(exist_ok=True)
            rule.write_text(f"[Match]\nName={adapter}\n[Link]\nUnmanaged=yes\n")
    except OSError:
        return False
    return _ask(_NETWORKCTL, "reload") is not None
