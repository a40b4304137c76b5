"""The job that a command records in: the same entries as the screen writes."""

from collections.abc import Callable
from datetime import datetime
from ipaddress import IPv4Address
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

if TYPE_CHECKING:
    from askport.core.register.entries import Entry
    from askport.edges.jobfile import JobFile

from askport.cli.opened_jobs import open_job
from askport.core.addresses import MacAddress
from askport.core.finding.device import Device
from askport.core.plan.working_order import clean_tag
from askport.edges.maker_table import maker

JobOption = Annotated[Path | None, typer.Option("--job", help="The job file to record it in.")]
TagOption = Annotated[str, typer.Option("--tag", help="The device's tag in the job.")]


class Record:
    """Writes into the job that was named, or nowhere."""

    def __init__(self, path: Path | None, tag: str = "") -> None:
        """Prepare to write.

        Raises:
            BadInput: the text is no tag.
        """
        self._path, self._tag = path, clean_tag(tag) if tag else ""
        self._job: JobFile | None = None
        self._goes_on = False
        self.unit = 1

    def open(self) -> None:
        """Open the job as whoever called, and try to write it, before anything is changed.

        Raises:
            BadInput: the file is no job.
            MachineRefused: it cannot be written.
        """
        if self._path:
            self._job = open_job(self._path, writes=True)

    def planned_columns(self) -> dict[str, str]:
        """Return what else the job's plan says of the device with this tag, by the heads of its columns.

        Raises:
            BadInput: the file is no job.
            MachineRefused: it cannot be read.
        """
        if not (self._path and self._tag and self._path.exists()):
            return {}
        planned = open_job(self._path).register.planned(self._tag)
        return planned.columns if planned else {}

    def known_key(self, mac: MacAddress) -> str | None:
        """Return the key that the device's console or page showed the last time, where the job has it."""
        if self._job is None:
            return None
        row = self._job.register.by_mac(mac)
        return row.key if row else None

    def take(self, mac: MacAddress, *, goes_on: bool) -> None:
        """Number the visit of a device; this may go on with one that was begun and not closed."""
        if self._job is None:
            return
        row = self._job.register.by_mac(mac)
        self._goes_on = bool(row and goes_on and not row.visits[-1].recorded_at)
        self.unit = row.visits[-1].unit if row and self._goes_on else self._job.new_unit()

    def visit(self, mac: MacAddress, device: Device | None, wall: Callable[[float], datetime], now: float,
              *, named_at: IPv4Address | None = None) -> None:  # fmt: skip
        """Write down that a device is on the cable, as it was found.

        Args:
            device: what was heard of it before anything was set, or None where nothing was.
            wall: turns the wire's time into the time of day.
            named_at: where somebody said that it is, and it answered there.
        """
        if self._job is None:
            return
        if not self._goes_on:
            self._found(self._job, mac, device, wall, now, named_at)

    def _found(self, job: "JobFile", mac: MacAddress, device: Device | None, wall: Callable[[float], datetime],
               now: float, named_at: IPv4Address | None) -> None:  # fmt: skip
        from askport.core.register import writing
        from askport.core.register.entries import NAMED, UNHEARD, Found, Named

        row = job.register.by_mac(mac)
        tag = self._tag or (row.tag if row else "")
        if device:
            entry, frames = writing.found(device, unit=self.unit, tag=tag, maker=maker(mac))
        else:
            entry = Found(unit=self.unit, tag=tag, mac=mac, maker=maker(mac), address=None, belief=UNHEARD, because=())
            frames = ()
        if named_at and entry.address is None:
            entry = entry.model_copy(update={"address": named_at, "belief": NAMED})
        at = wall(now)
        job.append(entry, at)
        if frames:
            job.keep(self.unit, [(wall(each.at), each.data) for each in frames])
        if row and self._tag and row.tag != self._tag:
            job.append(Named(unit=self.unit, mac=mac, tag=self._tag), at)

    def write(self, entry: "Entry", at: datetime) -> None:
        """Append an entry as it happens; the visit has begun."""
        if self._job:
            self._job.append(entry, at)
