"""Whether every line of a crew's job file is by the member whose it is said to be."""

from sqlalchemy import Engine

from askport.core.crew.seals import is_sealed
from askport.core.phrases import phrase
from askport.core.text import display_text
from askport.edges.crew import job_part
from askport.edges.job_tables import JOURNAL


def seals_fault(engine: Engine) -> str | None:
    """Say which line of a member none of its seals vouches for, or return None where each is sealed.

    A seal vouches for a line and all before it on its strand, as far as they are the same member's. Lines that the crew
    does not have yet have none.
    """
    with engine.connect() as connection:
        crew = job_part.crew_of(connection)
        if crew is None:
            return None
        keys = {each.name: each.key for each in job_part.members_in(connection)}
        vouched: dict[str, set[str]] = {}
        for seal in job_part.seals_in(connection):
            if not is_sealed(seal, keys.get(seal.member, ""), crew=crew):
                return phrase(
                    "the seal of {member} on its line {place} is not by its key.",
                    member=display_text(seal.member, 40),
                    place=seal.place,
                )
            vouched.setdefault(seal.head, set()).add(seal.member)
        unsealed = None
        lines = list(job_part.strand_lines(connection, JOURNAL.c.member.is_not(None)))
        for line in reversed(lines):
            if line.member in vouched.pop(line.hash, ()):
                vouched.setdefault(line.before, set()).add(line.member)
            else:
                unsealed = line
    return phrase("{name} is sealed by nobody.", name=unsealed.name) if unsealed else None
