"""What meeting a crew's database costs: with nothing new, from nothing, and for a screen that belongs to one."""

import asyncio
import os
import sys
import tempfile
import time
from collections.abc import Callable
from contextlib import closing
from datetime import timedelta
from pathlib import Path
from typing import Any

from askport.bench import scenario
from askport.bench.bench import Bench
from askport.core.register.entries import Entry
from askport.edges.crew import belonging, syncing
from askport.edges.crew.beside_work import CrewBeside
from askport.edges.crew.founding import found
from askport.edges.crew.server import Server
from askport.edges.job_run import JobRun
from askport.edges.jobfile import JobFile
from askport.tui.app import AskPortApp
from askport.tui.workplace import Workplace
from register import BEGAN, entries_of

sys.path.insert(0, str(Path(__file__).parents[1] / "tests"))

MEMBERS = int(os.environ.get("ASKPORT_CREW_MEMBERS", "10"))
DEVICES, LINES = 2_000, 10
"""Of each member, and about each device."""


def _spent(of: Callable[[], object]) -> float:
    began = time.perf_counter()
    of()
    return time.perf_counter() - began


def _written(path: Path, member: int) -> JobFile:
    job = JobFile(path, create=True)
    for first in range(0, DEVICES, 200):
        numbers = range(member * DEVICES + first, member * DEVICES + first + 200)
        entries: list[Entry] = [each for number in numbers for each in entries_of(number, LINES)]
        job.append_all(entries, BEGAN + timedelta(seconds=first))
    return job


async def _drawing(job: JobFile, beside: CrewBeside | None) -> float:
    """Return how long the screen of the job takes to draw, the shortest of many."""
    bench = Bench(scenario.LAPTOP_MAC, laptop=scenario.LAPTOP, pace=1.0)
    run = JobRun(wire=bench, adapter=bench, channels=bench.streams, own=scenario.LAPTOP, job=job, work=scenario.WORK,
                 sites=(scenario.SITE,), maker=scenario.maker, crew=beside)  # fmt: skip
    app = AskPortApp(lambda: Workplace(run=run, title="Many", place="bench"))
    async with app.run_test(size=(160, 47)) as pilot:
        await pilot.pause(1.0)
        screen: Any = app.screen
        return min(_spent(lambda: (run.meet_crew(), screen.draw())) for _ in range(60))


def meeting() -> None:
    """Print what a sync with nothing new and one from nothing cost."""
    from crew_database import Database  # type: ignore[import-not-found]

    with tempfile.TemporaryDirectory(prefix="askport-bench-") as folder:
        os.environ["XDG_DATA_HOME"] = f"{folder}/data"
        database = Database(Path(tempfile.mkdtemp(prefix="askport-pg-")))
        try:
            database.anew()
            found(database.url(), "Many")
            names = [f"m{member}" for member in range(MEMBERS)]
            database.sql(f"GRANT site_member TO anna, {', '.join(names)}")
            for member, name in enumerate(names):
                with (
                    closing(_written(Path(folder) / name, member)) as job,
                    closing(Server(database.url(name))) as server,
                ):
                    key = belonging.join(server, job, name)
                    while pushed := syncing.push(server, job.engine, job.crew, key):  # type: ignore[arg-type]
                        syncing.mark_pushed(job, job.crew, pushed)  # type: ignore[arg-type]
            with (
                closing(JobFile(Path(folder) / "late", create=True)) as late,
                closing(Server(database.url("anna"))) as server,
            ):
                key = belonging.join(server, late, "anna")
                catching_up = _spent(lambda: syncing.sync(server, late, key))
                lines = late.count
                reading = _spent(late.checked)
                trips = server.trips
                nothing = _spent(lambda: syncing.sync(server, late, key))
                trips = server.trips - trips
            drawn = []
            for belongs in (False, True):
                with closing(JobFile(Path(folder) / "late", create=True)) as job:
                    beside = CrewBeside(job, job.crew) if job.crew and belongs else None
                    drawn.append(asyncio.run(_drawing(job, beside)))
                    if beside:
                        beside.close()
        finally:
            database.remove()
    times = f"{catching_up / reading:.2f} times what reading and checking them in a local file takes"
    print(f"crew: {lines:,} lines of {MEMBERS} members from nothing in {catching_up:.1f} s, {times} ({reading:.1f} s)")
    print(f"crew: the screen of a job in it is drawn in {drawn[1] / drawn[0]:.2f} times the time of one alone")
    print(f"crew: a sync with nothing new is {trips} round trip{'s' if trips > 1 else ''}, {nothing * 1000:.0f} ms")
