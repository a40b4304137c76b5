"""What it costs to draw the screen with many devices on the wire and many rows in the register."""

import asyncio
import gc
import tempfile
import time
from datetime import UTC, datetime
from ipaddress import IPv4Address, IPv4Interface
from pathlib import Path

from askport.bench import scenario
from askport.bench.bench import Bench
from askport.core.addresses import MacAddress
from askport.core.formats.arp import arp_question
from askport.core.plan.target import Target
from askport.core.plan.working_order import WorkItem
from askport.core.register.entries import Found, Recorded
from askport.core.wire import Frame, hear
from askport.edges.job_run import JobRun
from askport.edges.jobfile import JobFile
from askport.tui.app import AskPortApp
from askport.tui.workplace import Workplace

DEVICES, ROWS, DRAWS = 200, 1000, 40


def _mac(number: int) -> MacAddress:
    return MacAddress(bytes((2, 0, 0, 1, number >> 8, number & 255)))


def _round(directory: Path) -> JobRun:
    job = JobFile(directory / "job.askport", create=True)
    now = datetime.now(UTC)
    for number in range(ROWS):
        unit, mac = number + 1, _mac(number)
        job.append(
            Found(unit=unit, tag=f"D-{number:04}", mac=mac, maker=None, address=None, belief="certain", because=()), now
        )
        job.append(Recorded(unit=unit, mac=mac), now)
    first = IPv4Address("10.84.16.1")
    work = [
        WorkItem(tag=f"D-{number:04}", description="", target=Target(interface=IPv4Interface(f"{first + number}/20")))
        for number in range(ROWS)
    ]
    bench = Bench(scenario.LAPTOP_MAC, laptop=scenario.LAPTOP, pace=1.0)
    bench.plug(scenario.stand_in("TG-01"))
    run = JobRun(
        wire=bench,
        adapter=bench,
        channels=bench.streams,
        own=scenario.LAPTOP,
        job=job,
        work=work,
        sites=(scenario.SITE,),
        maker=scenario.maker,
    )
    gateway = IPv4Address("192.168.61.254")
    for number in range(DEVICES):
        for turn in range(3):
            data = arp_question(_mac(number), gateway, sender=IPv4Address("192.168.61.1") + number)
            run.session.receive(hear(Frame(at=0.01 * number + turn, data=data)))
    return run


async def _draw(run: JobRun) -> tuple[float, float]:
    app = AskPortApp(lambda: Workplace(run=run, title="Many", place="bench"))
    async with app.run_test(size=(160, 47)) as pilot:
        await pilot.pause(0.5)
        screen = app.screen
        spent = []
        for turn in range(DRAWS):
            data = arp_question(_mac(turn), IPv4Address("192.168.61.253"), sender=IPv4Address("192.168.61.1") + turn)
            run.session.receive(hear(Frame(at=4.0 + turn * 0.1, data=data)))
            began = time.process_time()
            screen.draw()  # type: ignore[attr-defined]
            spent.append(time.process_time() - began)
        return sum(spent) / DRAWS * 1000, max(spent) * 1000


def many_devices() -> None:
    """Draw after every frame, with all devices on the wire."""
    gc.collect()
    gc.freeze()  # what other benchmarks have left is none of the screen's
    with tempfile.TemporaryDirectory() as held:
        mean, most = asyncio.run(_draw(_round(Path(held))))
    print(f"drawing, {DEVICES} devices, {ROWS} rows: {mean:.1f} ms of computing a draw, {most:.1f} ms the most")


if __name__ == "__main__":
    many_devices()
