"""The frames that are kept with a job, each capture by its digest."""

from hashlib import sha256

from sqlalchemy import Engine, Executable, LargeBinary, cast, insert, select

from askport.core.phrases import phrase
from askport.core.register.chain import Line
from askport.core.register.entries import Kept
from askport.edges.job_tables import CAPTURES, JOURNAL

CAPTURE = cast(CAPTURES.c.pcapng, LargeBinary)
"""The bytes of a capture, whatever type a damaged file says that they have."""


def keeping(capture: bytes) -> Executable:
    """Return what keeps a capture file by its digest."""
    digest = sha256(capture).hexdigest()
    return insert(CAPTURES).prefix_with("OR IGNORE").values(sha256=digest, pcapng=capture)


def frames_fault(engine: Engine, first: int, *, has_all: bool) -> str | None:
    """Say which frames do not fit the journal from a line on, or return None where all do.

    Args:
        has_all: whether the file must have all; in a crew's they come later than their lines.
    """
    with engine.connect() as connection:
        like = JOURNAL.c.body.contains('"kind":"kept"')
        bodies = connection.execute(select(JOURNAL.c.body).where(JOURNAL.c.number >= first, like)).scalars().all()
        entries = (Line.model_construct(body=body).entry for body in bodies)
        kept = {(entry.unit, entry.sha256) for entry in entries if isinstance(entry, Kept)}
        for unit, digest in sorted(kept):
            found = connection.execute(select(CAPTURE).where(CAPTURES.c.sha256 == digest)).scalar()
            if found is None and not has_all:
                continue
            if found is None or sha256(bytes(found)).hexdigest() != digest:
                return phrase("the frames kept of unit {unit} do not fit.", unit=unit)
    return None
