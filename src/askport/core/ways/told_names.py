"""What a plan calls a device on its network, in the column that a way tells it from."""

from collections.abc import Mapping

_HEADS = {"dcp": ("station name", "name of station", "profinet name"), "cip": ("host name", "hostname")}
"""How such columns are headed, by the names of the ways."""


def told_name(way: str, columns: Mapping[str, str]) -> str:
    """Return what a way tells a device to be called, or nothing."""
    heads = _HEADS.get(way, ())
    return next((text.strip() for head, text in columns.items() if head.strip().casefold() in heads), "")
