"""Sets up the practice bench with the demo scenario for the full screen."""

import tempfile
from pathlib import Path

from askport.bench import scenario
from askport.bench.bench import Bench
from askport.bench.practice import Practice
from askport.cli.bench_run import bench_run
from askport.core import errors, text
from askport.core.phrases import phrase
from askport.core.plan.working_order import WorkItem
from askport.edges.jobfile import JobFile
from askport.tui.workplace import Workplace


def bench_workplace(pace: float, wire: str = "crate", first: str = "") -> Workplace:
    """Set up the demo, with the cable where ``wire`` says; its job file is kept in a directory of its own."""
    bench = Bench(scenario.LAPTOP_MAC, laptop=scenario.LAPTOP, pace=pace)
    practice = Practice(bench)
    work = _beginning_with(first)
    practice.take(work[0])
    practice.move(wire)
    job = JobFile(Path(tempfile.mkdtemp(prefix="askport-demo-")) / "demo.askport", create=True)
    return Workplace(
        run=bench_run(bench, job, work),
        title=scenario.SITE.name,
        place=phrase("practice bench, {pace:g}x", pace=pace),
        practice=practice,
    )


def _beginning_with(tag: str) -> tuple[WorkItem, ...]:
    """Return the work list with one unit first, the others in their order behind it.

    Raises:
        BadInput: there is no such unit.
    """
    all_of_them = [each.work for each in scenario.UNITS]
    named = [item for item in all_of_them if item.tag == tag]
    if tag and not named:
        tags = ", ".join(item.tag for item in all_of_them)
        raise errors.BadInput(
            "There is no unit '{tag}' in the crate: choose {tags}.", tag=text.display_text(tag, 40), tags=tags
        )
    return (*named, *(item for item in scenario.WORK if item not in named))
