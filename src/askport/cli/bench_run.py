"""A round over the devices of the example, on the practice bench."""

from collections.abc import Sequence

from askport.bench import scenario
from askport.bench.bench import Bench
from askport.core.plan.working_order import WorkItem
from askport.edges import job_run, jobfile, kind_files


def bench_run(bench: Bench, job: jobfile.JobFile, work: Sequence[WorkItem], unknown: str = "") -> job_run.JobRun:
    """Return a round over the example's devices, into a job that has its plan from now on.

    Args:
        bench: where they are.
        job: where it is written down.
        work: the devices, in working order.
    """
    job.append_all(scenario.plan_entries(), bench.wall(0.0))
    return job_run.JobRun(
        wire=bench,
        adapter=bench,
        channels=bench.streams,
        own=scenario.LAPTOP,
        job=job,
        work=work,
        sites=(scenario.SITE,),
        maker=scenario.maker,
        kinds=[each.kind for each in kind_files.known_kinds()[0] if each.path is None and each.kind.name != unknown],
    )
