"""A round of devices on a real cable, with the job's plan and the kinds that are known."""

from collections.abc import Sequence
from typing import TYPE_CHECKING

from askport.core.plan.site_plan import remaining
from askport.core.wire import Heard
from askport.edges.crew.job_part import block_of
from askport.edges.footing import Footing
from askport.edges.job_run import JobRun
from askport.edges.jobfile import JobFile
from askport.edges.kind_files import KindShelf
from askport.edges.maker_table import maker
from askport.edges.streams import Streams

if TYPE_CHECKING:
    from askport.edges.crew.beside_work import CrewBeside


def run_on(
    cable: Footing, job: JobFile, *, heard: Sequence[Heard] = (), began_at: float | None = None, meets: bool = False
) -> tuple[JobRun, list[str]]:
    """Return a round over the devices of a job that are not recorded yet, and what is wrong with kind files.

    Args:
        cable: where the laptop stands.
        job: where it is written down.
        began_at: since when it was listened on, in the wire's time; None for now.
        meets: whether it meets its crew beside the work, and not only when the job is closed.
    """
    shelf = KindShelf(job.path)
    plan = job.register.plan(job.path.stem)
    left = [address for address, _, _ in job.register.left()]
    run = JobRun(
        wire=cable.wire,
        adapter=cable,
        channels=Streams(cable, cable.wire.wake),
        own=cable.own,
        job=job,
        work=tuple(remaining(plan, job.register.recorded_tags(), left, block_of(job))),
        sites=plan.sites,
        maker=maker,
        kinds=shelf.kinds(),
        heard=heard,
        began_at=began_at,
        crew=_crew_of(job) if meets else None,
    )
    run.kinds_now = shelf.kinds
    return run, shelf.wrong


def _crew_of(job: JobFile) -> "CrewBeside | None":
    """Return what keeps a job and its crew together; what that needs is loaded where there is one."""
    if job.crew is None:
        return None
    from askport.edges.crew.beside_work import CrewBeside

    return CrewBeside(job, job.crew)
