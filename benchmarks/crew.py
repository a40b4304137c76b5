"""What meeting a crew's database costs: with nothing new, from nothing, and for a screen that belongs to one."""

import os
import sys
import tempfile
import time
from collections.abc import Callable
from contextlib import closing
from datetime import timedelta
from pathlib import Path

from askport.core.register.entries import Entry
from askport.edges.crew import belonging, syncing
from askport.edges.crew.founding import found
from askport.edges.crew.server import Server
from askport.edges.jobfile import JobFile
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


def meeting() -> None:
    """Print what a sync with nothing new and one from nothing cost."""
    from crew_database import Database  # type: ignore[import-not-found]

    partners = Path(sys.executable).parent.parent / "partners"
    with tempfile.TemporaryDirectory(prefix="askport-bench-") as folder:
        os.environ["XDG_DATA_HOME"] = f"{folder}/data"
        database = Database(Path(tempfile.mkdtemp(prefix="askport-pg-")), partners)
        try:
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
        finally:
            database.remove()
    times = f"{catching_up / reading:.2f} times what reading and checking them in a local file takes"
    print(f"crew: {lines:,} lines of {MEMBERS} members from nothing in {catching_up:.1f} s, {times} ({reading:.1f} s)")
    print(f"crew: a sync with nothing new is {trips} round trip{'s' if trips > 1 else ''}, {nothing * 1000:.0f} ms")
