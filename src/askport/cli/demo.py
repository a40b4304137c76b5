"""``askport demo``: the practice bench with the demo scenario."""

from pathlib import Path
from typing import Annotated

import typer

from askport.bench.defaults import PACE, WIRES
from askport.cli.saying import Status
from askport.core.errors import BadInput


def demo(
    headless: Annotated[Path | None, typer.Option(metavar="DIR", help="Without a screen, into this directory.")] = None,
    pace: Annotated[float, typer.Option(help="How many times as fast as the clock.")] = PACE,
    first: Annotated[str, typer.Option(metavar="TAG", help="Which unit comes out of the crate first.")] = "",
    wire: Annotated[str, typer.Option(help="Where the cable is first: crate, twins (one switch) or house.")] = "crate",
) -> None:
    """Practise on made-up devices; needs no permissions.

    With --headless the whole example runs without a screen.

    Example: askport demo --first BL-01
    """
    if wire not in WIRES:
        raise BadInput(
            "'{wire}' is not a place for the cable in the demo: choose {wires}.", wire=wire, wires=", ".join(WIRES)
        )
    if headless is not None:
        import asyncio

        from askport.cli.headless import commission_all, prepare

        if not asyncio.run(commission_all(prepare(headless))):
            raise typer.Exit(Status.NO)
        return
    from askport.cli.full_screen import start_on_bench

    start_on_bench(pace, wire, first)
