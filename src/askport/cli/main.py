"""``askport``: the commands, and the one place where errors become a sentence and an exit status."""

import gc
import os
import signal
import sys
from contextlib import suppress
from importlib import import_module
from itertools import pairwise
from pathlib import Path
from types import FrameType
from typing import Annotated, Any

import typer

from askport import __version__
from askport.cli import opened_jobs, saying
from askport.core import phrases
from askport.core.errors import AskPortError
from askport.core.phrases import phrase, together
from askport.edges import languages, log

_COMMANDS = {
    "adapters": "adapters_command",
    "find": "finding",
    "read": "finding",
    "measure": "finding",
    "borrow": "borrowing",
    "restore": "borrowing",
    "door": "door_command",
    "console": "console_command",
    "crate": "crate_command",
    "blink": "blink",
    "identify": "identify",
    "station": "station_command",
    "reach": "reach_command",
    "assign": "assigning",
    "prove": "proving_command",
    "settings": "settings",
    "survey": "survey",
    "report": "report",
    "demo": "demo",
    "watch": "watch_command",
    "doctor": "doctor",
    "guide": "guide",
}
"""Each command with its module, which is loaded only where the command is named: a command must start at once."""

_GROUPS = ("crew", "job", "kinds", "plan", "register")
"""Commands with commands of their own, each with the module of its name."""
_WITHOUT_RIGHTS = frozenset({*_GROUPS, "report", "demo", "guide"})
"""Those that read and write files only: under sudo too, as whoever called it."""


_NONE = "none"
_WITH_VALUE = ("--job", "--log-level")
"""Options of the full screen that have a value behind them."""


def application(named: str | None = None) -> typer.Typer:
    """Return the command line with one command, or with all of them; with a name that is none, without any."""
    app = typer.Typer(
        add_completion=False,
        pretty_exceptions_enable=False,
        rich_markup_mode=None,
        help="Finds a device's unknown address on one cable, sets its final one, proves it, and gives the laptop back.",
    )
    app.callback(invoke_without_command=True)(start)
    for name, module in _COMMANDS.items():
        if named in (None, name):
            app.command(name)(getattr(import_module(f"askport.cli.{module}"), name))
    for group in _GROUPS:
        if named in (None, group):
            app.add_typer(import_module(f"askport.cli.{group}_command").app, name=group)
    return app


def _only_options(own: list[str]) -> bool:
    """Whether the full screen is all that is wanted, for which no command need be loaded."""
    words = [each for before, each in pairwise(["", *own]) if before not in _WITH_VALUE]
    return all(each.startswith("-") and each != "--help" for each in words)


_USAGE_ERROR: Any = typer.BadParameter.__base__
"""What Typer raises for wrong usage; it gives only this child of it a public name."""


def start(
    context: typer.Context,
    job: Annotated[Path | None, typer.Option("--job", help="The job file of the full screen.")] = None,
    on_adapter: Annotated[
        bool, typer.Option("--on-adapter", help="Of the full screen: borrow on the adapter itself, and not beside it.")
    ] = False,
    version: Annotated[bool, typer.Option("--version", help="Print the version and end.")] = False,
    log_level: Annotated[
        log.Level, typer.Option("--log-level", help="How much the log in the state directory tells.")
    ] = log.Level.INFO,
) -> None:
    """Start the full screen on this laptop's adapters, unless a command is named."""
    if version:
        print(f"askport {__version__}")
        raise typer.Exit
    log.set_level(log_level)
    if context.invoked_subcommand is None:
        from askport.cli.on_adapters import start_on_adapters

        start_on_adapters(job, on_adapter=on_adapter)


_AGAIN_S = 0.01
_NOT_IN_ORDER = frozenset({"keeper-gone", "keeper-silent", "not-given-back"})
"""Refusals after which somebody will want to know what was done before."""


def _interrupt(_: int, frame: FrameType | None) -> None:
    """End the program: at once, or right behind what asyncio is at.

    What is raised in the middle of that, as it tells a task that what it waits for has come, would have the task never
    hear of it, and so never end.
    """
    if frame and str(frame.f_globals.get("__name__")).startswith("asyncio."):
        from asyncio import get_running_loop

        with suppress(RuntimeError):  # none runs, or it is closed
            get_running_loop().call_soon_threadsafe(_end)
            return
    _end()


def _end() -> None:
    raise KeyboardInterrupt


def _ignored(unraisable: Any) -> None:
    """Ask for the end again where Python ignored it: what is raised in a weak reference's callback reaches nobody."""
    if unraisable.exc_type is KeyboardInterrupt:
        signal.setitimer(signal.ITIMER_REAL, _AGAIN_S)
    else:
        sys.__unraisablehook__(unraisable)


def _nobody_reads() -> saying.Status:
    """End well where whoever read our output has left: nothing more can be said to them."""
    os.dup2(os.open(os.devnull, os.O_WRONLY), sys.__stdout__.fileno() if sys.__stdout__ else 1)
    return saying.Status.DONE


def _say_help(command: Any) -> None:
    """Say what a command, its options and its commands are for as everything else is said."""
    for each in (command, *command.params):
        if getattr(each, "help", None):
            each.help = phrases.phrase(each.help)
    for each in getattr(command, "commands", {}).values():
        _say_help(each)


def run(arguments: list[str] | None = None) -> int:
    """Run one command and return its exit status. What stands behind ``--`` is left to the command as it is."""
    given = sys.argv[1:] if arguments is None else arguments
    os.environ.setdefault("PYDANTIC_DISABLE_PLUGINS", "__all__")  # looking for some takes longer than most commands
    own = given[: given.index("--")] if "--" in given else given
    # Ctrl-C too: asyncio would cancel the task instead, and one that ends at that moment would swallow it.
    for each in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP, signal.SIGALRM):
        signal.signal(each, _interrupt)
    sys.unraisablehook = _ignored
    saying.print_plain()
    phrases.speak(languages.chosen({} if "--json" in own else os.environ))  # what programs read is English
    named = next((each for each in own if each in _COMMANDS or each in (*_GROUPS, "--version")), None)
    if named is None and _only_options(own):
        named = _NONE
    try:
        if named in _WITHOUT_RIGHTS and os.geteuid() == 0 and "SUDO_UID" in os.environ:
            from askport.edges.invoker import drop_to_invoker

            drop_to_invoker()
        with opened_jobs.OPENED:
            gc.disable()  # while modules are loaded there is nothing to collect, and looking for it takes a tenth
            app = typer.main.get_command(application(named))
            gc.enable()
            _say_help(app)
            return int(app(own, standalone_mode=False, obj=given[len(own) + 1 :]) or 0)
    except AskPortError as error:
        log.wrong("refused", code=error.code, because=error.message)
        told = phrase("What was done is in {where}.", where=log.where())
        told = told if error.code in _NOT_IN_ORDER and log.where() else ""
        saying.say("askport: {message}", message=together(error.message, told))
        return error.exit_status
    except _USAGE_ERROR as error:
        saying.say("askport: {fault} ('askport --help' shows how.)", fault=" ".join(error.format_message().split()))
        return saying.Status.USAGE
    except (KeyboardInterrupt, typer.Abort):
        return saying.Status.INTERRUPTED
    except BrokenPipeError:
        return _nobody_reads()
    except SystemExit:
        # What Typer makes of the same before we see it, with a status of its own.
        if type(sys.stdout).__name__ != "PacifyFlushWrapper":
            raise
        return _nobody_reads()
    except Exception as error:
        if os.environ.get("ASKPORT_TRACEBACK"):
            raise
        log.begin()
        log.wrong("a fault of Ask Port itself", exc_info=True)
        told = phrase("Where it was is in {where}.", where=log.where()) if log.where() else ""
        what = f"{type(error).__name__}: {error}"
        fault = phrase("a fault of Ask Port itself ({what}). What was borrowed was given back.", what=what)
        saying.say("askport: {message}", message=together(fault, told))
        return saying.Status.MACHINE


def main() -> None:
    """Run as a program."""
    sys.exit(run())
