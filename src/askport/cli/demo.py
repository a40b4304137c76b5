"""``askport demo``: the practice bench with the demo scenario."""

import asyncio
from pathlib import Path
from typing import Annotated

import typer

from askport.cli.talk import Status
from askport.core.errors import BadInput

PACE = 4.0
"""The demo runs four times as fast as the clock: boots take seconds, and everything can still be watched."""

_WIRES = ("crate", "twins", "house")


def demo(
    headless: Annotated[Path | None, typer.Option(metavar="DIR", help="Without a screen, into this directory.")] = None,
    pace: Annotated[float, typer.Option(help="How many times as fast as the clock.")] = PACE,
    wire: Annotated[str, typer.Option(help="Where the cable is first: crate, twins (one switch) or house.")] = "crate",
) -> None:
    """Practise on stand-in devices; needs no permissions."""
    if wire not in _WIRES:
        raise BadInput(f"'{wire}' is no place for the cable in the demo: choose {', '.join(_WIRES)}.")
    if headless is not None:
        from askport.cli.headless import commission_all, prepare

        if not asyncio.run(commission_all(prepare(headless))):
            raise typer.Exit(Status.NO)
        return
    from askport.cli.full_screen import start_on_bench

    start_on_bench(pace, wire)
