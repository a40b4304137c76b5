"""Starts the full screen; the only command module that reaches Textual, and only when it is called."""

from pathlib import Path


def start_on_bench(pace: float) -> None:
    """Start the demo."""
    raise NotImplementedError


def start_on_adapters(job: Path | None) -> None:
    """Start on this laptop's adapters."""
    raise NotImplementedError
