"""``askport watch``: a crew's site, live, without a cable."""

from contextlib import closing
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from askport.cli import full_screen, job_argument
from askport.core.errors import BadInput
from askport.core.phrases import phrase
from askport.core.text import display_text
from askport.edges.crew.reaching import is_url

if TYPE_CHECKING:
    from askport.edges.jobfile import JobFile
    from askport.tui.workplace import Workplace


def watch(
    url: Annotated[str, typer.Argument(metavar="URL", help="The crew's database, as libpq names it.")],
) -> None:
    """Show a crew's site live, in the office.

    Who is at what, the pace, and what is open.

    Example: askport watch "postgresql://office@server/site"
    """
    from askport.edges.jobfile import JobFile
    from askport.tui.app import AskPortApp

    if not is_url(url):
        raise BadInput(
            "'{url}' is not a database: give a crew's, such as postgresql://server/site.", url=display_text(url, 120)
        )
    full_screen.require_terminal()
    path: Path = job_argument.job_at(url)
    with closing(JobFile(path, create=True)) as job:
        app = AskPortApp(lambda: _workplace(job), first="askport.tui.screens.watch_screen:WatchScreen")
        try:
            full_screen.run_screen(app)
        finally:
            if app.workplace and app.workplace.run.crew:
                app.workplace.run.crew.close()


def _workplace(job: "JobFile") -> "Workplace":
    """Return a round over the site that no cable is in."""
    from askport.bench.bench import Bench
    from askport.core.addresses import NO_MAC
    from askport.edges.crew.beside_work import CrewBeside
    from askport.edges.crew.replica import have_written
    from askport.edges.job_run import JobRun
    from askport.edges.maker_table import maker
    from askport.tui.workplace import Workplace

    bench, plan = Bench(NO_MAC, pace=1.0), job.register.plan(job.path.stem)
    crew = CrewBeside(job, job.crew) if job.crew else None
    run = JobRun(
        wire=bench, adapter=bench, channels=bench.streams, own=(), job=job, work=tuple(plan.work()), sites=plan.sites,
        maker=maker, crew=crew,
    )  # fmt: skip
    if job.crew:
        run.lets_write = partial(have_written, job, job.crew.url)
    return Workplace(run=run, title=job.crew.site if job.crew else job.path.stem, place=phrase("the office"))
