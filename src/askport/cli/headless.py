"""The whole example without a screen: a practised technician at the bench, who says what is done."""

import re
from collections.abc import Callable
from ipaddress import IPv4Network
from pathlib import Path

from askport.bench import scenario
from askport.bench.bench import Bench
from askport.bench.more_devices import LOG_IN
from askport.bench.page_device import PageDevice
from askport.cli import opened_jobs, report
from askport.cli.bench_run import bench_run
from askport.core import errors, protocols
from askport.core.finding.beliefs import AddressBelief
from askport.core.finding.finder import Finder
from askport.core.finding.loudness import Loudness
from askport.core.kinds.kind_reading import read_kind
from askport.core.lessons import drafting, page_lesson
from askport.core.lessons.marks import Marks
from askport.core.phrases import phrase
from askport.core.visit import narrate, practised, steps
from askport.core.ways.log_in import LogIn
from askport.edges import driver, files, job_run

_PATIENCE_S = 1200.0
"""Virtual seconds for one device, boots and power cycles included."""
_LOOK_S = 8.0
_UNKNOWN = "oxygen probe head"
"""The kind of which no file is known in this example: its first unit is set by hand, and the others by what that
taught."""
_HANDS_S = 3.0
"""Between one handling of the device and the next."""


def prepare(directory: Path) -> Path:
    """Make the directory and return where the job file goes.

    Raises:
        BadInput: the directory holds a job already.
        MachineRefused: the directory cannot be made.
    """
    try:
        directory.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise errors.MachineRefused(
            "'{directory}' cannot be made: {why}.", directory=directory, why=error.strerror
        ) from None
    path = directory / "demo.askport"
    if path.exists():
        raise errors.BadInput(
            "'{path}' exists already: give a directory without one, so that nothing is mixed up.", path=path
        )
    return path


async def commission_all(path: Path) -> bool:
    """Commission every device of the scenario into a job file, and write the register beside it.

    Returns:
        Whether all were proven.

    Raises:
        MachineRefused: the register cannot be written.
    """
    directory = path.parent
    bench = Bench(scenario.LAPTOP_MAC, laptop=scenario.LAPTOP)
    bench.plug(scenario.stand_in(scenario.WORK[0].tag))
    run = bench_run(bench, opened_jobs.open_job(path, writes=True), scenario.WORK, unknown=_UNKNOWN)
    run.log_ins |= dict.fromkeys(("managed switch", protocols.PROTOCOLS["onvif"].log_in_as), LogIn(*LOG_IN))
    print(phrase("{name}, practice bench, {count} devices", name=scenario.SITE.name, count=len(scenario.WORK)))
    await _look_around()
    while True:
        await Technician(bench, run).commission()
        _learn(bench, run, directory)
        if run.is_over or run.session.phase is not steps.Phase.RECORDED:
            break
        bench.plug()
        run.next_device()
        bench.plug(scenario.stand_in(run.item.tag))
    rows = run.job.checked()
    report.write_reports(run.job, scenario.SITE.name, directory, [])
    proven = [row.tag for row in rows if row.is_proven]
    print(
        phrase(
            "Proven: {proven}. The handover is in {directory}.", proven=", ".join(proven) or "none", directory=directory
        )
    )
    return len(proven) == len(scenario.WORK)


def _learn(bench: Bench, run: job_run.JobRun, directory: Path) -> None:
    """Keep what was learned from the first unit of a kind that nobody knows, for the others."""
    device, unit = run.session.device, bench.device
    done = run.job.register.recorded_tags()
    alike = [each for each in run.work if each.description == device.work.description and each.tag not in done]
    if device.kind or not alike or not isinstance(unit, PageDevice) or not unit.passed or device.chosen is None:
        return
    old, tag = device.old_address, device.work.tag
    lesson = page_lesson.learn(unit.passed, present=old, target=device.target, name=tag) if old else None
    if lesson is None or lesson.why_not:
        return
    day = bench.wall(bench.now()).date()
    text = drafting.draft(
        lesson, name=phrase("{description}, as learned", description=device.work.description),
        marks=Marks(device.chosen.mac), secure=False, port=80,
        after_restart=False, learned=phrase("Learned from {tag} on {day}", tag=tag, day=day),
    )  # fmt: skip
    path = directory / "learned.kind.toml"
    files.write_file(path, text.encode())
    run.learn(read_kind(text, path.name))
    print(
        "             "
        + phrase(
            "Learned from {tag}: {words}. Kept in {name}; the others go by it.",
            tag=tag,
            words=lesson.words,
            name=path.name,
        )
    )


async def _look_around() -> None:
    """Show what finding says where nothing may be set: twins, the wrong socket, a device without any address."""
    for title, devices, is_switch in (
        (phrase("The crate of oxygen probe heads on one switch"), scenario.twins(), True),
        (phrase("The cable in the wrong socket"), scenario.house(), True),
        (phrase("WX-01, weather mast logger"), (scenario.stand_in("WX-01"),), False),
    ):
        bench = Bench(scenario.LAPTOP_MAC)
        bench.plug(*devices, switch=is_switch)
        finder = Finder(
            [bench.mac], now=0.0, loudness=Loudness.CALL, within=[IPv4Network("172.29.4.96/28")], measures=False
        )
        await driver.Driver(finder, bench).run(until=lambda: False, longest_until=_LOOK_S)
        print(phrase("\n{title}: found {count}", title=title, count=len(finder.devices())))
        for device in finder.devices():
            told = device.best or next((each.sentence for each in device.others), "")
            at = f"{told.address}, {told.belief}" if isinstance(told, AddressBelief) else told
            print(f"    {device.mac} ({scenario.maker(device.mac) or 'maker unknown'}): {at}")
        for hazard in finder.hazards():
            print(f"    ! {hazard.text}")


class Technician:
    """Does at the bench what a practised one decides, and says what the bottom line says."""

    def __init__(self, bench: Bench, run: job_run.JobRun) -> None:
        self.bench, self.run, self.session = bench, run, run.session
        self.policy = practised.Practised(run.session, bench.now())
        self.said = ""
        self.hands_at = 0.0

    async def commission(self) -> None:
        """Take one device through the job, or give up."""
        print(f"\n{self.run.item.tag}, {self.run.item.description}")
        give_up_at = self.bench.now() + _PATIENCE_S
        while self.session.phase is not steps.Phase.RECORDED and self.bench.now() < give_up_at:
            self._say()
            self._handle()
            if self.policy.goes_on(self.bench.now()):
                self.session.enter(self.bench.now())
            pause_until = self.bench.now() + 0.5
            await self.run.driver.run(until=lambda: False, longest_until=pause_until)
        self._say()

    def _say(self) -> None:
        sentence = narrate.next_line(self.session, self.bench.now()).sentence
        # What only counts on is said once.
        gist = re.sub(r"\d+", "", sentence)
        if gist != self.said and not (self.session.cable.finder.calling and not self.session.cable.finder.calling.done):
            print(f"  {self.bench.now():7.1f} s  {sentence}")
        self.said = gist

    def _handle(self) -> None:
        """Do at the device what is wanted."""
        device, target = self.bench.device, self.session.device.target
        if self.bench.now() < self.hands_at or device is None or target is None:
            return
        match self.policy.wanted():
            case practised.Wanted.VALUES if device.needs_restart or not device.powered:
                self._do(lambda: self._power(not device.powered))
            case practised.Wanted.VALUES if device.saved.interface != target.interface:
                self._do(lambda: self.bench.type_in(target))
            case practised.Wanted.POWER_OFF:
                if device.unsaved:
                    self._do(lambda: self.bench.type_in(target))
                self._do(lambda: self._power(False))
            case practised.Wanted.POWER_ON:
                self._do(lambda: self._power(True))

    def _power(self, on: bool) -> str:
        self.bench.power(on)
        return phrase("Plugged its power in again.") if on else phrase("Pulled its power.")

    def _do(self, act: Callable[[], str]) -> None:
        self.hands_at = self.bench.now() + _HANDS_S
        try:
            print("  " + phrase("{now:7.1f} s    by hand: {act}", now=self.bench.now(), act=act()))
        except errors.Refused as error:
            print("  " + phrase("{now:7.1f} s    by hand: {message}", now=self.bench.now(), message=error.message))
