"""What goes over the wire, is said and is written, second by second, for every unit of the bench.

A redesign leaves all of it as it was; what is to change is made anew by ``ASKPORT_GOLDEN=1 make test`` and read in the
difference: golden/*.txt have every line that is said, golden/*.json hashes of the frames and the entries.
"""

import asyncio
import json
import os
import random
import re
import secrets
from datetime import UTC, datetime
from hashlib import sha256
from pathlib import Path

import pytest

from askport.bench import bench, scenario
from askport.cli import headless
from askport.core.crate.switch_crate import SwitchCrate
from askport.edges import jobfile, switch_run
from conftest import pass_time

GOLDEN = Path(__file__).parent / "golden"


@pytest.fixture
def frames(monkeypatch):
    """Give frames by the MAC addresses that were plugged in as they were sent, and let chance and the clock stand."""
    chance, sent, send = random.Random(7), {}, bench.Bench.send

    def traced(self, data):
        plugged = " ".join(str(each.mac) for each in self.devices)
        sent.setdefault(plugged, []).append(f"{self.now():.6f} {data.hex()}")
        send(self, data)

    monkeypatch.setattr(bench.Bench, "send", traced)
    monkeypatch.setattr(secrets, "randbits", chance.getrandbits)
    monkeypatch.setattr(secrets, "token_hex", lambda count: chance.randbytes(count).hex())
    monkeypatch.setattr(bench.Bench, "wall", lambda self, at: datetime.fromtimestamp(1_800_000_000 + at, UTC))
    return sent


def is_as_it_was(name, frames, said, entries):
    """Compare with what is kept, or keep it."""
    traces = {of: f"{len(each)} {sha256(' '.join(each).encode()).hexdigest()[:16]}" for of, each in frames.items()}
    traces["journal"] = f"{len(entries)} {sha256(repr(entries).encode()).hexdigest()[:16]}"
    if os.environ.get("ASKPORT_GOLDEN"):
        GOLDEN.mkdir(exist_ok=True)
        (GOLDEN / f"{name}.json").write_text(json.dumps(traces, indent=1) + "\n")
        (GOLDEN / f"{name}.txt").write_text(said)
    assert said == (GOLDEN / f"{name}.txt").read_text()
    assert traces == json.loads((GOLDEN / f"{name}.json").read_text())


def entries_of(path):
    """Return what is written, each unit's number as the how manieth it is."""
    text = "\n".join(line.entry.model_dump_json() for line in jobfile.JobFile(path, create=False).lines)
    units = list(dict.fromkeys(re.findall(r'"unit":(\d+)', text)))
    return re.sub(rf"\b({'|'.join(units)})\b", lambda found: str(units.index(found[0])), text).splitlines()


@pytest.mark.long
def test_the_whole_example_goes_as_it_went(frames, tmp_path, capsys):
    path = headless.prepare(tmp_path / "out")
    assert asyncio.run(headless.commission_all(path))
    said = re.sub(r"20\d\d-\d\d-\d\d", "DAY", capsys.readouterr().out.replace(str(tmp_path), "."))
    is_as_it_was("demo", frames, said, entries_of(path))


@pytest.mark.long
def test_six_on_a_switch_go_as_they_went(frames, practice, tmp_path):
    wire, run = practice("OX-01")
    wire.plug(*scenario.twins(), switch=True)
    run.work = [each for each in scenario.WORK if each.tag.startswith("OX-0")][:6]
    crate, told = SwitchCrate(run.work), []
    for head in scenario.twins()[:6]:
        crate.scan(f"{head.mac} {scenario.tag_of(head.mac)}")
    going = switch_run.SwitchRun(run, crate)
    while not going.is_over and wire.now() < 400.0:
        going.step()
        pass_time(wire, run, span=0.1)
        if going.cut and going.cut.waits_for_power:
            pass_time(wire, run, span=10.0)
            wire.power_all(False)
            pass_time(wire, run, span=5.0)
            wire.power_all(True)
        told += [f"{wire.now():.1f} {each}" for each in going.said if not any(each in line for line in told)]
    is_as_it_was("switch", frames, "\n".join(told) + f"\n{crate.sentence}\n", entries_of(run.job.path))
