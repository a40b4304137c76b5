"""What the full screen is started with."""

from dataclasses import dataclass

from askport.bench.practice import Practice
from askport.edges.job_run import JobRun
from askport.edges.transports.tcp_socket import Sockets


@dataclass(frozen=True, slots=True, kw_only=True)
class Workplace:
    """A round of devices, and the practice hands where it is one on the bench."""

    run: JobRun
    title: str
    """The job, at the top left."""
    place: str
    """Where this is: the practice bench with its pace, or the adapter."""
    practice: Practice | None = None
    over: Sockets | None = None
    """What gives sockets that go over the cable; none on the practice bench."""
    notes: tuple[str, ...] = ()
    """What is to be said at the start: kind files that cannot be used, say."""
