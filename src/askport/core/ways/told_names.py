"""What a plan calls a device on its network, in the column that a way tells it from."""

from collections.abc import Mapping

from askport.core.protocols import PROTOCOLS


def told_name(way: str, columns: Mapping[str, str]) -> str:
    """Return what a way tells a device to be called, or nothing."""
    known = PROTOCOLS.get(way)
    heads = known.name_heads if known else ()
    return next((text.strip() for head, text in columns.items() if head.strip().casefold() in heads), "")
