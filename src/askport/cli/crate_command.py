"""``askport crate``: all units of one kind on a small switch, one after the other, without anybody."""

import asyncio
import sys
from pathlib import Path
from typing import Annotated

import typer

from askport.cli import cable_run, on_cable, opened_jobs, passwords, saying
from askport.core.crate.cut_together import CutTogether
from askport.core.crate.switch_crate import SwitchCrate, Turn
from askport.core.errors import BadInput
from askport.core.phrases import listed, phrase
from askport.core.text import display_text
from askport.core.ways.log_in import LogIn
from askport.edges import files, job_run, jobfile, switch_run
from askport.edges.footing import Footing

_STEPS_EVERY_S = 0.1
_LOOKS_FOR_S = 12.0


def crate(
    adapter: Annotated[str, typer.Argument(help="The adapter that the switch is on.")],
    job: Annotated[Path, typer.Option(metavar="FILE", help="The job, with the plan.")],
    labels: Annotated[
        str | None,
        typer.Option(metavar="FILE", help="MAC address and tag of each unit, a line each; - for a barcode reader."),
    ] = None,
    in_order: Annotated[
        bool, typer.Option("--in-order", help="Tags by the order of MAC addresses, for units without a label.")
    ] = False,
    power_cycle: Annotated[
        bool, typer.Option("--power-cycle", help="Wait in the end for the power of all to be cut, and prove it.")
    ] = False,
    user: Annotated[str, typer.Option(help="Their log-in name.")] = "",
    password_from: passwords.PasswordOption = None,
    on_adapter: on_cable.OnAdapterOption = False,
    json: saying.JsonOption = False,
) -> None:
    """Set and prove all units on one switch, by their labels.

    Each is reached by its MAC address, and none is set without a tag. Exit status 1: one of
    them is not recorded, or with --power-cycle not proven.

    Example: askport crate enp3s0 --job site.askport --labels labels.txt --power-cycle
    """
    if not job.exists():
        raise BadInput(
            "There is no job file '{job}': make one with 'askport plan import'.", job=display_text(str(job), 120)
        )
    opened: list[jobfile.JobFile] = []
    log_in = LogIn(user, passwords.read_password(password_from, wanted=bool(user)))
    with (
        on_cable.open_cable(
            adapter, on_adapter=on_adapter, first=lambda: opened.append(opened_jobs.open_job(job, writes=True))
        ) as cable,
        on_cable.giving_back(cable),
    ):
        work, wrong = cable_run.run_on(cable, opened[0])
        for each in wrong:
            saying.say(each)
        work.log_ins.update((each.name, log_in) for each in work.kinds if each.asks_log_in and log_in.user)
        units = work.crate(cuts_power=power_cycle)
        if labels:
            _scan(units, labels)
        asyncio.run(_run(cable, work, units, in_order=in_order, cuts_power=power_cycle))
    rows = [
        {
            "tag": each.item.tag, "mac": str(each.mac), "by": each.by, "state": str(each.turn),
            "because": each.because or each.unmeasured,
        }
        for each in units.units
    ]  # fmt: skip
    if json:
        saying.put_json({"schema": "askport.crate/1", "units": rows})
    else:
        for row in rows:
            print(f"{row['tag']:12} {row['mac']}  {row['state']:9} {row['because']}".rstrip())
        print(units.sentence)
    wanted = Turn.PROVEN if power_cycle else Turn.RECORDED
    if not all(each.turn is wanted and not each.unmeasured for each in units.units):
        raise typer.Exit(saying.Status.NO)


def _scan(units: SwitchCrate, source: str) -> None:
    """Take in what is on the labels.

    Raises:
        BadInput: a line cannot be understood.
        MachineRefused: the file cannot be read.
    """
    shown = display_text(source, 120)
    if source == "-":
        if sys.stdin.isatty():
            saying.say("Scan the label of each unit, its MAC address and then its tag; Ctrl-D begins.")
        for line in sys.stdin:
            if line.strip():
                try:
                    saying.say(units.scan(line))
                except BadInput as error:
                    if not sys.stdin.isatty():
                        raise
                    saying.say(error.message)
        return
    lines = files.read_text(Path(source), phrase("with labels")).splitlines()
    for number, line in enumerate(lines, 1):
        try:
            if line.strip():
                units.scan(line)
        except BadInput as error:
            raise BadInput(
                "'{shown}', line {number}: {message}", shown=shown, number=number, message=error.message
            ) from None


async def _run(cable: Footing, work: job_run.JobRun, units: SwitchCrate, *, in_order: bool, cuts_power: bool) -> None:
    if in_order or units.knows_macs:
        await _look(cable, work, units, in_order=in_order)
    if not units.units and units.done_before:
        return
    if not units.units:
        raise BadInput("No unit has a tag: give their MAC addresses in the plan, or with --labels, or use --in-order.")
    going, said = switch_run.SwitchRun(work, units, cuts_power=cuts_power), list[str]()
    while not going.is_over:
        cable.keeper.require_alive()
        cable.wire.require_present()
        going.step()
        if going.cut and going.cut.is_unsure:
            _ask(going.cut, cable.wire.now())
        for each in going.said:
            if each not in said:
                saying.say(each)
        said = going.said
        await work.driver.run(until=lambda: False, longest_until=cable.wire.now() + _STEPS_EVERY_S)


def _ask(cut: CutTogether, now: float) -> None:
    """Ask whether the power of those was cut of which nothing shows it; where nobody says so, it was not shown."""
    if saying.was_pulled(phrase("{unsure} showed no restart. Did all of them lose power?", unsure=listed(cut.unsure))):
        cut.confirm(now)
    else:
        cut.leave_out()


async def _look(cable: Footing, work: job_run.JobRun, units: SwitchCrate, *, in_order: bool) -> None:
    """Hear who is there: those that the plan knows have their tags, twins get the next ones where that is wanted."""
    finder = on_cable.finder_on(cable, measures=False)
    finder.greet(cable.wire.now())
    kinds = [each.delivered.interface.ip for each in work.kinds if each.delivered.interface]
    planned = [each.target.interface.ip for each in work.work if each.target]
    delivered = [each.delivered.ip for each in work.work if each.delivered]
    finder.call(dict.fromkeys([*kinds, *delivered, *planned]), now=cable.wire.now())
    await on_cable.run(finder, cable, _LOOKS_FOR_S)
    units.hears(finder.devices())
    twins = [mac for each in finder.hazards() if each.code == "duplicate-address" for mac in each.macs]
    for unit in units.in_order(twins) if in_order else ():
        saying.say(
            "{mac} becomes {tag}, by MAC order only: check which unit is installed where.",
            mac=unit.mac,
            tag=unit.item.tag,
        )
