"""A device in a few words."""

from askport.core.finding.device import Device


def device_words(device: Device, maker: str | None) -> str:
    """Return the maker of a device and what it calls itself."""
    names = list(dict.fromkeys(name for name, _ in device.names))[:2]
    called = f", calls itself {' and '.join(names)}" if names else ""
    return f"{maker or 'maker unknown'}{called}"
