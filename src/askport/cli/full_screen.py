"""Starts the full screen; Textual is reached only when it is called, and the rest when the first words stand there."""

import shutil
import sys
from typing import TYPE_CHECKING

from askport.cli.saying import Status, say
from askport.core.errors import MachineRefused
from askport.edges.terminal import end_with_terminal

if TYPE_CHECKING:
    from askport.tui.app import AskPortApp
    from askport.tui.workplace import Workplace


def start_on_bench(pace: float, wire: str = "crate", first: str = "") -> None:
    """Start the demo on the practice bench, with the cable where ``wire`` says and the unit that is named at hand."""
    from askport.tui.app import AskPortApp

    def begin() -> "Workplace":
        from askport.cli.practising import bench_workplace

        return bench_workplace(pace, wire, first)

    require_terminal()
    app = AskPortApp(begin)
    try:
        run_screen(app)
    finally:
        if app.workplace:
            tell_job(app.workplace)


def require_terminal() -> None:
    """Refuse where there is none.

    Raises:
        MachineRefused: what is written goes somewhere else.
    """
    if not (sys.stdin.isatty() and sys.stdout.isatty()):
        raise MachineRefused("The full screen needs a terminal: 'askport --help' lists the commands that do not.")


def tell_job(workplace: "Workplace") -> None:
    """Say where the job is; practice in which nothing was recorded leaves no file behind."""
    path = workplace.run.job.path
    if workplace.practice and not workplace.run.job.register.recorded_tags():
        shutil.rmtree(path.parent, ignore_errors=True)  # whoever tidies up there may have been first
        return
    if not workplace.run.job.count and workplace.run.job.crew is None:
        path.unlink(missing_ok=True)  # nothing was planned or found, so there is nothing to keep
        return
    say("Recorded in {path}: 'askport register list {path}' shows it.", path=path)


def run_screen(app: "AskPortApp") -> None:
    """Run the screen until it is left, and raise what ended it otherwise."""
    end_with_terminal(Status.INTERRUPTED)
    app.run()
    if app.fault:
        raise app.fault
    if app.was_interrupted:
        raise KeyboardInterrupt
