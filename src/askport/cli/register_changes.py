"""``askport register note|tag|reopen|same|settle``: what is written behind the record; nothing in it is changed."""

from datetime import UTC, datetime
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from askport.cli import job_argument, opened_jobs, register_device
from askport.core import addresses, errors
from askport.core.phrases import phrase
from askport.core.plan.working_order import clean_tag
from askport.core.text import display_text

if TYPE_CHECKING:
    from askport.core.register.entries import Entry
    from askport.edges.jobfile import JobFile


def _open(job: Path) -> "JobFile":
    if not job.exists():
        raise errors.BadInput("There is no job file '{job}'.", job=display_text(str(job), 120))
    return opened_jobs.open_job(job, writes=True)


def _write(job: "JobFile", *entries: "Entry") -> None:
    job.append_all(entries, datetime.now(UTC))


def note(
    job: job_argument.Job,
    tag: register_device.Tag,
    text: Annotated[str, typer.Argument(help="What to note about it.")],
    photo: Annotated[str, typer.Option(help="The name of a photo's file.")] = "",
) -> None:
    """Add a note to a device.

    Example: askport register note site.askport BL-01 "cable behind the panel"
    """
    from askport.core.register.corrections import noted

    opened = _open(job)
    _write(opened, noted(register_device.device_of(opened, tag), text, photo))


def tag(
    job: job_argument.Job,
    tag: register_device.Tag,
    to: Annotated[str, typer.Argument(help="Its right tag.")],
) -> None:
    """Correct a device's tag.

    Example: askport register tag site.askport BL-01 BL-02
    """
    from askport.core.register.corrections import named

    opened = _open(job)
    _write(opened, named(register_device.device_of(opened, tag), to, opened.register.by_tag(clean_tag(to))))


def reopen(
    job: job_argument.Job,
    tag: register_device.Tag,
    because: Annotated[str, typer.Option("--because", help="Why.")],
) -> None:
    """Have a device commissioned again.

    Its record stays; only checks that are made from now on count.

    Example: askport register reopen site.askport BL-02 --because "wrong pump"
    """
    from askport.core.register.corrections import reopened

    opened = _open(job)
    _write(opened, reopened(register_device.device_of(opened, tag), because))


def same(
    job: job_argument.Job,
    tag: register_device.Tag,
    mac: Annotated[str, typer.Argument(help="The other MAC address of the same device.")],
) -> None:
    """Add a second MAC address to a device.

    For a device with two ports, or a new board.

    Example: askport register same site.askport BL-02 00:00:5e:00:53:21
    """
    from askport.core.register.entries import SameDevice

    opened = _open(job)
    row, other = register_device.device_of(opened, tag), addresses.MacAddress.parse(mac)
    if other in row.macs:
        raise errors.BadInput("{other} belongs to '{tag}' already.", other=other, tag=display_text(tag, 40))
    _write(opened, SameDevice(unit=row.last.unit, mac=row.mac, other=other))


def settle(
    job: job_argument.Job,
    number: Annotated[int, typer.Argument(help="Which one, as they are listed; without, all are listed.")] = 0,
    words: Annotated[str, typer.Option("--words", help="How it was resolved.")] = "",
) -> None:
    """List what two members say differently, or settle it.

    Example: askport register settle site.askport 1 --words "the label says so"
    """
    from askport.core.register.corrections import clean_remark
    from askport.core.register.entries import Settled
    from askport.edges.crew.job_part import stranger_words

    register = opened_jobs.open_job(job).register
    strangers = {stranger_words(each) for each in register.strangers()}
    conflicts = register.open_conflicts()
    if not number:
        for place, each in enumerate(conflicts, 1):
            print(f"{place}  {each}")
        if not conflicts:
            print(phrase("Nothing is open."))
        return
    if not 1 <= number <= len(conflicts):
        raise errors.BadInput(
            "There is no conflict {number}: 'askport register settle {job}' lists them.", number=number, job=job
        )
    if conflicts[number - 1] in strangers:
        raise errors.BadInput("To accept a member, use 'askport crew members JOB --accept NAME'.")
    if not words:
        raise errors.BadInput("Say how it was resolved with --words.")
    _write(_open(job), Settled(conflict=conflicts[number - 1], words=clean_remark(words)))
