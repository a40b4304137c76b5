"""A crew as one member's file has it, to fill a database with that has lost it."""

from collections.abc import Iterator

from sqlalchemy import select

from askport.core.crew.strands import StrandLine
from askport.core.errors import BadInput
from askport.core.text import display_text
from askport.edges.crew import founding, job_part
from askport.edges.job_tables import CAPTURES, JOURNAL
from askport.edges.jobfile import JobFile


def filling_of(job: JobFile) -> founding.Filling:
    """Return all that a database is filled with; what the file's own member has not pushed yet follows by itself.

    Raises:
        BadInput: it belongs to no crew.
    """
    if job.crew is None:
        raise BadInput(
            "'{path}' belongs to no crew: there is nothing to fill it with.", path=display_text(str(job.path), 120)
        )
    with job.engine.connect() as connection:
        lines = {each.hash: each for each in job_part.strand_lines(connection, JOURNAL.c.member.is_not(None))}
        pushes, given = [], set[str]()
        for seal in job_part.seals_in(connection):
            run: list[StrandLine] = []
            at: str | None = seal.head
            while at in lines and at not in given and lines[at].member == seal.member:
                run.append(lines[at])
                given.add(at)
                at = lines[at].before
            pushes.append((seal, run[::-1]))
        members = job_part.members_in(connection)

    def captures() -> Iterator[tuple[str, bytes]]:
        with job.engine.connect() as connection:
            yield from connection.execute(select(CAPTURES))

    return founding.Filling(job.crew.crew, members, pushes, captures())
