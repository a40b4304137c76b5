"""Starts the full screen; the only command module that reaches Textual, and only when it is called."""

import tempfile
from pathlib import Path

from askport.bench import scenario
from askport.bench.bench import Bench
from askport.bench.practice import Practice
from askport.cli.talk import say
from askport.core.errors import MachineRefused
from askport.edges.jobfile import JobFile
from askport.edges.round import Round
from askport.tui.app import AskPortApp
from askport.tui.outfit import Outfit


def start_on_bench(pace: float) -> None:
    """Start the demo on the practice bench; its job file is kept in a directory of its own."""
    bench = Bench(scenario.LAPTOP_MAC, laptop=scenario.LAPTOP, pace=pace)
    practice = Practice(bench)
    practice.take(scenario.WORK[0])
    job = Path(tempfile.mkdtemp(prefix="askport-demo-")) / "demo.askport"
    tour = Round(
        wire=bench,
        adapter=bench,
        own=scenario.LAPTOP,
        job=JobFile(job, create=True),
        work=scenario.WORK,
        site=scenario.SITE,
        maker=scenario.maker,
    )
    place = f"practice bench, {pace:g}x"
    _run(Outfit(round=tour, title=scenario.SITE.name, place=place, practice=practice))
    say(f"The register of this practice is in {job}: 'askport register list {job}' shows it.")


def start_on_adapters(job: Path | None) -> None:
    """Start on this laptop's adapters."""
    raise MachineRefused("TODO")


def _run(outfit: Outfit) -> None:
    app = AskPortApp(outfit)
    app.run()
    if app.fault:
        raise app.fault
