"""What a job of ten thousand devices and a million entries costs beside one of a thousand devices."""

import asyncio
import gc
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from datetime import UTC, datetime, timedelta
from ipaddress import IPv4Address, IPv4Interface
from pathlib import Path

from askport.bench import scenario
from askport.bench.bench import Bench
from askport.core.addresses import MacAddress
from askport.core.register.as_left import AsLeft, Basis, Value
from askport.core.register.entries import Entry, Found, Left, Noted, Proved, Recorded, WasSet
from askport.core.register.searching import wanted
from askport.edges.job_run import JobRun
from askport.edges.jobfile import JobFile
from askport.reports.documents import Papers, documents
from askport.tui.app import AskPortApp
from askport.tui.screens.register_screen import RegisterScreen
from askport.tui.workplace import Workplace

FEW, MANY, ENTRIES = 1_000, 10_000, 100
PDF_OF = 500
BEGAN = datetime(2026, 3, 4, 5, 6, 7, tzinfo=UTC)
_PROOFS = ("same-mac", "echo", "old-address-silent", "mask", "gateway", "power-cycle")


def entries_of(number: int, count: int = ENTRIES) -> list[Entry]:
    """Return so many entries about one device."""
    unit, mac = number + 1, MacAddress(b"\2\0" + number.to_bytes(4, "big"))
    at = IPv4Interface((IPv4Address("10.64.0.1") + number, 16))
    left = AsLeft(address=Value(value=at.ip, basis=Basis.MEASURED), prefix=Value(value=16, basis=Basis.MEASURED))
    old = IPv4Address("192.168.61.7")
    begun: list[Entry] = [
        Found(unit=unit, tag=f"D-{number:05}", mac=mac, maker="Halden Fluidics", address=old, belief="certain",
              because=("It looks for 192.168.61.254.",)),
        WasSet(unit=unit, mac=mac, way="page", gives=True, interface=at, gateway=None, dns=(), result="taken",
               because="Its page said so."),
    ]  # fmt: skip
    proofs = [
        Proved(unit=unit, mac=mac, name=_PROOFS[turn % 6], expected="as planned", measured="as planned", passed=True,
               because=f"Shown {turn // 6 + 1} times.")
        for turn in range(count - 5)
    ]  # fmt: skip
    ended: list[Entry] = [
        Left(unit=unit, mac=mac, as_left=left),
        Noted(unit=unit, mac=mac, text="The cable is behind the panel."),
        Recorded(unit=unit, mac=mac),
    ]
    return [*begun, *proofs, *ended]


def make(path: Path, devices: int) -> Path:
    """Make a job of so many devices, 100 entries each."""
    job = JobFile(path, create=True)
    for first in range(0, devices, 100):
        entries = [entry for number in range(first, first + 100) for entry in entries_of(number)]
        job.append_all(entries, BEGAN + timedelta(minutes=first))
    job.close()
    return path


def _best(of: Callable[[], object], times: int = 3) -> float:
    spent = []
    for _ in range(times):
        began = time.perf_counter()
        of()
        spent.append(time.perf_counter() - began)
    return min(spent)


async def _screen(path: Path) -> tuple[float, float]:
    """Return how long the register takes to its first paint, and from a key to the filtered one."""
    bench = Bench(scenario.LAPTOP_MAC, laptop=scenario.LAPTOP, pace=1.0)
    job = JobFile(path, create=True)
    run = JobRun(wire=bench, adapter=bench, channels=bench.streams, own=scenario.LAPTOP, job=job, work=(),
                 sites=(scenario.SITE,), maker=scenario.maker)  # fmt: skip
    app = AskPortApp(lambda: Workplace(run=run, title="Many", place="bench"))
    async with app.run_test(size=(160, 47)) as pilot:
        await pilot.pause(0.5)
        began = time.perf_counter()
        await app.push_screen(RegisterScreen(app.screen.workplace))  # type: ignore[attr-defined]
        await pilot.pause()
        first = time.perf_counter() - began
        spent = []
        for key in "0", "0", "4", "2":
            began = time.perf_counter()
            await pilot.press(key)
            await pilot.pause()
            spent.append(time.perf_counter() - began)
    job.close()
    return first, max(spent)


def _costs(path: Path) -> dict[str, float]:
    first, key = asyncio.run(_screen(path))
    costs = {"open": _best(lambda: JobFile(path, create=False)), "first screen": first, "a key to its paint": key}
    job = JobFile(path, create=True)
    mac = MacAddress(b"\2\0" + bytes(4))
    turns = iter(range(100))
    costs["one entry"] = _best(lambda: job.append(Noted(unit=1, mac=mac, text=f"x {next(turns)}"), BEGAN), 20)
    rows, plan = job.register.rows(), job.register.plan("Many")
    costs["find"] = _best(lambda: job.register.find(wanted("0042 halden"), 500))
    made = documents(Papers(rows, plan, job.fingerprint))
    costs["register.xlsx"] = _best(made["register.xlsx"], 1)
    costs[f"handover.pdf of {PDF_OF}"] = _best(documents(Papers(rows[:PDF_OF], plan, ""))["handover.pdf"], 1)
    job.close()
    return costs


def many_beside_few() -> None:
    """Say what each costs, and how many times what it costs with a tenth of the devices."""
    gc.collect()
    with tempfile.TemporaryDirectory() as held:
        few, many = (make(Path(held) / f"{number}.askport", number) for number in (FEW, MANY))
        base, costs = _costs(few), _costs(many)
        entries = JobFile(many, create=False).count
        print(f"register of {MANY:,} devices and {entries:,} entries, beside {FEW:,} devices:")
        for name, seconds in costs.items():
            print(f"  {name}: {seconds * 1000:,.0f} ms, {seconds / base[name]:.1f} times")
        said = subprocess.run(
            [sys.executable, __file__, str(many)], capture_output=True, text=True, check=True
        ).stdout  # in a process of its own, whose memory nothing else has used
        print(f"  {said.strip()}")


def _memory(path: Path) -> None:
    asyncio.run(_screen(path))
    most_kb = next(line for line in Path("/proc/self/status").read_text().splitlines() if line.startswith("VmHWM"))
    print(f"memory with the screen open: {int(most_kb.split()[1]) / 1024:.0f} MB at the most")


if __name__ == "__main__":
    if len(sys.argv) > 1:
        _memory(Path(sys.argv[1]))
    else:
        many_beside_few()
