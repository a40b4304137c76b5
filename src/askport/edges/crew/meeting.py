"""One short meeting with the crew's database at the end of a command."""

from contextlib import closing

from askport.core.errors import AskPortError
from askport.core.phrases import phrase
from askport.edges.crew import job_part, own_key, syncing
from askport.edges.crew.server import Server
from askport.edges.jobfile import JobFile


def meet_at_end(job: JobFile) -> str:
    """Push what was written and read what is new; return what is to be said about it, or nothing."""
    crew = job.crew
    if crew is None or not crew.member:
        return ""
    with job.engine.connect() as connection:
        waits = job_part.waiting(connection)
    if not waits:
        return ""
    try:
        with closing(Server(crew.url)) as server:
            done = syncing.sync(server, job, own_key.key_of(crew.crew, crew.member), digest=False)
    except AskPortError as error:
        lines = phrase("1 line waits") if waits == 1 else phrase("{waits} lines wait", waits=waits)
        return phrase("{lines} for the crew. {message}", lines=lines, message=error.message)
    return f"! {done.wrong[0]}" if done.wrong else ""
