"""A crew's database read as a job file: a copy that is brought up to date whenever it is opened.

Who has the database's word only reads. What is changed in it (the plan, a note) is written as a member's lines, with a
key of this computer's own, and goes to the database when the command ends.
"""

import contextlib
from contextlib import closing
from pathlib import Path

from platformdirs import user_data_path

from askport.core import errors, text
from askport.core.phrases import phrase
from askport.edges.crew import belonging, frames, job_part, own_key, schema, syncing
from askport.edges.crew.server import Server
from askport.edges.jobfile import JobFile

_MAX_NAME = 60


def replica_of(url: str) -> tuple[Path, list[str]]:
    """Return a job file with all that a crew's database has, and a sentence for each thing that is not believed.

    Raises:
        BadInput: there is no crew there.
        MachineRefused: it is not reached, and there is no copy of it either.
    """
    with closing(Server(url)) as server:
        about = server.news(belonging.NEWEST)
        whose = user_data_path("askport") / "crews" / about.crew / _plain(server.login())
        path = whose / f"{_plain(about.site)}.askport"
        path.parent.mkdir(mode=0o700, parents=True, exist_ok=True)
        try:
            job = JobFile(path, create=True)
        except errors.MachineRefused as error:
            if error.code != "job-in-use":
                raise
            return path, []  # another run has it open, and keeps it up to date
        with closing(job):
            if job.crew is None:
                belonging.look_on(server, job)
            elif job.crew.url != url:
                belonging.move(server, job)
            crew = job.crew
            key = own_key.key_of(crew.crew, crew.member) if crew and crew.member else None
            done = syncing.sync(server, job, key)
            frames.carry_frames(server, job)
        return path, [str(each) for each in done.wrong]


def _plain(name: str) -> str:
    """Return a name as a file can have it."""
    return "".join(each if each.isalnum() or each in "-_" else "-" for each in name)[:_MAX_NAME] or "site"


def have_written(job: JobFile, url: str) -> None:
    """See, before anything is written into such a copy, that it is written as a member.

    Raises:
        Refused: this login may only read.
        MachineRefused: the database is not reached.
    """
    if job.crew and job.crew.member:
        return
    with closing(Server(url)) as server:
        login = server.login()
        taken = {each.name for each in server.news(belonging.NEWEST).members}
        names = [
            f"{login} (office)",
            *(phrase("{login} (office {number})", login=login, number=number) for number in range(2, 100)),
        ]
        try:
            belonging.join(server, job, next(each for each in names if each not in taken))
        except errors.Refused as error:
            raise errors.Refused(
                "'{login}' may only read this crew. {LET_IN} ({message})",
                login=text.display_text(login, 40),
                LET_IN=schema.LET_IN,
                message=error.message,
            ) from None


def bring_back(path: Path, url: str) -> None:
    """Push what was written into such a copy.

    Raises:
        AskPortError: it is not reached, or does not take it; the lines wait in the copy for the next time.
    """
    with contextlib.ExitStack() as opened:
        job = opened.enter_context(closing(JobFile(path, create=True)))
        with job.engine.connect() as connection:
            waits = job_part.waiting(connection)
        if job.crew and job.crew.member and waits:
            server = opened.enter_context(closing(Server(url)))
            syncing.sync(server, job, own_key.key_of(job.crew.crew, job.crew.member), digest=False)
