"""``askport demo``: the practice bench with the demo scenario."""

import asyncio
from pathlib import Path
from typing import Annotated

import typer

from askport.cli.talk import Status

PACE = 4.0
"""The demo runs four times as fast as the clock: boots take seconds, and everything can still be watched."""


def demo(
    headless: Annotated[Path | None, typer.Option(metavar="DIR", help="Without a screen, into this directory.")] = None,
    pace: Annotated[float, typer.Option(help="How many times as fast as the clock.")] = PACE,
) -> None:
    """Practise on stand-in devices; needs no permissions."""
    if headless is not None:
        from askport.cli.headless import commission_all, prepare

        if not asyncio.run(commission_all(prepare(headless))):
            raise typer.Exit(Status.NO)
        return
    from askport.cli.full_screen import start_on_bench

    start_on_bench(pace)
