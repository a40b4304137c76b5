"""The speed that two ends of a cable have agreed on."""

from pathlib import Path


def speed_of(adapter: str) -> int | None:
    """Return an adapter's speed in Mb/s, or None where it has no link or does not tell."""
    try:
        speed = int((Path("/sys/class/net") / adapter / "speed").read_text())
    except (OSError, ValueError):
        return None
    return speed if speed > 0 else None
