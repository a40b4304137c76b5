"""A round over the devices of the example, on the practice bench."""

from collections.abc import Sequence

from askport.bench import scenario
from askport.bench.bench import Bench
from askport.core.plan.working_order import WorkItem
from askport.edges.job_run import JobRun
from askport.edges.jobfile import JobFile
from askport.edges.kind_files import known_kinds


def bench_run(bench: Bench, job: JobFile, work: Sequence[WorkItem], unknown: str = "") -> JobRun:
    """Return a round over the example's devices, into a job that has its plan from now on.

    Args:
        bench: where they are.
        job: where it is written down.
        work: the devices, in working order.
        unknown: a kind of which nothing is known.
    """
    job.append_all(scenario.plan_entries(), bench.wall(0.0))
    return JobRun(
        wire=bench,
        adapter=bench,
        channels=bench.streams,
        own=scenario.LAPTOP,
        job=job,
        work=work,
        sites=(scenario.SITE,),
        maker=scenario.maker,
        kinds=[each.kind for each in known_kinds()[0] if each.path is None and each.kind.name != unknown],
    )
