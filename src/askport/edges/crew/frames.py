"""The frames that are kept with a crew's lines: carried behind them, by their digest, as far as they are few enough."""

from collections.abc import Iterator
from dataclasses import dataclass
from hashlib import sha256

from sqlalchemy import Engine, func, select

from askport.core.register.chain import Line
from askport.core.register.entries import Kept
from askport.edges import jobfile, kept_frames
from askport.edges.crew.server import Server
from askport.edges.job_tables import CAPTURES, JOURNAL

_MAX_FRAMES, _MAX_ALL = 4_000_000, 200_000_000
"""Bytes: of one visit, and of a job."""


@dataclass(frozen=True, slots=True)
class _Frames:
    wanted: list[str]
    """The digests that the journal names."""
    sizes: dict[str, int]
    """Those that the file has, with their sizes."""


def _frames_in(engine: Engine) -> _Frames:
    with engine.connect() as connection:
        bodies = connection.execute(select(JOURNAL.c.body).where(JOURNAL.c.body.contains('"kind":"kept"'))).scalars()
        entries = [Line.model_construct(body=body).entry for body in bodies]
        sizes = {
            each[0]: each[1] for each in connection.execute(select(CAPTURES.c.sha256, func.length(CAPTURES.c.pcapng)))
        }
    return _Frames(list(dict.fromkeys(each.sha256 for each in entries if isinstance(each, Kept))), sizes)


def send_frames(server: Server, engine: Engine) -> int:
    """Send what the database lacks, and return how many there were; the file is only read.

    Raises:
        MachineRefused: the connection was lost.
    """
    here, sent = _frames_in(engine), 0
    for digest in server.lacks([each for each in here.wanted if here.sizes.get(each, _MAX_ALL) <= _MAX_FRAMES]):
        with engine.connect() as connection:
            found = connection.execute(select(kept_frames.CAPTURE).where(CAPTURES.c.sha256 == digest)).scalar()
        if found is not None:
            server.put_capture(digest, bytes(found))
            sent += 1
    return sent


def lacking_frames(server: Server, engine: Engine) -> Iterator[bytes]:
    """Yield what the file lacks and the database has, until the file has enough; each is what its digest says.

    Raises:
        MachineRefused: the connection was lost.
    """
    here = _frames_in(engine)
    held = sum(here.sizes.values())
    for digest in here.wanted:
        if digest in here.sizes or held >= _MAX_ALL:
            continue
        capture = server.capture(digest)
        if capture is not None and sha256(capture).hexdigest() == digest:
            held += len(capture)
            yield capture


def carry_frames(server: Server, job: jobfile.JobFile) -> int:
    """Carry what one has and the other lacks, and return how many there were.

    Raises:
        MachineRefused: the connection was lost, or the file cannot be written.
    """
    carried = send_frames(server, job.engine) if job.crew and job.crew.member else 0
    for capture in lacking_frames(server, job.engine):
        job.change(kept_frames.keeping(capture))
        carried += 1
    return carried
